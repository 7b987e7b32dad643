"""Files and folders that are in memory alone, and open ones."""

from __future__ import annotations

import errno
import itertools
import os
import stat
from dataclasses import dataclass, field
from typing import ClassVar

from kleff.procedure.globs import fold
from kleff.workstation.paths import Look
from kleff.workstation.short_names import Shorts

TICK = 1_000_000_000  # ns between two changes, so that each has a time of its own

_numbers = itertools.count(1)
_clock = itertools.count(1_700_000_000)


def now() -> int:
    """The time of a change, in ns."""
    return next(_clock) * TICK


def error(number: int, name: str) -> OSError:
    """The `OSError` of a number."""
    return OSError(number, os.strerror(number), name)


@dataclass(eq=False)
class Node:
    """A file, a folder or a link.

    Attributes:
        mode: as in stat(2), with what it is.
        volume: the number of its volume; below: of a folder, spelled names and what they are, by what two spellings share.
        links: how many names it has.
        shorts: of a folder whose volume gives short names, whose each is; None where there are none.
        held: a program has it open and lets nobody rename it; some_held: so is any.
    """

    mode: int
    volume: int
    folded: bool
    uid: int = 0
    gid: int = 0
    data: bytes = b""
    target: str = ""
    below: dict[str, tuple[str, Node]] = field(default_factory=dict)
    attributes: dict[str, bytes] = field(default_factory=dict)
    links: int = 1
    accessed: int = field(default_factory=now)
    changed: int = field(default_factory=now)
    number: int = field(default_factory=lambda: next(_numbers))
    shorts: Shorts | None = None
    held: bool = False
    some_held: ClassVar[bool] = False

    @property
    def holds_open(self) -> bool:
        """Whether a program holds it, or something in it, so that it cannot be renamed."""
        return Node.some_held and (self.held or any(node.holds_open for _, node in self.below.values()))

    @property
    def is_folder(self) -> bool:
        return stat.S_ISDIR(self.mode)

    def look(self) -> Look:
        size = len(self.data) if stat.S_ISREG(self.mode) else len(self.target)
        return Look((self.volume, self.number), self.mode, size, self.uid, self.gid, self.links, (self.accessed, self.changed), size)

    def key(self, name: str) -> str:
        return fold(name) if self.folded else name

    def get(self, name: str) -> Node:
        """What has this name.

        Raises:
            OSError: nothing, or this is no folder.
        """
        if not self.is_folder:
            raise error(errno.ENOTDIR, name)
        found = self.below.get(self.key(self.spelled(name)))
        if found is None:
            raise error(errno.ENOENT, name)
        return found[1]

    def spelled(self, name: str) -> str:
        """As it is spelled here, also if it is the short one."""
        key = self.key(name)
        if key not in self.below and self.shorts is not None:
            key = self.shorts.whose(key)
        return self.below[key][0] if key in self.below else name

    def put(self, name: str, node: Node) -> None:
        """Give something a name that is free.

        Raises:
            FileExistsError: it is not.
        """
        if self.key(self.spelled(name)) in self.below:
            raise error(errno.EEXIST, name)
        self.below[self.key(name)] = (name, node)
        if self.shorts is not None:
            self.shorts.came(name, self.below)
        self.changed = now()

    def drop(self, name: str) -> Node:
        """Take a name away."""
        node, key = self.get(name), self.key(self.spelled(name))
        del self.below[key]
        if self.shorts is not None:
            self.shorts.went(key)
        self.changed = now()
        return node

    def new(self, mode: int, **more: str) -> Node:
        """Something new for this folder."""
        return Node(mode, self.volume, self.folded, shorts=None if self.shorts is None else Shorts(), **more)  # type: ignore[arg-type]

    def copy(self) -> Node:
        """The same with a number of its own; of a folder without what is in it."""
        return Node(
            self.mode, self.volume, self.folded, self.uid, self.gid, self.data, self.target, {}, dict(self.attributes), 1, self.accessed,
            self.changed, shorts=None if self.shorts is None else Shorts(),
        )  # fmt: skip


def entered(node: Node, name: str) -> Node:
    """A folder in a folder; no link is followed.

    Raises:
        OSError: it is none.
    """
    below = node.get(name)
    if not below.is_folder:
        raise error(errno.ENOTDIR, name)
    return below
