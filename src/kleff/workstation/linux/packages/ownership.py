"""Which packages own which paths: one listing of all packages with their files serves as long as the package database is the same."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from typing import TypeVar

from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath

# Folders that are links into /usr on a merged system; dpkg may know a file by either name.
MERGED = ("bin", "sbin", "lib", "lib32", "lib64")
# dpkg-query(1), --show: the files of a package stand below each other, each behind a space.
T = TypeVar("T")
FORM = "${binary:Package}\n${db-fsys:Files}\x1e"


MOST = 1 << 24  # bytes of the list of diversions
FEW = 10  # paths that are searched for in the text itself; for more of them it is worth taking it apart


class Ownership:
    """Args: listed: what `dpkg-query -W` says of every package in `FORM`."""

    def __init__(self, listed: str, files: FileTree) -> None:
        self._files = files
        self._listed = _where_they_lie(listed, diversions(files))
        self._folders: dict[str, WPath] = {}

    @cached_property
    def _ends(self) -> list[int]:
        """Where each package's record ends."""
        return [m.start() for m in re.finditer("\x1e", self._listed)]

    @cached_property
    def _owners(self) -> dict[str, list[str]]:
        """Every path without its first slash, with its packages."""
        owners: dict[str, list[str]] = {}
        for record in self._listed.split("\x1e"):
            name, *paths = record.strip("\n").split("\n")
            for path in paths:
                owners.setdefault(path[2:], []).append(name)
        return owners

    def of(self, paths: Sequence[WPath], below: bool) -> dict[str, list[str]]:
        """As `Packages.owners`."""
        exact = list(dict.fromkeys(spelling for path in paths for spelling in _spellings(str(path)[1:])))
        owned = self._searched(exact, below) if len(exact) <= FEW else self._looked_up(exact, below)
        found: dict[str, list[str]] = {}
        for text, name in owned:
            found.setdefault(str(self._there(text)), []).append(name)
        return found

    def _looked_up(self, exact: list[str], below: bool) -> Iterator[tuple[str, str]]:
        texts = [t for t in exact if t in self._owners]
        if below:
            tops = tuple(f"{text}/" for text in exact)
            texts += [t for t in self._owners if t.startswith(tops)]
        for text in dict.fromkeys(texts):
            yield from ((text, name) for name in self._owners[text])

    def _searched(self, exact: list[str], below: bool) -> Iterator[tuple[str, str]]:
        wanted = "\n\x1e/" if below else "\n\x1e"
        seen: set[tuple[int, str]] = set()
        for text in exact:
            mark, at = f"\n /{text}", -1
            while (at := self._listed.find(mark, at + 1)) >= 0:
                after = self._listed[at + len(mark) : at + len(mark) + 1]
                if after and after not in wanted:
                    continue
                number = bisect_right(self._ends, at)
                end = self._ends[number] if number < len(self._ends) else len(self._listed)
                line = self._listed.find("\n", at + 1, end)
                path = self._listed[at + 3 : line if line >= 0 else end]
                if (number, path) not in seen:
                    seen.add((number, path))
                    yield path, self._name(number)

    def _name(self, number: int) -> str:
        begin = self._ends[number - 1] + 1 if number else 0
        return self._listed[begin : self._listed.index("\n", begin)]

    def _there(self, text: str) -> WPath:
        """Where a path that dpkg knows lies, links on the way resolved, once for each folder."""
        above, _, name = text.rpartition("/")
        if above not in self._folders:
            inside = WPath(self._files.style, "", (*(p for p in above.split("/") if p), "x"))
            self._folders[above] = self._files.resolve(inside).path.parent
        return self._folders[above].child(name)


class Remembered:
    """What was asked of the package database, as long as it is the same.

    Args:
        state: changes whenever the database does.
    """

    def __init__(self, state: Callable[[], object]) -> None:
        self._state = state
        self._of: object = None
        self._answers: dict[str, object] = {}

    def __call__(self, name: str, ask: Callable[[], T]) -> T:
        now = self._state()
        if now != self._of:
            self._answers, self._of = {}, now
        if name not in self._answers:
            self._answers[name] = ask()
        return self._answers[name]  # type: ignore[return-value]


def diversions(files: FileTree) -> list[tuple[str, str, str]]:
    """Paths that packages give way to each other: path, where everybody else's lies, whose own stays; ":" for an administrator's, whose
    stays there is nobody (dpkg-divert(1); three lines each).
    """
    try:
        path = files.resolve(WPath(files.style, "", ("var", "lib", "dpkg", "diversions"))).path
        text = files.read(path, MOST).decode("utf-8", "surrogateescape")
    except FileNotFoundError:
        return []
    lines = text.splitlines()
    return list(zip(lines[::3], lines[1::3], lines[2::3], strict=False))


def _where_they_lie(listed: str, diverted: list[tuple[str, str, str]]) -> str:
    """A listing with the paths that give way as where they lie."""
    for path, lies, stays in diverted:
        mark, at = f"\n {path}", -1
        while (at := listed.find(mark, at + 1)) >= 0:
            begin, end = listed.rfind("\x1e", 0, at) + 1, at + len(mark)
            name = listed[begin:at].lstrip("\n").partition("\n")[0]
            if listed[end : end + 1] in ("\n", "\x1e") and name.partition(":")[0] != stays:
                listed = f"{listed[:at]}\n {lies}{listed[end:]}"
    return listed


def _spellings(text: str) -> Iterator[str]:
    """The names by which dpkg may know a path, without the first slash."""
    yield text
    for name in MERGED:
        if text == f"usr/{name}" or text.startswith(f"usr/{name}/"):
            yield text[4:]
