"""What is set about a package outside its files: answers to its questions (debconf(7)), owners and permissions (dpkg-statoverride(1)),
alternatives chosen by hand (update-alternatives(1)). A purge takes these along.
"""

from __future__ import annotations

import contextlib
import re
import subprocess
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path

from kleff.errors import LinkOnTheWay
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath
from kleff.workstation.things import PackageRecord

MOST = 1 << 24  # bytes of one database
PATIENCE = 120
FIELD = re.compile(r"^([A-Z][\w-]*):[ \t]?(.*)$", re.MULTILINE)
ASKED = ("boolean", "string", "select", "multiselect")  # the types that are answers, and no passwords


class Settings:
    """The three databases, read once."""

    def __init__(self, files: FileTree) -> None:
        self._files = files
        templates = self._paragraphs("/var/cache/debconf/templates.dat")
        self._types = {p["Name"]: p.get("Type", "") for p in templates if "Name" in p}
        self._questions = [p for p in self._paragraphs("/var/cache/debconf/config.dat") if "Name" in p]
        self._overrides = [parts for line in self._text("/var/lib/dpkg/statoverride").splitlines() if len(parts := line.split(" ", 3)) == 4]
        self._chosen = list(self._alternatives())

    def _text(self, text: str) -> str:
        path = WPath(self._files.style, "", tuple(text.strip("/").split("/")))
        try:
            return self._files.read(path, MOST).decode("utf-8", "surrogateescape")
        except (OSError, LinkOnTheWay):
            return ""

    def _paragraphs(self, path: str) -> list[dict[str, str]]:
        return [dict(FIELD.findall(paragraph)) for paragraph in self._text(path).split("\n\n") if paragraph.strip()]

    def _alternatives(self) -> list[tuple[str, str]]:
        """Those that are set by hand; the first line of each file says so."""
        found = []
        folder = WPath(self._files.style, "", ("var", "lib", "dpkg", "alternatives"))
        for name in self._files.names(folder):
            if self._text(f"/var/lib/dpkg/alternatives/{name}").startswith("manual\n"):
                try:
                    found.append((name, self._files.read_link(WPath(self._files.style, "", ("etc", "alternatives", name)))))
                except OSError:
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


def answer_again(root: Path | None, environment: Mapping[str, str], records: Sequence[PackageRecord]) -> None:
    """Before packages are configured: give the answers again (debconf-set-selections(1))."""
    lines = "".join(f"{r.name.partition(':')[0]} {name} {kind} {value}\n" for r in records for name, kind, value in r.answers)
    if lines:
        _run([*_within(root), "debconf-set-selections"], environment, lines)


def set_again(root: Path | None, environment: Mapping[str, str], files: FileTree, records: Sequence[PackageRecord]) -> list[str]:
    """Once packages are configured: give again what is not as it was recorded. Done twice is done once.

    Returns:
        What is not so then either, for people.
    """
    options = [f"--root={root}"] if root else []
    lacking = _lacking(Settings(files), records)
    answer_again(root, environment, [r for r in records if r.answers] if lacking else [])
    for account, group, mode, path in [override for r in records for override in r.overrides] if lacking else []:
        _run(["dpkg-statoverride", *options, "--update", "--add", account, group, mode, path], environment)
    for name, path in [one for r in records for one in r.chosen] if lacking else []:
        _run(["update-alternatives", *options, "--set", name, path], environment)
    return _lacking(Settings(files), records) if lacking else []


def _lacking(now: Settings, records: Sequence[PackageRecord]) -> list[str]:
    """What is not set as it was recorded."""
    found = []
    for record in records if any(r.answers or r.overrides or r.chosen for r in records) else ():
        answers = now.answers(record.name.partition(":")[0])
        overrides = now.overrides({path for *_, path in record.overrides}, [])
        chosen = now.chosen({path for _, path in record.chosen})
        found += [f"the answer to {one[0]} is not {one[2]!r} as before" for one in record.answers if one not in answers]
        found += [f"{one[3]} is not set to {one[0]}:{one[1]} {one[2]} as before" for one in record.overrides if one not in overrides]
        found += [f"{one[0]} is not set to {one[1]} as before" for one in record.chosen if one not in chosen]
    return found


def _within(root: Path | None) -> list[str]:
    return ["chroot", str(root)] if root else []


def _run(words: Sequence[str], environment: Mapping[str, str], said: str = "") -> None:
    """What does not come of it is told by whoever looks afterwards."""
    with contextlib.suppress(OSError, subprocess.TimeoutExpired):
        subprocess.run(
            words, input=said.encode("utf-8", "surrogateescape"), env=environment, capture_output=True, timeout=PATIENCE, check=False
        )
