"""Open files and folders that are in memory alone."""

from __future__ import annotations

import errno
import hashlib
import stat
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import cast

from kleff.procedure.globs import fold
from kleff.workstation.files.protocol import File, Folder, Owner
from kleff.workstation.memory.nodes import Node, entered, error, now
from kleff.workstation.paths import Look


class MemoryHandle:
    """Something open."""

    def __init__(self, node: Node) -> None:
        self.node = node

    def look(self) -> Look:
        return self.node.look()

    def attributes(self) -> dict[str, bytes]:
        return dict(self.node.attributes)

    def set_owner(self, uid: int, gid: int) -> None:
        self.node.uid, self.node.gid = uid, gid

    def give_to(self, account: str) -> None: ...

    def set_mode(self, mode: int) -> None:
        self.node.mode = stat.S_IFMT(self.node.mode) | mode

    def set_attribute(self, name: str, value: bytes) -> None:
        self.node.attributes[name] = value

    def set_times(self, times: tuple[int, int]) -> None:
        self.node.accessed, self.node.changed = times

    def flush(self) -> None: ...

    def close(self) -> None: ...


class MemoryFile(MemoryHandle):
    """An open file; implements `File`."""

    def __init__(self, node: Node) -> None:
        super().__init__(node)
        self._at = 0

    def read(self, size: int) -> bytes:
        data = self.node.data[self._at : self._at + size]
        self._at += len(data)
        return data

    def truncate(self, size: int) -> None:
        self.node.data = self.node.data[:size].ljust(size, b"\0")
        self.node.changed = now()

    def write(self, data: bytes) -> None:
        self.write_at(data, self._at)
        self._at += len(data)

    def write_at(self, data: bytes, at: int) -> None:
        before = self.node.data.ljust(at, b"\0")
        self.node.data = before[:at] + data + before[at + len(data) :]
        self.node.changed = now()


class MemoryFolder(MemoryHandle):
    """An open folder; implements `Folder`."""

    def names(self) -> list[str]:
        return [name for name, _ in self.node.below.values()]

    def look_at(self, name: str) -> Look:
        return self.node.get(name).look()

    @contextmanager
    def folder(self, name: str) -> Iterator[Folder]:
        yield MemoryFolder(entered(self.node, name))

    @contextmanager
    def file(self, name: str) -> Iterator[File]:
        node = self.node.get(name)
        if stat.S_ISLNK(node.mode):
            raise error(errno.ELOOP, name)
        yield MemoryFile(node)

    def create(self, name: str) -> File:
        node = self.node.new(stat.S_IFREG | 0o600)
        self.node.put(name, node)
        return MemoryFile(node)

    def make_folder(self, name: str, mode: int = 0o700) -> None:
        self.node.put(name, self.node.new(stat.S_IFDIR | mode))

    def make_link(self, name: str, target: str) -> None:
        self.node.put(name, self.node.new(stat.S_IFLNK | 0o777, target=target))

    def read_link(self, name: str) -> str:
        node = self.node.get(name)
        if not stat.S_ISLNK(node.mode):
            raise error(errno.EINVAL, name)
        return node.target

    def set_link(self, name: str, owner: Owner, times: tuple[int, int]) -> None:
        node = self.node.get(name)
        if owner:
            node.uid, node.gid = owner
        node.accessed, node.changed = times

    def short_name(self, name: str) -> str:
        return self.node.shorts.of(self.node.key(self.node.spelled(name))) if self.node.shorts is not None else ""

    def set_short_name(self, name: str, short: str) -> None:
        shorts, key = self.node.shorts, self.node.key(self.node.spelled(name))
        if shorts is None:
            raise error(errno.EOPNOTSUPP, name)
        if shorts.whose(fold(short)) not in ("", key) or (fold(short) in self.node.below and fold(short) != key):
            raise error(errno.EEXIST, short)
        shorts.give(key, fold(short))

    def remove(self, name: str) -> None:
        if self.node.get(name).is_folder:
            raise error(errno.EISDIR, name)
        self.node.drop(name).links -= 1

    def remove_if_empty(self, name: str) -> None:
        node = self.node.below.get(self.node.key(self.node.spelled(name)), (name, None))[1]
        if node is not None and not node.is_folder:
            raise error(errno.ENOTDIR, name)
        if node is not None and not node.below:
            self.node.drop(name)

    def rename(self, name: str, to: Folder, to_name: str) -> None:
        if self.node.get(name).holds_open:
            raise error(errno.EACCES if self.node.get(name).is_folder else errno.EBUSY, name)
        node, target = self.node.get(name), node_of(to)
        if node.volume != target.volume:
            raise error(errno.EXDEV, name)
        target.put(to_name, node)
        self.node.drop(name)

    def exchange(self, name: str, other: Folder, other_name: str) -> None:
        if self.node.folded:
            raise error(errno.EOPNOTSUPP, name)  # as Windows does
        mine, theirs, target = self.node.get(name), node_of(other).get(other_name), node_of(other)
        if mine.volume != theirs.volume:
            raise error(errno.EXDEV, name)
        self.node.drop(name)
        target.drop(other_name)
        self.node.put(name, theirs)
        target.put(other_name, mine)

    def link(self, name: str, to: Folder, to_name: str) -> None:
        node, target = self.node.get(name), node_of(to)
        if target.key(to_name) in target.below:
            raise error(errno.EEXIST, name)
        if node.is_folder or node.volume != target.volume:
            raise error(errno.EPERM if node.is_folder else errno.EXDEV, name)
        target.put(to_name, node)
        node.links += 1

    def sha256(self, name: str) -> str:
        node = self.node.get(name)
        if not stat.S_ISREG(node.mode):
            raise error(errno.ELOOP if stat.S_ISLNK(node.mode) else errno.EINVAL, name)
        return hashlib.sha256(node.data).hexdigest()

    def copy_file(self, name: str, to: Folder, to_name: str, look: Look, flush: bool = True) -> str:
        copy = self.node.get(name).copy()
        copy.volume = node_of(to).volume
        node_of(to).put(to_name, copy)
        return hashlib.sha256(copy.data).hexdigest()

    def copy_tree(self, name: str, to: Folder, to_name: str, told: Callable[[int, int], None]) -> None:
        _copy(self.node.get(name), node_of(to), to_name, {}, told)

    def delete_copied(self, name: str, to: Folder, to_name: str) -> list[str]:
        left = _left(self.node.get(name), node_of(to).get(to_name))
        if not left:
            self.node.drop(name)
        return left

    def delete_tree(self, name: str, told: Callable[[int], None]) -> None:
        if self.node.key(self.node.spelled(name)) in self.node.below:
            gone = self.node.drop(name)
            told(sum(1 for _ in _all(gone)) - gone.is_folder)

    def may_change(self) -> bool:
        return True

    def ours(self, name: str) -> bool:
        node = self.node.get(name)
        return node.is_folder and not node.uid and not stat.S_IMODE(node.mode) & 0o077

    def flush_volume(self) -> None: ...


def node_of(folder: Folder) -> Node:
    """The node of a folder that this half has opened."""
    return cast(MemoryFolder, folder).node


def _all(node: Node) -> Iterator[Node]:
    yield node
    for _, below in list(node.below.values()):
        yield from _all(below)


def _copy(node: Node, to: Node, name: str, known: dict[int, Node], told: Callable[[int, int], None]) -> None:
    copy = known.get(node.number)
    if copy is None:
        copy = known[node.number] = node.copy()
        copy.volume = to.volume
    else:
        copy.links += 1
    to.put(name, copy)
    for below_name, below in node.below.values():
        _copy(below, copy, below_name, known, told)
        told(1, len(below.data))
    copy.changed = node.changed


def _left(node: Node, copy: Node) -> list[str]:
    """What of a folder is not as in its copy."""
    left = []
    for key, (name, below) in node.below.items():
        twin = copy.below.get(key, (name, None))[1]
        if twin is None or (twin.mode, twin.data, twin.target) != (below.mode, below.data, below.target):
            left.append(name)
        else:
            left += [f"{name}/{more}" for more in _left(below, twin)]
    return left
