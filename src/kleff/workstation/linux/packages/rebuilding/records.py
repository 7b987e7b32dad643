"""What dpkg knows of an installed package, recorded so that the same package can be built and installed again without network."""

from __future__ import annotations

import hashlib
import io
import re
import stat
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO

from kleff.workstation.files.protocol import FileTree
from kleff.workstation.linux.packages.marks import automatic
from kleff.workstation.linux.packages.rebuilding.deb import DebItem, write_deb
from kleff.workstation.linux.packages.settings import Settings
from kleff.workstation.paths import Look
from kleff.workstation.things import ConfigFile, PackageRecord, Source

# Of a status paragraph, what belongs to the installation and not to the package (dpkg-query(1), fields).
OF_THE_INSTALLATION = ("status", "conffiles", "config-version", "triggers-pending", "triggers-awaited")
DIVERTED = re.compile(r"(?:locally diverted|diverted by \S+) to: (/.*)")
UNIT = re.compile(r"(?:/usr)?/lib/systemd/system/([^/]+)\.service|/etc/init\.d/([^/]+)")
PLACEHOLDER = b"# What the package brought here is not known any more; this stands for it, so that the file counts as changed by hand.\n"

Query = Callable[..., str]


def record_package(query: Query, files: FileTree, name: str, settings: Settings) -> PackageRecord:
    """Everything of a package that is not in its files.

    Args:
        settings: what is set about packages.

    Raises:
        KleffError: the package database cannot be asked.
    """
    form = "-f=${db:Status-Status}\x1e${db:Status-Want}\x1e${Version}\x1e${Conffiles}"
    state, want, version, conffiles = query("-W", form, name).split("\x1e")
    members = [n for n in query("--control-list", name).split("\n") if n and n not in ("control", "conffiles", "list")]
    paths = list(_paths(query("-L", name)))
    scripts, own = {n: query("--control-show", name, n) for n in members}, {path for path, _ in paths}
    units = [m for path, _ in paths if (m := UNIT.fullmatch(path))]
    return PackageRecord(
        name=name,
        version=version,
        installed=state != "config-files",
        control=_control(query("-s", name)),
        members=scripts,
        paths=paths,
        config_files=[_config_file(files, line) for line in conffiles.splitlines() if line.startswith(" /")],
        services=sorted({m[1] or m[2] for m in units}),
        automatic=name.partition(":")[0] in automatic(files),
        held=want == "hold",
        answers=settings.answers(name.partition(":")[0]),
        overrides=settings.overrides(own, [text for n, text in scripts.items() if n in ("preinst", "postinst", "prerm", "postrm")]),
        chosen=settings.chosen(own),
        diverted=settings.diverted(name.partition(":")[0]),
        registered=settings.registered(name.partition(":")[0]),
    )


def _control(paragraph: str) -> str:
    """A status paragraph without what belongs to the installation."""
    lines, inside = [], False
    for line in paragraph.strip("\n").split("\n"):
        if not line.startswith((" ", "\t")):
            inside = line.partition(":")[0].lower() in OF_THE_INSTALLATION
        if not inside:
            lines.append(line)
    return "\n".join(lines) + "\n"


def _paths(listing: str) -> Iterator[tuple[str, str]]:
    """(path as the package knows it, where it lies) in the order of the package's list."""
    last = ""
    for line in listing.split("\n"):
        diverted = DIVERTED.fullmatch(line)
        if diverted:
            yield last, diverted[1]
            last = ""
        elif line.startswith("/"):
            if last:
                yield last, last
            last = line
    if last:
        yield last, last


def _config_file(files: FileTree, line: str) -> ConfigFile:
    words = line.strip().split(" ")
    digest = next((w for w in words[1:] if re.fullmatch(r"[0-9a-f]{32}", w)), "")
    now = _md5(files, words[0])
    said = " ".join(words[1:])
    return ConfigFile(path=words[0], obsolete="obsolete" in words, changed=now not in ("", digest), said=said)


def _md5(files: FileTree, text: str) -> str:
    """The MD5 of a file, which is what the package database keeps of a configuration file; "" if it cannot be read."""
    path = files.path(text)
    try:
        with files.reading(files.resolve(path).path) if path else io.BytesIO() as source:
            return hashlib.md5(source.read(), usedforsecurity=False).hexdigest()
    except OSError:
        return ""


class Rebuild:
    """Builds a recorded package anew.

    Args:
        source: for a path as it lies here: what was there at the removal, how to read it (regular files), where a link led;
            None if nothing was there then.
    """

    def __init__(self, record: PackageRecord, source: Source) -> None:
        self._record = record
        self._source = source
        self._changed = {c.path for c in record.config_files if c.changed}
        self._seen: dict[tuple[int, int], str] = {}

    def write(self, file: Path) -> None:
        """Write the package; where something was not there at the removal, with a stand-in.

        Raises:
            OSError: a content cannot be read, or the file not be written.
        """
        listed = [c.path for c in self._record.config_files if not c.obsolete]
        control = {"control": self._record.control, **self._record.members}
        if listed:
            control["conffiles"] = "".join(f"{path}\n" for path in listed)
        write_deb(file, {n: text.encode("utf-8", "surrogateescape") for n, text in control.items()}, self._items(set(listed)))

    def _items(self, config: set[str]) -> Iterator[DebItem]:
        folders = {path.rpartition("/")[0] for path, _ in self._record.paths}
        for path, lies in self._record.paths:
            is_folder = path in folders or path == "/."
            found = self._source(lies)
            if path in config and (path in self._changed or found is None):
                look = found[0] if found else None
                yield self._placeholder(path, look)
            elif found is None:
                yield self._missing(path, is_folder)
            elif is_folder and not found[0].is_file:
                yield self._item(path, found[0], stat.S_IFDIR | (0o755 if found[0].is_link else stat.S_IMODE(found[0].mode)))
            else:
                yield self._found(path, *found)

    def _missing(self, path: str, is_folder: bool) -> DebItem:
        return DebItem(path, stat.S_IFDIR | 0o755) if is_folder else self._placeholder(path, None)

    def _placeholder(self, path: str, look: Look | None) -> DebItem:
        mode = stat.S_IFREG | (stat.S_IMODE(look.mode) if look else 0o644)
        owner = (look.uid, look.gid) if look else (0, 0)
        return DebItem(path, mode, *owner, size=len(PLACEHOLDER), content=lambda: io.BytesIO(PLACEHOLDER))

    def _item(self, path: str, look: Look, mode: int, link: str = "") -> DebItem:
        return DebItem(path, mode, look.uid, look.gid, look.times[1] // 10**9, link=link)

    def _found(self, path: str, look: Look, content: Callable[[], IO[bytes]] | None, link: str) -> DebItem:
        if content is None:
            return self._item(path, look, look.mode, link)
        first = self._seen.setdefault(look.identity, path) if look.links > 1 else path
        if first != path:
            return self._item(path, look, look.mode, first)
        return DebItem(path, look.mode, look.uid, look.gid, look.times[1] // 10**9, look.size, content=content)
