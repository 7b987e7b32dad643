"""A workstation's file tree, worked on by descriptors that follow no link."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from kleff.errors import Refused
from kleff.procedure.globs import PathStyle, fold, is_glob, literal, name_matches
from kleff.workstation.common.posix import FOLDER_FLAGS, closing_fd, host_path, mount_id, mount_points
from kleff.workstation.paths import Look, WPath, look_of

PRIVILEGED = stat.S_ISUID | stat.S_ISGID
MAX_LINKS = 40  # as the kernel's own limit, path_resolution(7)


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
    """A path whose links on the way are resolved; `links` names each and where it led."""

    path: WPath
    links: tuple[str, ...] = ()


class LinkOnTheWay(Refused):
    """A folder on the way is a link that somebody other than an administrator can change."""


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
                names.append(self._spelled(fd, part))
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

    def _spelled(self, fd: int, name: str) -> str:
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

    @contextlib.contextmanager
    def folder(self, path: WPath) -> Iterator[int]:
        """An open descriptor of a folder; every step is opened relative to the one before and follows no link.

        Raises:
            OSError: ENOENT, or ENOTDIR/ELOOP where a step is no folder or a link.
        """
        fd = os.open(self.volumes[path.volume], FOLDER_FLAGS)
        try:
            for part in path.parts:
                below = os.open(self._spelled(fd, part), FOLDER_FLAGS, dir_fd=fd)
                os.close(fd)
                fd = below
            yield fd
        finally:
            os.close(fd)

    @contextlib.contextmanager
    def parent(self, path: WPath) -> Iterator[tuple[int, str]]:
        """The open parent folder of a path, and the name spelled as on the disk."""
        with self.folder(path.parent) as fd:
            yield fd, self._spelled(fd, path.name)

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
            flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
            file = os.open(name, flags, dir_fd=fd)
        if not stat.S_ISREG(os.fstat(file).st_mode):
            os.close(file)
            raise OSError(errno.EINVAL, "not a regular file", str(path))
        return os.fdopen(file, "rb")

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
        trusted = True
        fd = os.open(self.volumes[volume], FOLDER_FLAGS)
        try:
            for index, part in enumerate(parts[:-1]):
                here = WPath(self.style, volume, done)
                trusted = trusted and self._only_admin(os.fstat(fd), here)
                name = self._spelled(fd, part)
                try:
                    status = os.stat(name, dir_fd=fd, follow_symlinks=False)
                except OSError:
                    return Resolved(WPath(self.style, volume, done + parts[index:]), links)
                if stat.S_ISLNK(status.st_mode):
                    target = os.readlink(name, dir_fd=fd)
                    link = here.child(name)
                    self._check_link(link, target, trusted and status.st_uid in self._trusted, depth)
                    return self._follow(link, target, parts[index + 1 :], links, depth)
                if not stat.S_ISDIR(status.st_mode):
                    return Resolved(WPath(self.style, volume, done + parts[index:]), links)
                below = os.open(name, FOLDER_FLAGS, dir_fd=fd)
                os.close(fd)
                fd, done = below, (*done, name)
            last = (self._spelled(fd, parts[-1]),) if parts else ()
            return Resolved(WPath(self.style, volume, done + last), links)
        finally:
            os.close(fd)

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
                    below = os.open(self._spelled(fd, path.parts[index]), FOLDER_FLAGS, dir_fd=fd)
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

    def expand(self, volume: str, pattern: Sequence[str]) -> Iterator[WPath]:
        """The topmost paths that match a pattern, in order; nothing below a match is listed again.

        Links on the way that only an administrator can change are resolved first.

        Raises:
            LinkOnTheWay: the fixed part of the pattern leads through a link that others can change.
            OSError: a folder that cannot be read.
        """
        fixed = 0
        while fixed < len(pattern) and not is_glob(pattern[fixed]):
            fixed += 1
        names = tuple(literal(p) for p in pattern[:fixed])
        if fixed == len(pattern):
            path = self.resolve(WPath(self.style, volume, names)).path
            if self.look(path) is not None:
                yield path
            return
        base = self.resolve(WPath(self.style, volume, (*names, "-"))).path.parent
        look = self.look(base)
        if look is not None and look.is_link:
            raise LinkOnTheWay(f"the folder {base} on the way is a link to {self.read_link(base)}")
        found = sorted(set(self._matches(base, tuple(pattern[fixed:]))), key=lambda p: p.parts)
        last: WPath | None = None
        for path in found:
            if last is None or not path.below(last):
                last = path
                yield path

    def _matches(self, base: WPath, pattern: tuple[str, ...]) -> Iterator[WPath]:
        head, rest = pattern[0], pattern[1:]
        if head == "**" and rest:
            yield from self._matches(base, rest)
        for name in self.names(base):
            path = base.child(name)
            if head == "**":
                if not rest:
                    yield path
                elif self._is_folder(path):
                    yield from self._matches(path, pattern)
            elif name_matches(head, name, self.style.folded):
                if not rest:
                    yield path
                elif self._is_folder(path):
                    yield from self._matches(path, rest)

    def _is_folder(self, path: WPath) -> bool:
        look = self.look(path)
        return look is not None and look.is_folder

    # -- sizes and mounts -------------------------------------------------------------------------------------

    def walk(self, path: WPath) -> Iterator[tuple[WPath, Look]]:
        """Everything at and below a path, parents first, by descriptors, following no link."""
        look = self.look(path)
        if look is None:
            return
        yield path, look
        if look.is_folder:
            with self.folder(path) as fd:
                yield from self._walk(fd, path)

    def _walk(self, fd: int, path: WPath) -> Iterator[tuple[WPath, Look]]:
        with os.scandir(fd) as found:
            entries = sorted(found, key=lambda e: e.name)
        for entry in entries:
            look = look_of(entry.stat(follow_symlinks=False))
            below = path.child(entry.name)
            yield below, look
            if look.is_folder:
                with closing_fd(os.open(entry.name, FOLDER_FLAGS, dir_fd=fd)) as inner:
                    yield from self._walk(inner, below)

    def measure(self, path: WPath) -> Measure:
        """Count and size what is at and below a path."""
        look = self.look(path)
        if look is None:
            return Measure(0, 0, 0)
        tally = _Tally()
        tally.add(look.mode, look.size, look.links, look.identity)
        if look.is_folder:
            with self.folder(path) as fd:
                tally.scan(fd)
        return Measure(tally.items, tally.files, tally.size, tally.privileged)

    def mounts_in(self, path: WPath) -> list[str]:
        """Mount points at or below a path, bind mounts too."""
        look = self.look(path)
        if look is None or not look.is_folder:
            return []
        with self.folder(path) as fd:
            here = host_path(fd)
        return [p for p in mount_points() if p == here or p.startswith(here.rstrip("/") + "/")]

    def mount_root(self, path: WPath) -> WPath:
        """The topmost folder, within the workstation, of the mount on which the parent of `path` lies."""
        top = 0
        fd = os.open(self.volumes[path.volume], FOLDER_FLAGS)
        try:
            mount = mount_id(fd)
            for index, part in enumerate(path.parts[:-1]):
                below = os.open(self._spelled(fd, part), FOLDER_FLAGS, dir_fd=fd)
                os.close(fd)
                fd = below
                if mount_id(fd) != mount:
                    mount, top = mount_id(fd), index + 1
        finally:
            os.close(fd)
        return WPath(self.style, path.volume, path.parts[:top])


class _Tally:
    def __init__(self) -> None:
        self.items = self.files = self.size = self.privileged = 0
        self._linked: set[tuple[int, int]] = set()

    def add(self, mode: int, size: int, links: int, identity: tuple[int, int]) -> None:
        self.items += 1
        if stat.S_ISREG(mode):
            self.files += 1
            self.privileged += mode & PRIVILEGED != 0
            if links > 1:
                if identity in self._linked:
                    return
                self._linked.add(identity)
            self.size += size

    def scan(self, fd: int) -> None:
        folders = []
        with os.scandir(fd) as entries:
            for entry in entries:
                status = entry.stat(follow_symlinks=False)
                self.add(status.st_mode, status.st_size, status.st_nlink, (status.st_dev, status.st_ino))
                if stat.S_ISDIR(status.st_mode):
                    folders.append(entry.name)
        for name in folders:
            with closing_fd(os.open(name, FOLDER_FLAGS, dir_fd=fd)) as below:
                self.scan(below)
