"""A workstation's file tree, worked on by descriptors that follow no link."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import IO

from kleff.errors import DamagedCase, LinkOnTheWay
from kleff.procedure.globs import PathStyle, fold
from kleff.workstation.common import walking
from kleff.workstation.common.counting import Tally, count
from kleff.workstation.common.posix import FOLDER_FLAGS, mount_id, mount_type, mounts_below, open_regular, sha256_at
from kleff.workstation.paths import Look, Measure, Resolved, WPath, from_raw, look_of

Owner = tuple[int, int] | None  # (uid, gid); None to leave it to the system
MAX_LINKS = 40  # as the kernel's own limit, path_resolution(7)


class FileTree:
    """Files under one folder of this machine for each volume.

    Args:
        style: how paths are written there.
        volumes: volume name -> folder on this machine that is its root.
        private: whether an account other than an administrator can write below a path, by the path alone;
            what the owners and modes say counts besides.
    """

    def __init__(self, style: PathStyle, volumes: dict[str, Path], private: Callable[[WPath], bool] = lambda path: False) -> None:
        self.style = style
        self.volumes = volumes
        self._private = private
        self._trusted = {0, os.geteuid()}

    # -- names ------------------------------------------------------------------------------------------------

    def path(self, text: str) -> WPath | None:
        """The path a text stands for here; None if it is none of this system, or its volume is not here."""
        split = self.style.split(text)
        if split is None or split[0] not in self.volumes:
            return None
        return WPath(self.style, split[0], split[1])

    def from_raw(self, raw: bytes) -> WPath:
        """A path from the bytes that are kept of it.

        Raises:
            DamagedCase: it can be none of this workstation.
        """
        path = from_raw(self.style, raw)
        if path.volume not in self.volumes:
            raise DamagedCase(
                "a path that is kept in the case is of no volume of this workstation", remedy="restore the case folder from a copy"
            )
        return path

    def host(self, path: WPath) -> str:
        """Where a path lies on the machine Kleff runs on (for programs that need a path)."""
        return os.path.join(self.volumes[path.volume], *self.actual(path).parts)

    def actual(self, path: WPath) -> WPath:
        """The path with its names spelled as on the disk, as far as it exists; no link is followed."""
        if not self.style.folded:
            return path
        names: list[str] = []
        fd = os.open(self.volumes[path.volume], FOLDER_FLAGS)
        try:
            for index, part in enumerate(path.parts):
                names.append(self.spelled(fd, part))
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

    def spelled(self, fd: int, name: str) -> str:
        """A name as it is spelled in an open folder; as given if nothing there is called so."""
        if not self.style.folded:
            return name
        try:
            os.stat(name, dir_fd=fd, follow_symlinks=False)
            return name
        except OSError:
            pass
        wanted = fold(name)
        return next((n for n in os.listdir(fd) if fold(n) == wanted), name)

    # -- opening without following ----------------------------------------------------------------------------

    def open_folder(self, path: WPath) -> int:
        """An open descriptor of a folder; every step is opened relative to the one before and follows no link.

        Raises:
            OSError: ENOENT, or ENOTDIR/ELOOP where a step is no folder or a link.
        """
        fd = os.open(self.volumes[path.volume], FOLDER_FLAGS)
        for part in path.parts:
            fd = self.step_down(fd, part)
        return fd

    def step_down(self, fd: int, name: str) -> int:
        """Open a folder in an open one, which is closed, also if it fails.

        Raises:
            OSError: as `open_folder`.
        """
        try:
            return os.open(self.spelled(fd, name), FOLDER_FLAGS, dir_fd=fd)
        finally:
            os.close(fd)

    @contextlib.contextmanager
    def folder(self, path: WPath) -> Iterator[int]:
        """As `open_folder`, and closed in the end."""
        fd = self.open_folder(path)
        try:
            yield fd
        finally:
            os.close(fd)

    @contextlib.contextmanager
    def parent(self, path: WPath) -> Iterator[tuple[int, str]]:
        """The open parent folder of a path, and the name spelled as on the disk."""
        with self.folder(path.parent) as fd:
            yield fd, self.spelled(fd, path.name)

    def look(self, path: WPath) -> Look | None:
        """What is there; None if nothing is.

        Raises:
            OSError: it cannot be looked at (EACCES ...), or a folder on the way is a link (ELOOP).
        """
        try:
            if not path.parts:
                with self.folder(path) as fd:
                    return look_of(os.fstat(fd))
            with self.parent(path) as (fd, name):
                return look_of(os.stat(name, dir_fd=fd, follow_symlinks=False))
        except FileNotFoundError:
            return None
        except NotADirectoryError as error:
            if self._link_on_way(path):
                raise OSError(errno.ELOOP, "a folder on the way is a link", str(path)) from error
            return None

    def _link_on_way(self, path: WPath) -> bool:
        for end in range(1, len(path.parts)):
            host = os.path.join(self.volumes[path.volume], *self.actual(path).parts[:end])
            if os.path.islink(host):
                return True
        return False

    def names(self, path: WPath) -> list[str]:
        """The names in a folder, sorted; empty if it is not there."""
        try:
            with self.folder(path) as fd:
                return sorted(os.listdir(fd))
        except (FileNotFoundError, NotADirectoryError):
            return []

    def read(self, path: WPath, limit: int = 1 << 20) -> bytes:
        """The first `limit` bytes of a regular file.

        Raises:
            OSError: not there, not a regular file, not readable.
        """
        with self.reading(path) as file:
            return file.read(limit)

    def reading(self, path: WPath) -> IO[bytes]:
        """A regular file, opened for reading; no link is followed, not for the last name either.

        Raises:
            OSError: not there, not a regular file, not readable.
        """
        with self.parent(path) as (fd, name):
            return os.fdopen(open_regular(fd, name), "rb")

    def sha256(self, path: WPath) -> str:
        """The SHA-256 of a regular file; no link is followed.

        Raises:
            OSError: as `reading`.
        """
        with self.parent(path) as (fd, name):
            return sha256_at(fd, name)

    def remove_single(self, path: WPath) -> None:
        """Delete one file or link, or a folder that is empty.

        Raises:
            OSError.
        """
        with self.parent(path) as (fd, name):
            if stat.S_ISDIR(os.stat(name, dir_fd=fd, follow_symlinks=False).st_mode):
                os.rmdir(name, dir_fd=fd)
            else:
                os.unlink(name, dir_fd=fd)

    def read_link(self, path: WPath) -> str:
        """Where a symbolic link leads, as written in it."""
        with self.parent(path) as (fd, name):
            return os.readlink(name, dir_fd=fd)

    # -- links on the way -------------------------------------------------------------------------------------

    def resolve(self, path: WPath) -> Resolved:
        """Resolve links on the way (not the last name) that only an administrator can change.

        Raises:
            LinkOnTheWay: a link below a folder that another account can write to.
        """
        return self._resolve(path.volume, path.parts, (), 0)

    def _resolve(self, volume: str, parts: tuple[str, ...], links: tuple[str, ...], depth: int) -> Resolved:
        done: tuple[str, ...] = ()
        fd = os.open(self.volumes[volume], FOLDER_FLAGS)
        try:
            for index, part in enumerate(parts[:-1]):
                name = self.spelled(fd, part)
                try:
                    below = os.open(name, FOLDER_FLAGS, dir_fd=fd)
                except OSError as error:
                    rest = parts[index + 1 :]
                    followed = self._at_link(fd, WPath(self.style, volume, done).child(name), rest, links, depth)
                    missing = error.errno == errno.ENOENT
                    return followed or Resolved(WPath(self.style, volume, done + parts[index:]), links, not missing)
                os.close(fd)
                fd, done = below, (*done, name)
            if not parts:
                return Resolved(WPath(self.style, volume, done), links)
            last = self.spelled(fd, parts[-1])
            return Resolved(WPath(self.style, volume, (*done, last)), links, _there(fd, last))
        finally:
            os.close(fd)

    def _at_link(self, fd: int, link: WPath, rest: tuple[str, ...], links: tuple[str, ...], depth: int) -> Resolved | None:
        """Where a name that could not be stepped into leads, if it is a link that may be followed; None if it is none."""
        try:
            status = os.stat(link.name, dir_fd=fd, follow_symlinks=False)
        except OSError:
            return None
        if not stat.S_ISLNK(status.st_mode):
            return None
        target = os.readlink(link.name, dir_fd=fd)
        self._check_link(link, target, status.st_uid in self._trusted and self.only_admin(link.parent), depth)
        return self._follow(link, target, rest, links, depth)

    def _only_admin(self, status: os.stat_result, path: WPath) -> bool:
        group_safe = not status.st_mode & stat.S_IWGRP or status.st_gid in (0, os.getegid())
        by_mode = status.st_uid in self._trusted and group_safe and not status.st_mode & stat.S_IWOTH
        return by_mode and not self._private(path)

    def only_admin(self, path: WPath) -> bool:
        """Whether a folder, and every folder above it, can be changed by administrators alone."""
        fd = os.open(self.volumes[path.volume], FOLDER_FLAGS)
        try:
            for index in range(len(path.parts) + 1):
                if not self._only_admin(os.fstat(fd), WPath(self.style, path.volume, path.parts[:index])):
                    return False
                if index < len(path.parts):
                    below = os.open(self.spelled(fd, path.parts[index]), FOLDER_FLAGS, dir_fd=fd)
                    os.close(fd)
                    fd = below
            return True
        finally:
            os.close(fd)

    def _check_link(self, link: WPath, target: str, trusted: bool, depth: int) -> None:
        if not trusted:
            raise LinkOnTheWay(f"the folder {link} on the way is a link to {target}, which others than an administrator can change")
        if depth > MAX_LINKS:
            raise LinkOnTheWay(f"too many links on the way at {link}")

    def _follow(self, link: WPath, target: str, rest: tuple[str, ...], links: tuple[str, ...], depth: int) -> Resolved:
        split = self.style.split(target)
        if split is not None:
            volume, base = split
        elif target.startswith("/"):
            raise LinkOnTheWay(f"the link {link} leads out of the workstation, to {target}")
        else:
            volume, base = link.volume, link.parent.parts
            for part in target.split("/"):
                if part == "..":
                    base = base[:-1]
                elif part not in ("", "."):
                    base = (*base, part)
        if volume not in self.volumes:
            raise LinkOnTheWay(f"the link {link} leads to {target}, which is not on this workstation")
        return self._resolve(volume, base + rest, (*links, f"{link} -> {target}"), depth + 1)

    # -- globs ------------------------------------------------------------------------------------------------

    def expand(self, volume: str, pattern: Sequence[str], limit: int = 0) -> Iterator[WPath]:
        """The topmost paths that match a pattern, in order; nothing below a match is listed again.

        Links on the way that only an administrator can change are resolved first.

        Args:
            limit: stop looking after so many matches; 0: never.

        Raises:
            LinkOnTheWay: the fixed part of the pattern leads through a link that others can change.
            OSError: a folder that cannot be read.
        """
        from kleff.workstation.common.matching import expand

        return expand(self, volume, pattern, limit)

    # -- sizes and mounts -------------------------------------------------------------------------------------

    def walk(self, path: WPath, enter: Callable[[WPath, Look], bool] = lambda path, look: True) -> Iterator[tuple[WPath, Look]]:
        """Everything at and below a path, parents first, by descriptors, following no link.

        Args:
            enter: asked of each path once; what is in a folder comes only if it says so.
        """
        look = self.look(path)
        if look is None:
            return
        yield path, look
        if enter(path, look) and look.is_folder:
            with self.folder(path) as fd:
                for names, below in walking.walk(fd, lambda names, look: enter(path.child(*names), look)):
                    yield path.child(*names), below

    def find(self, path: WPath, wanted: Callable[[str], object]) -> Iterator[tuple[WPath, Look]]:
        """Files and links with a wanted name at and below a path; quicker than `walk`, as nothing else is looked at."""
        look = self.look(path)
        if look is None:
            return
        if not look.is_folder:
            if wanted(path.name):
                yield path, look
            return
        with self.folder(path) as fd:
            for names, below in walking.find(fd, wanted):
                yield path.child(*names), below

    def measure(self, path: WPath, processes: int = 2) -> Measure:
        """Count and size what is at and below a path; a large tree in two processes."""
        tally = Tally()
        try:
            if path.parts:
                with self.parent(path) as (fd, name):
                    status = os.stat(name, dir_fd=fd, follow_symlinks=False)
            else:
                status = os.stat(self.volumes[path.volume])
            tally.add(status)
            if stat.S_ISDIR(status.st_mode):
                with self.folder(path) as fd:
                    count(fd, tally, min(processes, os.cpu_count() or 1))
        except FileNotFoundError:
            return Measure(0, 0, 0)
        return Measure(tally.items, tally.files, tally.bytes, tally.privileged)

    def mounts_in(self, path: WPath) -> list[str]:
        """Mount points at or below a path, bind mounts too."""
        look = self.look(path)
        if look is None or not look.is_folder:
            return []
        with self.folder(path) as fd:
            return mounts_below(fd)

    def layered(self, path: WPath) -> bool:
        """Whether a path is a folder of an overlay, which cannot be renamed if it comes from a lower layer."""
        look = self.look(path)
        if look is None or not look.is_folder:
            return False
        with self.folder(path) as fd:
            return mount_type(mount_id(fd)) == "overlay"

    def mount_root(self, path: WPath) -> WPath:
        """The topmost folder, within the workstation, of the mount on which the parent of `path` lies."""
        top = 0
        fd = os.open(self.volumes[path.volume], FOLDER_FLAGS)
        try:
            mount = mount_id(fd)
            for index, part in enumerate(path.parts[:-1]):
                below = os.open(self.spelled(fd, part), FOLDER_FLAGS, dir_fd=fd)
                os.close(fd)
                fd = below
                if mount_id(fd) != mount:
                    mount, top = mount_id(fd), index + 1
        finally:
            os.close(fd)
        return WPath(self.style, path.volume, path.parts[:top])


def _there(fd: int, name: str) -> bool:
    try:
        os.stat(name, dir_fd=fd, follow_symlinks=False)
    except FileNotFoundError:
        return False
    except OSError:
        return True  # who looks at it is told why it cannot be
    return True
