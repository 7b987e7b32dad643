"""A workstation's files under folders of a POSIX machine, worked on by descriptors that follow no link."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO

from kleff.procedure.globs import PathStyle, fold
from kleff.workstation.files.by_path import ByPath
from kleff.workstation.files.protocol import Folder
from kleff.workstation.paths import Look, Measure, Resolved, Space, WPath
from kleff.workstation.posix import walking
from kleff.workstation.posix.calls import FOLDER_FLAGS, look_of, mount_id, mount_type, mounts_below, open_regular, open_volume, space_of
from kleff.workstation.posix.counting import Tally, count
from kleff.workstation.posix.handles import Held, PosixFolder, fd_of
from kleff.workstation.posix.resolving import Resolving
from kleff.workstation.short_names import ShortNames

MAX_LINKS = 40  # as the kernel's own limit, path_resolution(7)


class PosixTree(ByPath):
    """Files under one folder of this machine for each volume; implements `FileTree`.

    Args:
        style: how paths are written there.
        volumes: volume name -> folder on this machine that is its root.
        private: whether an account other than an administrator can write below a path, by the path alone;
            what the owners and modes say counts besides.
        held: what programs hold so that it cannot be renamed, and shorts: short names, on a simulated system.
    """

    def __init__(
        self, style: PathStyle, volumes: dict[str, Path], private: Callable[[WPath], bool] = lambda path: False, held: Held | None = None,
        shorts: ShortNames | None = None,
    ) -> None:  # fmt: skip
        self._held = held
        self._shorts = shorts
        self.style = style
        self.volumes = volumes
        self._private = private
        self._trusted = {0, os.geteuid()}

    # -- names ------------------------------------------------------------------------------------------------

    def host(self, path: WPath) -> str:
        return os.path.join(self.volumes[path.volume], *self.actual(path).parts)

    def actual(self, path: WPath) -> WPath:
        """The path with its names spelled as on the disk, as far as it exists; no link is followed."""
        if not self.style.folded:
            return path
        names: list[str] = []
        fd = open_volume(self.volumes[path.volume])
        try:
            for index, part in enumerate(path.parts):
                names.append(self.spelled_in(fd, part))
                if index == len(path.parts) - 1:
                    break
                try:
                    below = os.open(names[-1], FOLDER_FLAGS, dir_fd=fd)
                except OSError:
                    names.extend(path.parts[index + 1 :])
                    break
                os.close(fd)
                fd = below
        finally:
            os.close(fd)
        return WPath(self.style, path.volume, tuple(names))

    def spelled(self, folder: Folder, name: str) -> str:
        return self.spelled_in(fd_of(folder), name)

    def spelled_in(self, fd: int, name: str) -> str:
        """As `spelled`, by a descriptor."""
        if not self.style.folded:
            return name
        try:
            os.stat(name, dir_fd=fd, follow_symlinks=False)
            return name
        except OSError:
            pass
        wanted = fold(name)
        found = next((n for n in os.listdir(fd) if fold(n) == wanted), "")
        return found or (self._shorts.long(fd, name) if self._shorts is not None and "~" in name else "") or name

    # -- opening without following ----------------------------------------------------------------------------

    def open_folder(self, path: WPath) -> Folder:
        return PosixFolder(self._open(path), self._held, self._shorts)

    def _open(self, path: WPath) -> int:
        fd = open_volume(self.volumes[path.volume])
        for part in path.parts:
            fd = self._step_down(fd, part)
        return fd

    def open_below(self, folder: Folder, name: str) -> Folder:
        return PosixFolder(self._step_down(fd_of(folder), name), self._held, self._shorts)

    def _step_down(self, fd: int, name: str) -> int:
        try:
            return os.open(self.spelled_in(fd, name), FOLDER_FLAGS, dir_fd=fd)
        finally:
            os.close(fd)

    @contextlib.contextmanager
    def folder(self, path: WPath) -> Iterator[Folder]:
        folder = PosixFolder(self._open(path), self._held, self._shorts)
        try:
            yield folder
        finally:
            folder.close()

    @contextlib.contextmanager
    def parent(self, path: WPath) -> Iterator[tuple[Folder, str]]:
        with self.folder(path.parent) as folder:
            yield folder, self.spelled(folder, path.name)

    @contextlib.contextmanager
    def _folder(self, path: WPath) -> Iterator[int]:
        fd = self._open(path)
        try:
            yield fd
        finally:
            os.close(fd)

    @contextlib.contextmanager
    def _parent(self, path: WPath) -> Iterator[tuple[int, str]]:
        with self._folder(path.parent) as fd:
            yield fd, self.spelled_in(fd, path.name)

    # -- one thing --------------------------------------------------------------------------------------------

    def _stands(self, path: WPath) -> Look | None:
        try:
            if not path.parts:
                with self._folder(path) as fd:
                    return look_of(os.fstat(fd))
            with self._parent(path) as (fd, name):
                return look_of(os.stat(name, dir_fd=fd, follow_symlinks=False))
        except NotADirectoryError as error:
            self._refuse_link_on_way(path, error)
            return None

    def _refuse_link_on_way(self, path: WPath, error: OSError) -> None:
        for end in range(1, len(path.parts)):
            host = os.path.join(self.volumes[path.volume], *self.actual(path).parts[:end])
            if os.path.islink(host):
                raise OSError(errno.ELOOP, "a folder on the way is a link", str(path)) from error

    def _list(self, path: WPath) -> list[str]:
        with self._folder(path) as fd:
            return sorted(os.listdir(fd))

    def read(self, path: WPath, limit: int = 1 << 20) -> bytes:
        with self.reading(path) as file:
            return file.read(limit)

    def _reading(self, path: WPath) -> IO[bytes]:
        with self._parent(path) as (fd, name):
            return os.fdopen(open_regular(fd, name), "rb")

    def sha256(self, path: WPath) -> str:
        with self.parent(path) as (folder, name):
            return folder.sha256(name)

    def remove_single(self, path: WPath) -> None:
        with self._parent(path) as (fd, name):
            if stat.S_ISDIR(os.stat(name, dir_fd=fd, follow_symlinks=False).st_mode):
                os.rmdir(name, dir_fd=fd)
            else:
                os.unlink(name, dir_fd=fd)

    def read_link(self, path: WPath) -> str:
        with self._parent(path) as (fd, name):
            return os.readlink(name, dir_fd=fd)

    # -- links on the way -------------------------------------------------------------------------------------

    def resolve(self, path: WPath) -> Resolved:
        return Resolving(self).resolve(path)

    def trusts(self, owner: int) -> bool:
        """Whether what this account has made may be gone by."""
        return owner in self._trusted

    def _only_admin(self, status: os.stat_result, path: WPath) -> bool:
        group_safe = not status.st_mode & stat.S_IWGRP or status.st_gid in (0, os.getegid())
        by_mode = status.st_uid in self._trusted and group_safe and not status.st_mode & stat.S_IWOTH
        return by_mode and not self._private(path)

    def only_admin(self, path: WPath) -> bool:
        fd = open_volume(self.volumes[path.volume])
        try:
            for index in range(len(path.parts) + 1):
                if not self._only_admin(os.fstat(fd), WPath(self.style, path.volume, path.parts[:index])):
                    return False
                if index < len(path.parts):
                    below = os.open(self.spelled_in(fd, path.parts[index]), FOLDER_FLAGS, dir_fd=fd)
                    os.close(fd)
                    fd = below
            return True
        finally:
            os.close(fd)

    # -- globs ------------------------------------------------------------------------------------------------

    # -- sizes and mounts -------------------------------------------------------------------------------------

    def walk(self, path: WPath, enter: Callable[[WPath, Look], bool] = lambda path, look: True) -> Iterator[tuple[WPath, Look]]:
        look = self.look(path)
        if look is None:
            return
        yield path, look
        if enter(path, look) and look.is_folder:
            with self._folder(path) as fd:
                for names, below in walking.walk(fd, lambda names, look: enter(path.child(*names), look)):
                    yield path.child(*names), below

    def find(self, path: WPath, wanted: Callable[[str], object]) -> Iterator[tuple[WPath, Look]]:
        look = self.look(path)
        if look is None:
            return
        if not look.is_folder:
            if wanted(path.name):
                yield path, look
            return
        with self._folder(path) as fd:
            for names, below in walking.find(fd, wanted):
                yield path.child(*names), below

    def measure(self, path: WPath, processes: int = 2) -> Measure:
        tally = Tally()
        try:
            if path.parts:
                with self._parent(path) as (fd, name):
                    status = os.stat(name, dir_fd=fd, follow_symlinks=False)
            else:
                status = os.stat(self.volumes[path.volume])
            tally.add(status)
            if stat.S_ISDIR(status.st_mode):
                with self._folder(path) as fd:
                    count(fd, tally, min(processes, os.cpu_count() or 1))
        except FileNotFoundError:
            return Measure(0, 0, 0)
        except NotADirectoryError as error:
            self._refuse_link_on_way(path, error)
            return Measure(0, 0, 0)
        return Measure(tally.items, tally.files, tally.bytes, tally.privileged)

    def mounts_in(self, path: WPath) -> list[str]:
        look = self.look(path)
        if look is None or not look.is_folder:
            return []
        with self._folder(path) as fd:
            return mounts_below(fd)

    def layered(self, path: WPath) -> bool:
        look = self.look(path)
        if look is None or not look.is_folder:
            return False
        with self._folder(path) as fd:
            return mount_type(mount_id(fd)) == "overlay"

    def mount_root(self, path: WPath) -> WPath:
        top = 0
        fd = open_volume(self.volumes[path.volume])
        try:
            mount = mount_id(fd)
            for index, part in enumerate(path.parts[:-1]):
                below = os.open(self.spelled_in(fd, part), FOLDER_FLAGS, dir_fd=fd)
                os.close(fd)
                fd = below
                if mount_id(fd) != mount:
                    mount, top = mount_id(fd), index + 1
        finally:
            os.close(fd)
        return WPath(self.style, path.volume, path.parts[:top])

    def space(self, path: WPath) -> Space:
        return space_of(self.host(path))
