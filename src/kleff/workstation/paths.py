"""Paths of a workstation, and what a look at one tells."""

from __future__ import annotations

import base64
import os
import stat
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from kleff.errors import DamagedCase
from kleff.procedure.globs import PathStyle, fold


class Space(NamedTuple):
    """What a volume has left.

    Attributes:
        volume: its number; free: bytes; names: how many new files it has room for, None where it does not count them.
    """

    volume: int
    free: int
    names: int | None = None


@dataclass(frozen=True)
class WPath:
    """An absolute path on a workstation: its volume (`C:` or nothing) and its names, raw bytes as surrogates (PEP 383)."""

    style: PathStyle = field(repr=False, compare=False)
    volume: str
    parts: tuple[str, ...]

    def __str__(self) -> str:
        return self.style.join(self.volume, self.parts)

    @property
    def name(self) -> str:
        return self.parts[-1] if self.parts else ""

    @property
    def parent(self) -> WPath:
        return WPath(self.style, self.volume, self.parts[:-1])

    def child(self, *names: str) -> WPath:
        return WPath(self.style, self.volume, self.parts + names)

    def walked(self, relative: str) -> WPath:
        """Where a path that is written with `/`, `.` and `..` leads from this folder; never above its volume."""
        parts = self.parts
        for part in relative.split("/"):
            if part == "..":
                parts = parts[:-1]
            elif part not in ("", "."):
                parts = (*parts, part)
        return WPath(self.style, self.volume, parts)

    @property
    def key(self) -> tuple[str, tuple[str, ...]]:
        """What two spellings of one path share."""
        if not self.style.folded:
            return self.volume, self.parts
        return self.volume.upper(), tuple(fold(p) for p in self.parts)

    def holds(self, other: WPath) -> bool:
        """Whether `other` is this path or below it, compared name by name."""
        count = len(self.parts)
        if count > len(other.parts):
            return False
        if not self.style.folded:
            return self.volume == other.volume and other.parts[:count] == self.parts
        mine, theirs = self.key, other.key
        return mine[0] == theirs[0] and theirs[1][:count] == mine[1]

    @property
    def line(self) -> Iterator[tuple[str, tuple[str, ...]]]:
        """The keys of all that hold it, itself last."""
        volume, parts = self.key
        return ((volume, parts[:count]) for count in range(len(parts) + 1))

    def below(self, other: WPath) -> bool:
        """Whether this path is truly below `other`."""
        return other.holds(self) and len(self.parts) > len(other.parts)

    @property
    def raw(self) -> bytes:
        """The path as bytes, exact: volume, then a NUL before each name."""
        return b"\0".join([self.volume.encode(), *(os.fsencode(p) for p in self.parts)])

    @property
    def b64(self) -> str:
        """The path in the workstation's own bytes, base64."""
        return base64.b64encode(os.fsencode(str(self))).decode()


def from_raw(style: PathStyle, raw: bytes) -> WPath:
    """The inverse of `WPath.raw`.

    Raises:
        DamagedCase: not what it gives; above all, no name may lead upward.
    """
    volume, *names = raw.split(b"\0")
    if not volume.isascii() or any(n in (b"", b".", b"..") or b"/" in n for n in names):
        raise DamagedCase("a path that is kept in the case is damaged", remedy="restore the case folder from a copy")
    return WPath(style, volume.decode(), tuple(os.fsdecode(n) for n in names))


PRIVILEGED = stat.S_ISUID | stat.S_ISGID  # bits of a mode: a program runs with its owner's or group's rights


@dataclass(frozen=True)
class Look:
    """What lstat says of one thing, and which thing it is.

    Attributes:
        identity: (device, inode); two looks at the same thing agree.
        times: access and modification time in ns.
        room: bytes it takes on the disk: fewer than its size where it has holes, none where its content is elsewhere.
    """

    identity: tuple[int, int]
    mode: int
    size: int
    uid: int
    gid: int
    links: int
    times: tuple[int, int]
    room: int = 0

    @property
    def is_folder(self) -> bool:
        return stat.S_ISDIR(self.mode)

    @property
    def is_link(self) -> bool:
        return stat.S_ISLNK(self.mode)

    @property
    def is_file(self) -> bool:
        return stat.S_ISREG(self.mode)

    @property
    def word(self) -> str:
        """What it is, for people."""
        for test, word in ((stat.S_ISDIR, "folder"), (stat.S_ISREG, "file"), (stat.S_ISLNK, "link")):
            if test(self.mode):
                return word
        return "special file"


@dataclass(frozen=True)
class Measure:
    """How much a path holds, itself included; hard links counted once.

    Attributes:
        items: files, folders, links and others.
        files: regular files.
        size: their bytes.
        privileged: files that run with their owner's or group's rights (setuid, setgid).
    """

    items: int
    files: int
    size: int
    privileged: int = 0


@dataclass(frozen=True)
class Resolved:
    """A path whose links on the way are resolved; `links` names each and where it led; not `there` if it was seen to be missing."""

    path: WPath
    links: tuple[str, ...] = ()
    there: bool = True
