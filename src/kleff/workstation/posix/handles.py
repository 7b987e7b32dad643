"""Open files and folders of a POSIX machine."""

from __future__ import annotations

import contextlib
import errno
import functools
import os
import stat
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Concatenate, ParamSpec, TypeVar, cast

from kleff.workstation.files.protocol import File, Folder, MountInside, Owner
from kleff.workstation.paths import Look
from kleff.workstation.posix import copying
from kleff.workstation.posix.calls import (
    FOLDER_FLAGS,
    exchange,
    flushed,
    host_path,
    look_of,
    mounts_below,
    remove_if_empty,
    rename_noreplace,
    sha256_at,
    sync_volume,
)
from kleff.workstation.posix.walking import delete_below
from kleff.workstation.short_names import ShortNames

READ = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
WRITE = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
NONE_HERE = (errno.ENOTSUP, errno.ENODATA)  # a file system without attributes; one that has just gone


class PosixHandle:
    """An open descriptor."""

    def __init__(self, fd: int) -> None:
        self.fd = fd

    def look(self) -> Look:
        return look_of(os.fstat(self.fd))

    def attributes(self) -> dict[str, bytes]:
        try:
            return {name: os.getxattr(self.fd, name) for name in os.listxattr(self.fd)}
        except OSError as error:
            if error.errno not in NONE_HERE:
                raise
            return {}

    def set_owner(self, uid: int, gid: int) -> None:
        os.fchown(self.fd, uid, gid)

    def give_to(self, account: str) -> None: ...

    def set_mode(self, mode: int) -> None:
        os.fchmod(self.fd, mode)

    def set_attribute(self, name: str, value: bytes) -> None:
        os.setxattr(self.fd, name, value)

    def set_times(self, times: tuple[int, int]) -> None:
        os.utime(self.fd, ns=times)

    def flush(self) -> None:
        flushed(self.fd, os.fsync)

    def close(self) -> None:
        os.close(self.fd)


class PosixFile(PosixHandle):
    """An open regular file."""

    def read(self, size: int) -> bytes:
        return os.read(self.fd, size)

    def truncate(self, size: int) -> None:
        os.ftruncate(self.fd, size)

    def write(self, data: bytes) -> None:
        view = memoryview(data)
        while view:
            view = view[os.write(self.fd, view) :]

    def write_at(self, data: bytes, at: int) -> None:
        os.pwrite(self.fd, data, at)


P = ParamSpec("P")
T = TypeVar("T")
Held = Callable[[], dict[tuple[int, int], int]]
"""What other programs hold so that it cannot be renamed: by its identity, with what the system says then."""


def _told(method: Callable[Concatenate[PosixFolder, str, P], T]) -> Callable[Concatenate[PosixFolder, str, P], T]:
    """An error names the whole path: the system only knows the name in the opened folder, which says nothing to a person."""

    @functools.wraps(method)
    def told(self: PosixFolder, name: str, /, *more: P.args, **options: P.kwargs) -> T:
        try:
            return method(self, name, *more, **options)
        except OSError as error:
            if error.filename == name:
                error.filename = f"{host_path(self.fd).rstrip('/')}/{name}"
            raise

    return told


class PosixFolder(PosixHandle):
    """An open folder.

    Args:
        held: asked before each rename, where a workstation has such programs; shorts: where it has short names.
    """

    def __init__(self, fd: int, held: Held | None = None, shorts: ShortNames | None = None) -> None:
        super().__init__(fd)
        self._held = held
        self._shorts = shorts

    def names(self) -> list[str]:
        return os.listdir(self.fd)

    @_told
    def look_at(self, name: str) -> Look:
        return look_of(os.stat(name, dir_fd=self.fd, follow_symlinks=False))

    @_told
    def _open(self, name: str, flags: int) -> int:
        return os.open(name, flags, dir_fd=self.fd)

    @contextmanager
    def folder(self, name: str) -> Iterator[Folder]:
        below = PosixFolder(self._open(name, FOLDER_FLAGS), self._held, self._shorts)
        try:
            yield below
        finally:
            below.close()

    @contextmanager
    def file(self, name: str) -> Iterator[File]:
        file = PosixFile(self._open(name, READ))
        try:
            yield file
        finally:
            file.close()

    @_told
    def create(self, name: str) -> File:
        return PosixFile(os.open(name, WRITE, 0o600, dir_fd=self.fd))

    @_told
    def make_folder(self, name: str, mode: int = 0o700) -> None:
        os.mkdir(name, mode, dir_fd=self.fd)

    @_told
    def make_link(self, name: str, target: str) -> None:
        os.symlink(target, name, dir_fd=self.fd)

    @_told
    def read_link(self, name: str) -> str:
        return os.readlink(name, dir_fd=self.fd)

    @_told
    def set_link(self, name: str, owner: Owner, times: tuple[int, int]) -> None:
        if owner:
            os.chown(name, *owner, dir_fd=self.fd, follow_symlinks=False)
        os.utime(name, ns=times, dir_fd=self.fd, follow_symlinks=False)

    def short_name(self, name: str) -> str:
        return self._shorts.of(self.fd, name) if self._shorts is not None else ""

    def set_short_name(self, name: str, short: str) -> None:
        if self._shorts is None:
            raise OSError(errno.EOPNOTSUPP, "has no short names", name)
        self._shorts.give(self.fd, name, short)

    @_told
    def remove(self, name: str) -> None:
        os.unlink(name, dir_fd=self.fd)

    def remove_if_empty(self, name: str) -> None:
        remove_if_empty(self.fd, name)

    @_told
    def rename(self, name: str, to: Folder, to_name: str) -> None:
        held = self._held() if self._held is not None else {}
        if held and (code := held.get(self.look_at(name).identity)):
            raise OSError(code, os.strerror(code), name)
        rename_noreplace(self.fd, name, fd_of(to), to_name)
        if self._shorts is not None:
            self._shorts.left(self.fd, name)
            self._shorts.left(fd_of(to), to_name)  # what has stood there once

    @_told
    def exchange(self, name: str, other: Folder, other_name: str) -> None:
        exchange(self.fd, name, fd_of(other), other_name)

    @_told
    def link(self, name: str, to: Folder, to_name: str) -> None:
        os.link(name, to_name, src_dir_fd=self.fd, dst_dir_fd=fd_of(to), follow_symlinks=False)

    @_told
    def sha256(self, name: str) -> str:
        return sha256_at(self.fd, name)

    @_told
    def copy_file(self, name: str, to: Folder, to_name: str, look: Look, flush: bool = True) -> str:
        return copying.copy_file(self.fd, name, fd_of(to), to_name, look, flush)

    @_told
    def copy_tree(self, name: str, to: Folder, to_name: str, told: Callable[[int, int], None]) -> None:
        copying.copy_tree(self.fd, name, fd_of(to), to_name, told)

    @_told
    def delete_copied(self, name: str, to: Folder, to_name: str) -> list[str]:
        return copying.delete_copied(self.fd, name, fd_of(to), to_name)

    def delete_tree(self, name: str, told: Callable[[int], None]) -> None:
        with contextlib.suppress(FileNotFoundError):
            if not stat.S_ISDIR(os.stat(name, dir_fd=self.fd, follow_symlinks=False).st_mode):
                os.unlink(name, dir_fd=self.fd)
                told(1)
                return
            fd = os.open(name, FOLDER_FLAGS, dir_fd=self.fd)
            try:
                mounts = mounts_below(fd)
                if mounts:
                    raise MountInside(mounts[0])
                delete_below(fd, told)
            finally:
                os.close(fd)
            os.rmdir(name, dir_fd=self.fd)

    def may_change(self) -> bool:
        return os.access(".", os.W_OK, dir_fd=self.fd, effective_ids=True)

    def ours(self, name: str) -> bool:
        status = os.stat(name, dir_fd=self.fd, follow_symlinks=False)
        return stat.S_ISDIR(status.st_mode) and status.st_uid == os.geteuid() and not stat.S_IMODE(status.st_mode) & 0o077

    def flush_volume(self) -> None:
        flushed(self.fd, sync_volume)


def fd_of(folder: Folder) -> int:
    """The descriptor of a folder that this half has opened."""
    return cast(PosixFolder, folder).fd
