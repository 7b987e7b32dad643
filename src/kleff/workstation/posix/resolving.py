"""Where a path leads if links on its way are followed: only those that nobody but an administrator could have made."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Mapping
from pathlib import Path
from typing import Protocol

from kleff.errors import LinkOnTheWay
from kleff.procedure.globs import PathStyle
from kleff.workstation.paths import Resolved, WPath
from kleff.workstation.posix.calls import FOLDER_FLAGS, open_volume

MAX_LINKS = 40  # as the kernel's own limit, path_resolution(7)


class Tree(Protocol):
    """What resolving asks of the tree."""

    @property
    def style(self) -> PathStyle: ...

    @property
    def volumes(self) -> Mapping[str, Path]: ...

    def spelled_in(self, fd: int, name: str) -> str: ...

    def only_admin(self, path: WPath) -> bool: ...

    def trusts(self, owner: int) -> bool: ...


class Resolving:
    """Implements `FileTree.resolve`."""

    def __init__(self, tree: Tree) -> None:
        self._tree = tree

    def resolve(self, path: WPath) -> Resolved:
        return self._resolve(path.volume, path.parts, (), 0)

    def _resolve(self, volume: str, parts: tuple[str, ...], links: tuple[str, ...], depth: int) -> Resolved:
        done: tuple[str, ...] = ()
        fd = open_volume(self._tree.volumes[volume])
        try:
            for index, part in enumerate(parts[:-1]):
                name = self._tree.spelled_in(fd, part)
                try:
                    below = os.open(name, FOLDER_FLAGS, dir_fd=fd)
                except OSError as error:
                    rest = parts[index + 1 :]
                    followed = self._at_link(fd, WPath(self._tree.style, volume, done).child(name), rest, links, depth)
                    missing = error.errno == errno.ENOENT
                    return followed or Resolved(WPath(self._tree.style, volume, done + parts[index:]), links, not missing)
                os.close(fd)
                fd, done = below, (*done, name)
            if not parts:
                return Resolved(WPath(self._tree.style, volume, done), links)
            last = self._tree.spelled_in(fd, parts[-1])
            return Resolved(WPath(self._tree.style, volume, (*done, last)), links, _there(fd, last))
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
        self._check_link(link, target, self._tree.trusts(status.st_uid) and self._tree.only_admin(link.parent), depth)
        return self._follow(link, target, rest, links, depth)

    def _check_link(self, link: WPath, target: str, trusted: bool, depth: int) -> None:
        if not trusted:
            raise LinkOnTheWay(f"the folder {link} on the way is a link to {target}, which others than an administrator can change")
        if depth > MAX_LINKS:
            raise LinkOnTheWay(f"too many links on the way at {link}")

    def _follow(self, link: WPath, target: str, rest: tuple[str, ...], links: tuple[str, ...], depth: int) -> Resolved:
        split = self._tree.style.split(target)
        if split is not None:
            volume, base = split
        elif target.startswith("/"):
            raise LinkOnTheWay(f"the link {link} leads out of the workstation, to {target}")
        else:
            volume, base = link.volume, link.parent.walked(target).parts
        if volume not in self._tree.volumes:
            raise LinkOnTheWay(f"the link {link} leads to {target}, which is not on this workstation")
        return self._resolve(volume, base + rest, (*links, f"{link} -> {target}"), depth + 1)


def _there(fd: int, name: str) -> bool:
    try:
        os.stat(name, dir_fd=fd, follow_symlinks=False)
    except FileNotFoundError:
        return False
    except OSError:
        return True  # who looks at it is told why it cannot be
    return True
