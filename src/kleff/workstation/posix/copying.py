"""Copying faithfully, file by file and whole trees: content with holes, owner, mode, times, extended attributes, links.

Needed where a rename is not possible: a spare of what may be changed in place, a folder of an overlay's lower layer.
"""

from __future__ import annotations

import errno
import hashlib
import os
import stat
from collections.abc import Callable, Iterator

from kleff.workstation.paths import Look
from kleff.workstation.posix.calls import FOLDER_FLAGS, closing_fd, look_of, remove_if_empty, sync_volume
from kleff.workstation.posix.walking import Descent, open_below

READ = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
WRITE = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
BLOCK = 1 << 18


def copy_file(fd: int, name: str, to: int, to_name: str, look: Look, flush: bool = True) -> str:
    """Copy a regular file to a new name; returns its SHA-256 (holes count as zeros).

    Raises:
        OSError: it cannot be read or written, or it is no longer the file that was looked at.
    """
    sha256 = hashlib.sha256()
    with closing_fd(os.open(name, READ, dir_fd=fd)) as source:
        if look_of(os.fstat(source)).identity != look.identity:
            raise OSError(errno.EIO, "was replaced while it was copied", name)
        with closing_fd(os.open(to_name, WRITE, 0o600, dir_fd=to)) as target:
            for data in blocks(source, target):
                sha256.update(data)
            _settle(source, target, look)
            if flush:
                os.fsync(target)
    return sha256.hexdigest()


def blocks(source: int, target: int | None) -> Iterator[bytes]:
    """The content of an open file in order; what is not a hole is written to `target` at the same place."""
    at, size = 0, os.fstat(source).st_size
    if target is not None:
        os.ftruncate(target, size)
    while at < size:
        try:
            begin = os.lseek(source, at, os.SEEK_DATA)
        except OSError as error:
            if error.errno != errno.ENXIO:
                raise
            begin = size  # nothing but a hole to the end
        while at < begin:
            zeros = bytes(min(BLOCK, begin - at))
            at += len(zeros)
            yield zeros
        if at >= size:
            return
        end = os.lseek(source, at, os.SEEK_HOLE)
        while at < end:
            data = os.pread(source, min(BLOCK, end - at), at)
            if not data:
                raise OSError(errno.EIO, "became shorter while it was copied")
            if target is not None:
                _write(target, data, at)
            at += len(data)
            yield data


def _write(target: int, data: bytes, at: int) -> None:
    view = memoryview(data)
    while view:
        written = os.pwrite(target, view, at)
        view, at = view[written:], at + written


def copy_tree(fd: int, name: str, to: int, to_name: str, told: Callable[[int, int], None]) -> None:
    """Copy a folder with all below it to a new name, on disk and read back when this returns.

    Args:
        told: is given items and bytes as they are done.

    Raises:
        OSError: something cannot be read, written or made, or is not what was written when it is read back.
    """
    top = look_of(os.stat(name, dir_fd=fd, follow_symlinks=False))
    os.mkdir(to_name, 0o700, dir_fd=to)
    written: dict[tuple[str, ...], str] = {}
    firsts: dict[tuple[int, int], tuple[str, ...]] = {}
    with closing_fd(os.open(name, FOLDER_FLAGS, dir_fd=fd)) as source, closing_fd(os.open(to_name, FOLDER_FLAGS, dir_fd=to)) as target:
        pair = _Pair(source, target)
        for names, look in pair.down():
            first = firsts.get(look.identity) if look.links > 1 and not look.is_folder else None
            if first is not None:
                _link(target, first, pair.to, names[-1])
            else:
                firsts[look.identity] = names
                sha256 = _copy_one(pair.source, pair.to, names[-1], look)
                if sha256:
                    written[names] = sha256
            told(1, look.size if look.is_file else 0)
        _settle(source, target, top)
        sync_volume(target)
        for names, sha256 in written.items():
            if _hash(target, names) != sha256:
                raise OSError(errno.EIO, "is not what was written", "/".join(names))


class _Pair:
    """Steps through a tree and its copy at once; folders of the copy get their owner, mode and times when they are left."""

    def __init__(self, source: int, target: int) -> None:
        self._source, self._target = Descent(source), Descent(target)

    @property
    def source(self) -> int:
        return self._source.fd

    @property
    def to(self) -> int:
        return self._target.fd

    def down(self) -> Iterator[tuple[tuple[str, ...], Look]]:
        names: list[str] = []
        looks: list[Look] = []
        waiting = [sorted(os.listdir(self.source), reverse=True)]
        try:
            while waiting:
                if not waiting[-1]:
                    waiting.pop()
                    if waiting:
                        _settle(self.source, self.to, looks.pop())
                        self._source.up()
                        self._target.up()
                        names.pop()
                    continue
                name = waiting[-1].pop()
                look = look_of(os.stat(name, dir_fd=self.source, follow_symlinks=False))
                yield (*names, name), look
                if look.is_folder:
                    self._source.down(name)
                    self._target.down(name)
                    names.append(name)
                    looks.append(look)
                    waiting.append(sorted(os.listdir(self.source), reverse=True))
        finally:
            self._source.close()
            self._target.close()


def _copy_one(fd: int, to: int, name: str, look: Look) -> str:
    """Copy one thing (a folder without what is in it); returns the SHA-256 of a regular file."""
    if look.is_folder:
        os.mkdir(name, 0o700, dir_fd=to)
    elif look.is_link:
        os.symlink(os.readlink(name, dir_fd=fd), name, dir_fd=to)
        os.chown(name, look.uid, look.gid, dir_fd=to, follow_symlinks=False)
        os.utime(name, ns=look.times, dir_fd=to, follow_symlinks=False)
    elif look.is_file:
        return copy_file(fd, name, to, name, look, flush=False)
    else:
        os.mknod(name, look.mode, os.stat(name, dir_fd=fd, follow_symlinks=False).st_rdev, dir_fd=to)
        os.chown(name, look.uid, look.gid, dir_fd=to, follow_symlinks=False)
        os.utime(name, ns=look.times, dir_fd=to, follow_symlinks=False)
    return ""


def _settle(source: int, target: int, look: Look) -> None:
    """Owner and mode before the attributes: chown(2) clears capabilities, and chmod(2) changes the mask of an ACL."""
    os.fchown(target, look.uid, look.gid)
    os.fchmod(target, stat.S_IMODE(look.mode))
    for attribute in os.listxattr(source):
        if not attribute.startswith("trusted.overlay."):
            os.setxattr(target, attribute, os.getxattr(source, attribute))
    os.utime(target, ns=look.times)


def _link(top: int, first: tuple[str, ...], to: int, name: str) -> None:
    with closing_fd(open_below(top, first[:-1])) as folder:
        os.link(first[-1], name, src_dir_fd=folder, dst_dir_fd=to, follow_symlinks=False)


def _hash(top: int, names: tuple[str, ...]) -> str:
    with closing_fd(open_below(top, names[:-1])) as folder, closing_fd(os.open(names[-1], READ, dir_fd=folder)) as file:
        sha256 = hashlib.sha256()
        for data in blocks(file, None):
            sha256.update(data)
        return sha256.hexdigest()


def delete_copied(fd: int, name: str, to: int, to_name: str) -> list[str]:
    """Delete an original that has been copied: only what is in the copy, and as it is there.

    Returns:
        What is left of it, since it has appeared or changed meanwhile.

    Raises:
        OSError.
    """
    left: list[str] = []
    with closing_fd(os.open(name, FOLDER_FLAGS, dir_fd=fd)) as source, closing_fd(os.open(to_name, FOLDER_FLAGS, dir_fd=to)) as target:
        original, copy = Descent(source), Descent(target)
        names: list[str] = []
        waiting = [os.listdir(source)]
        try:
            while waiting:
                if waiting[-1]:
                    below = waiting[-1].pop()
                    if _same(original.fd, copy.fd, below):
                        if _is_folder(original.fd, below):
                            original.down(below)
                            copy.down(below)
                            names.append(below)
                            waiting.append(os.listdir(original.fd))
                        else:
                            os.unlink(below, dir_fd=original.fd)
                    else:
                        left.append("/".join([*names, below]))
                    continue
                waiting.pop()
                if waiting:
                    original.up()
                    copy.up()
                    remove_if_empty(original.fd, names.pop())
        finally:
            original.close()
            copy.close()
    remove_if_empty(fd, name)
    return left


def _is_folder(fd: int, name: str) -> bool:
    return stat.S_ISDIR(os.stat(name, dir_fd=fd, follow_symlinks=False).st_mode)


def _same(fd: int, to: int, name: str) -> bool:
    try:
        one, other = (os.stat(name, dir_fd=d, follow_symlinks=False) for d in (fd, to))
    except FileNotFoundError:
        return False
    if stat.S_IFMT(one.st_mode) != stat.S_IFMT(other.st_mode):
        return False
    return stat.S_ISDIR(one.st_mode) or (one.st_size, one.st_mtime_ns) == (other.st_size, other.st_mtime_ns)
