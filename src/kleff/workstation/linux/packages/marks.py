"""How packages are marked: held, and brought in for others (apt-mark(8), dpkg(1) selections)."""

from __future__ import annotations

import re
from collections.abc import Sequence

from kleff.errors import ActionFailed
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath
from kleff.workstation.things import PackageRecord

STATES = ("var", "lib", "apt", "extended_states")  # apt's own file: a paragraph for each package that was brought in for others


def automatic(files: FileTree) -> set[str]:
    """The packages that were brought in for others."""
    text = _read(files)
    found = (dict(re.findall(r"^([\w-]+):\s*(.*)$", paragraph, re.MULTILINE)) for paragraph in text.split("\n\n"))
    return {p["Package"] for p in found if p.get("Auto-Installed") == "1" and "Package" in p}


def mark_again(files: FileTree, records: Sequence[PackageRecord]) -> None:
    """Write the marks of packages that came back into apt's file, which a removal may have taken them from; other packages' stay.

    Raises:
        ActionFailed: it cannot be written.
    """
    names = {r.name.partition(":")[0]: r.automatic for r in records}
    now = automatic(files)
    if all((name in now) == wanted for name, wanted in names.items()):
        return
    kept = [p for p in _read(files).split("\n\n") if p.strip() and not _of(p, names)]
    brought = [r for r in records if r.automatic]
    kept += [f"Package: {r.name.partition(':')[0]}\nArchitecture: {_architecture(r)}\nAuto-Installed: 1" for r in brought]
    try:
        write_anew(files, WPath(files.style, "", STATES), "\n\n".join(p.strip("\n") for p in kept) + "\n\n", 0o644)
    except OSError as error:
        raise ActionFailed(f"the marks of packages cannot be written: {error.strerror}", remedy="see  apt-mark showauto") from None


def write_anew(files: FileTree, path: WPath, text: str, mode: int) -> None:
    """Write a file of the package manager's; others find the old one or the new one, at no instant none."""
    with files.parent(path) as (folder, name):
        fresh = f"{name}.kleff"
        if files.look(path.parent.child(fresh)) is not None:
            folder.remove(fresh)
        file = folder.create(fresh)
        try:
            file.write(text.encode("utf-8", "surrogateescape"))
            file.set_mode(mode)
            file.flush()
        finally:
            file.close()
        if files.look(path) is None:
            folder.rename(fresh, folder, name)
        else:
            folder.exchange(fresh, folder, name)
            folder.remove(fresh)
        folder.flush()


def _of(paragraph: str, names: dict[str, bool]) -> bool:
    found = re.search(r"^Package:\s*(.*)$", paragraph, re.MULTILINE)
    return found is not None and found[1] in names


def _architecture(record: PackageRecord) -> str:
    found = re.search(r"^Architecture:\s*(.*)$", record.control, re.MULTILINE)
    return found[1] if found else "all"


def _read(files: FileTree) -> str:
    try:
        path = files.resolve(WPath(files.style, "", STATES)).path
        return files.read(path, 1 << 24).decode("utf-8", "surrogateescape")
    except FileNotFoundError:
        return ""
