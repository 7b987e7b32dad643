"""Which packages own which paths: one listing of all packages with their files serves as long as the package database is the same."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import TypeVar

from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath

# Folders that are links into /usr on a merged system; dpkg may know a file by either name.
MERGED = ("bin", "sbin", "lib", "lib32", "lib64")
# dpkg-query(1), --show: the files of a package stand below each other, each behind a space.
T = TypeVar("T")
FORM = "${binary:Package}\n${db-fsys:Files}\x1e"


class Ownership:
    """Args: listed: what `dpkg-query -W` says of every package in `FORM`."""

    def __init__(self, listed: str, files: FileTree) -> None:
        self._files = files
        self._owners: dict[str, list[str]] = {}
        self._folders: dict[str, WPath] = {}
        for record in listed.split("\x1e"):
            name, *paths = record.strip("\n").split("\n")
            for path in paths:
                self._owners.setdefault(path[2:], []).append(name)

    def of(self, paths: Sequence[WPath], below: bool) -> dict[str, list[str]]:
        """As `Packages.owners`."""
        exact = [spelling for path in paths for spelling in _spellings(str(path)[1:])]
        texts = [t for t in dict.fromkeys(exact) if t in self._owners]
        if below and exact:
            tops = tuple(f"{text}/" for text in exact)
            texts += [t for t in self._owners if t.startswith(tops)]
        found: dict[str, list[str]] = {}
        for text in dict.fromkeys(texts):
            found.setdefault(str(self._there(text)), []).extend(self._owners[text])
        return found

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


def _spellings(text: str) -> Iterator[str]:
    """The names by which dpkg may know a path, without the first slash."""
    yield text
    for name in MERGED:
        if text == f"usr/{name}" or text.startswith(f"usr/{name}/"):
            yield text[4:]
