"""What is set about a package outside its files: answers to its questions (debconf(7)), owners and permissions (dpkg-statoverride(1)),
alternatives chosen by hand (update-alternatives(1)), diversions (dpkg-divert(1)), configuration files that its scripts have registered
(ucf(1), ucfr(1)). A purge takes these along.
"""

from __future__ import annotations

import contextlib
import re
import subprocess
from collections.abc import Collection, Sequence
from pathlib import Path

from kleff.errors import LinkOnTheWay
from kleff.workstation.files.folders import inside
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.linux.packages.calling import Calling
from kleff.workstation.linux.packages.marks import write_anew
from kleff.workstation.linux.packages.ownership import diversions
from kleff.workstation.paths import WPath
from kleff.workstation.things import PackageRecord

MOST = 1 << 24  # bytes of one database
PATIENCE = 120
FIELD = re.compile(r"^([A-Z][\w-]*):[ \t]?(.*)$", re.MULTILINE)
ASKED = ("boolean", "string", "select", "multiselect")  # the types that are answers, and no passwords


REGISTRY, HASHES = "/var/lib/ucf/registry", "/var/lib/ucf/hashfile"


class Settings:
    """The databases, read once."""

    def __init__(self, files: FileTree) -> None:
        self._files = files
        templates = self._paragraphs("/var/cache/debconf/templates.dat")
        self._types = {p["Name"]: p.get("Type", "") for p in templates if "Name" in p}
        self._questions = [p for p in self._paragraphs("/var/cache/debconf/config.dat") if "Name" in p]
        self._overrides = [parts for line in self._text("/var/lib/dpkg/statoverride").splitlines() if len(parts := line.split(" ", 3)) == 4]
        self._chosen = list(self._alternatives())
        self._diverted = diversions(files)
        self._registered = self._pairs(REGISTRY)
        self._hashes = {path: checksum for checksum, path in self._pairs(HASHES)}

    def _text(self, text: str) -> str:
        path = WPath(self._files.style, "", tuple(text.strip("/").split("/")))
        try:
            return self._files.read(self._files.resolve(path).path, MOST).decode("utf-8", "surrogateescape")
        except FileNotFoundError:
            return ""

    def _pairs(self, path: str) -> list[tuple[str, str]]:
        return [(first, rest) for line in self._text(path).splitlines() for first, _, rest in [_two(line)] if rest]

    def _paragraphs(self, path: str) -> list[dict[str, str]]:
        return [dict(FIELD.findall(paragraph)) for paragraph in self._text(path).split("\n\n") if paragraph.strip()]

    def _alternatives(self) -> list[tuple[str, str]]:
        """Those that are set by hand; the first line of each file says so."""
        found = []
        folder = WPath(self._files.style, "", ("var", "lib", "dpkg", "alternatives"))
        for name in (path.name for path in inside(self._files, folder)):
            if self._text(f"/var/lib/dpkg/alternatives/{name}").startswith("manual\n"):
                try:
                    found.append((name, self._files.read_link(WPath(self._files.style, "", ("etc", "alternatives", name)))))
                except FileNotFoundError:
                    continue
        return found

    def answers(self, name: str) -> list[tuple[str, str, str]]:
        """Of a package: what somebody was asked and has answered."""
        found = []
        for question in self._questions:
            kind = self._types.get(question.get("Template", question["Name"]), "")
            seen = "seen" in question.get("Flags", "") and name in re.split(r",\s*", question.get("Owners", ""))
            if seen and kind in ASKED and "Value" in question:
                found.append((question["Name"], kind, question["Value"]))
        return found

    def overrides(self, paths: Collection[str], scripts: Sequence[str]) -> list[tuple[str, str, str, str]]:
        """Of the package's own paths, and of those that its scripts name."""
        named = [o for o in self._overrides if o[3] in paths or any(o[3] in text for text in scripts)]
        return [(o[0], o[1], o[2], o[3]) for o in named]

    def chosen(self, paths: Collection[str]) -> list[tuple[str, str]]:
        return [(name, path) for name, path in self._chosen if path in paths]

    def diverted(self, name: str) -> list[tuple[str, str]]:
        """Of a package: others' files that give way to its own."""
        return [(path, lies) for path, lies, package in self._diverted if package == name]

    def registered(self, name: str) -> list[tuple[str, str]]:
        return [(path, self._hashes.get(path, "")) for package, path in self._registered if package == name]


def answer_again(calling: Calling, records: Sequence[PackageRecord]) -> None:
    """Before packages are configured: give the answers again (debconf-set-selections(1))."""
    lines = "".join(f"{r.name.partition(':')[0]} {name} {kind} {value}\n" for r in records for name, kind, value in r.answers)
    if lines:
        _run(calling, [*_within(calling.root), "debconf-set-selections"], lines)


def set_again(calling: Calling, files: FileTree, records: Sequence[PackageRecord]) -> list[str]:
    """Once packages are configured: give again what is not as it was recorded. Done twice is done once.

    Returns:
        What is not so then either, for people.
    """
    lacking = _lacking(Settings(files), records)
    answer_again(calling, [r for r in records if r.answers] if lacking else [])
    for account, group, mode, path in [override for r in records for override in r.overrides] if lacking else []:
        _run(calling, calling.words("dpkg-statoverride", "--update", "--add", account, group, mode, path))
    for name, path in [one for r in records for one in r.chosen] if lacking else []:
        _run(calling, calling.words("update-alternatives", "--set", name, path))
    for record in records if lacking else []:
        _register_again(record, files)
    return _lacking(Settings(files), records) if lacking else []


def divert_again(calling: Calling, files: FileTree, records: Sequence[PackageRecord]) -> None:
    """What stands at a path moves out of the way only if it is the other's own: nothing lies where it would go."""
    now = diversions(files) if any(record.diverted for record in records) else []
    for record in records:
        name, own = record.name.partition(":")[0], {lies for _, lies in record.paths}
        for path, lies in (one for one in record.diverted if (*one, name) not in now):
            at = files.path(lies)
            moves = "--no-rename" if path in own or at is None or files.look(at) is not None else "--rename"
            _run(calling, calling.words("dpkg-divert", "--package", name, "--divert", lies, moves, "--add", path))


def _register_again(record: PackageRecord, files: FileTree) -> None:
    paths = {path for path, _ in record.registered}
    if not paths:
        return
    for file, form in ((REGISTRY, f"{record.name.partition(':')[0]} \t {{path}}"), (HASHES, "{checksum}  {path}")):
        place = WPath(files.style, "", tuple(file.strip("/").split("/")))
        with contextlib.suppress(OSError, LinkOnTheWay):  # told by whoever looks afterwards
            text = files.read(place, MOST).decode("utf-8", "surrogateescape")
            kept = [line for line in text.splitlines() if _two(line)[2] not in paths]
            kept += [form.format(path=path, checksum=checksum) for path, checksum in record.registered if checksum or file == REGISTRY]
            write_anew(files, place, "".join(f"{line}\n" for line in kept), 0o644)


def _lacking(now: Settings, records: Sequence[PackageRecord]) -> list[str]:
    """What is not set as it was recorded."""
    found = []
    for record in records if any(_set(r) for r in records) else ():
        name = record.name.partition(":")[0]
        answers, diverted, registered = now.answers(name), now.diverted(name), now.registered(name)
        overrides = now.overrides({path for *_, path in record.overrides}, [])
        chosen = now.chosen({path for _, path in record.chosen})
        found += [f"the answer to {one[0]} is not {one[2]!r} as before" for one in record.answers if one not in answers]
        found += [f"{one[3]} is not set to {one[0]}:{one[1]} {one[2]} as before" for one in record.overrides if one not in overrides]
        found += [f"{one[0]} is not set to {one[1]} as before" for one in record.chosen if one not in chosen]
        found += [f"{one[0]} is not diverted to {one[1]} as before" for one in record.diverted if one not in diverted]
        found += [f"{one[0]} is not registered as before" for one in record.registered if one not in registered]
    return found


def _set(record: PackageRecord) -> bool:
    return any((record.answers, record.overrides, record.chosen, record.diverted, record.registered))


def _two(line: str) -> tuple[str, str, str]:
    """The first word of a line, what parts it, and the rest."""
    words = line.split(None, 1)
    return (words[0], " ", words[1]) if len(words) == 2 else (line, "", "")


def _within(root: Path | None) -> list[str]:
    return ["chroot", str(root)] if root else []


def _run(calling: Calling, words: Sequence[str], said: str = "") -> None:
    """What does not come of it is told by whoever looks afterwards."""
    with contextlib.suppress(OSError, subprocess.TimeoutExpired):
        calling.quickly(words, said, PATIENCE)
