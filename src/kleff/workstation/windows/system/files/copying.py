"""Copies of files and folders, with what belongs to them, read back before they count."""

from __future__ import annotations

import errno
import hashlib
from collections.abc import Callable
from typing import Protocol, cast

from kleff.workstation.files.protocol import Folder
from kleff.workstation.paths import Look
from kleff.workstation.windows.system.files.nt import PIECE
from kleff.workstation.windows.system.files.security import ATTRIBUTE as SECURITY


class Dressing(Folder, Protocol):
    """A folder that can give what belongs to a thing in it."""

    def dress(self, name: str, attributes: dict[str, bytes], times: tuple[int, int]) -> None: ...


class Removing(Folder, Protocol):
    """A folder from which a file goes only if it is a certain one."""

    def remove_same(self, name: str, sha256: str) -> bool: ...


def copy_file(folder: Folder, name: str, to: Folder, to_name: str, look: Look) -> str:
    """See `Folder.copy_file`."""
    made = hashlib.sha256()
    with folder.file(name) as source:
        now = source.look()
        if (now.identity, now.size, now.times[1]) != (look.identity, look.size, look.times[1]):
            raise OSError(errno.ESTALE, "has changed since it was looked at", name)
        target = to.create(to_name)
        try:
            while piece := source.read(PIECE):
                made.update(piece)
                target.write(piece)
            for attribute, value in sorted(source.attributes().items(), key=lambda one: one[0] == SECURITY):
                target.set_attribute(attribute, value)  # who may, last: it may be nobody
            target.set_times(look.times)
            target.flush()
        finally:
            target.close()
    return made.hexdigest()


def copy_tree(folder: Folder, name: str, to: Dressing, to_name: str, told: Callable[[int, int], None]) -> None:
    """See `Folder.copy_tree`."""
    look = folder.look_at(name)
    if look.is_file:
        copied = copy_file(folder, name, to, to_name, look)
        if to.sha256(to_name) != copied:
            raise OSError(errno.EIO, "was not written as it was read", to_name)
        told(1, look.size)
        return
    if not look.is_folder:
        raise OSError(errno.EOPNOTSUPP, "is a link, which is not copied on Windows", name)
    to.make_folder(to_name)
    told(1, 0)
    with folder.folder(name) as source, to.folder(to_name) as target:
        for below in source.names():
            copy_tree(source, below, cast(Dressing, target), below, told)
    with folder.folder(name) as source:
        to.dress(to_name, source.attributes(), look.times)


def delete_copied(folder: Removing, name: str, to: Folder, to_name: str) -> list[str]:
    """See `Folder.delete_copied`."""
    look = folder.look_at(name)
    if not look.is_folder:
        return [] if look.is_file and folder.remove_same(name, to.sha256(to_name)) else [name]
    left: list[str] = []
    with folder.folder(name) as source, to.folder(to_name) as copy:
        there = set(copy.names())
        for below in source.names():
            stays = delete_copied(cast(Removing, source), below, copy, below) if below in there else [below]
            left += [f"{name}\\{one}" for one in stays]
    if not left:
        folder.remove_if_empty(name)
    return left
