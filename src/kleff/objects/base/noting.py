"""Noting, before a removal, which places have to do with a product: what services, programs and configuration lead to."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from kleff.objects.base.here import Here
from kleff.registry.regfile import RegKey
from kleff.workstation.paths import WPath
from kleff.workstation.things import Process

if TYPE_CHECKING:
    from kleff.case.record.beforehand import Beforehand, How

LARGEST = 1 << 18  # bytes of a configuration file that are read
# A path as it stands in a text: with a drive or from the root, up to what no path goes on with.
PATHS = {"windows": re.compile(r"[A-Za-z]:\\[^\"'<>|*?;,=\r\n\t]+"), "linux": re.compile(r"(?<![\w.:/])/[\w.+@-][^\s\"'<>|*?;,=:()]*")}
# Folders of everybody: what lies there itself tells nothing of a product.
COMMON = ("/dev", "/proc", "/sys", "/run", "/usr/lib", "/usr/share/locale", "/lib")


def note_service(name: str, here: Here, noted: Beforehand) -> None:
    """What defines a service, what it runs, its folders, and what it has open."""
    facet, processes, files = here.workstation.services, here.workstation.processes, here.workstation.files
    if facet is None or facet.get(name) is None:
        return
    parts = facet.parts(name)
    found: list[tuple[How, Sequence[str]]] = [("defines", parts.definitions), ("run by", parts.programs), ("data of", parts.folders)]
    for how, texts in found:
        for text in texts:
            noted.add(files.path(text), how, f"service {name}")
    for text in parts.definitions:
        note_named(files.path(text), here, noted)
    if processes is not None:
        note_opened([p for p in processes.all() if processes.service_of(p) == name], here, noted)


def note_opened(running: Sequence[Process], here: Here, noted: Beforehand) -> None:
    """What programs have open, without what is everybody's."""
    facet, files = here.workstation.processes, here.workstation.files
    for process in running if facet is not None else []:
        assert facet is not None
        for text in facet.opened(process):
            path = files.path(text)
            if path is not None and not _common(text) and files.look(path) is not None:
                noted.add(path, "open in", process.name)


def note_named(file: WPath | None, here: Here, noted: Beforehand) -> None:
    """What a file names of paths that are there."""
    files = here.workstation.files
    for path in _named(file, here) if file is not None else []:
        if files.look(files.resolve(path).path) is not None:
            noted.add(path, "named in", str(file))


def note_values(name: str, tree: RegKey, here: Here, noted: Beforehand) -> None:
    """What the values of a key, and of all below it, name of paths that are there."""
    files = here.workstation.files
    for value in tree.values.values():
        for path in _paths(value.text, here):
            if files.look(path) is not None:
                noted.add(path, "named in", name)
    for below in tree.keys.values():
        note_values(f"{name}\\{below.name}", below, here, noted)


def _named(file: WPath, here: Here) -> Iterator[WPath]:
    files = here.workstation.files
    file = files.resolve(file).path
    look = files.look(file)
    if look is None or not look.is_file or look.size > LARGEST:
        return
    try:
        text = files.read(file).decode("utf-8", "surrogateescape")
    except OSError:
        return
    yield from _paths(text, here)


def _paths(text: str, here: Here) -> Iterator[WPath]:
    files = here.workstation.files
    for found in dict.fromkeys(PATHS[here.workstation.system].findall(text)):
        path = files.path(found.rstrip("./ \\")) if not _common(found) else None
        if path is not None and len(path.parts) > 1:
            yield path


def _common(text: str) -> bool:
    return any(text == top or text.startswith(f"{top}/") for top in COMMON)
