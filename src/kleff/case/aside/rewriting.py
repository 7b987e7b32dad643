"""Giving a file another content in one instant: the new one is made whole in the set-aside area, then the two change places.

What comes out of the place is looked at: if it is not what was read before, somebody wrote to it in between, and it is changed back.
"""

from __future__ import annotations

import contextlib
import hashlib
import stat

from kleff.case.hands import Hands
from kleff.errors import ActionFailed, remedy_for
from kleff.workstation.files.protocol import Folder
from kleff.workstation.paths import Look, WPath


def sha256_of(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def rewrite(hands: Hands, place: WPath, aside: WPath, look: Look, before: str, data: bytes, times: tuple[int, int] | None = None) -> None:
    """Give a file another content, on disk when this returns; who else reads it sees the one or the other.

    Args:
        aside: where in the set-aside area the new one is made; journaled by now.
        look: at the file that was read; before: SHA-256 of what it held.
        times: that it is to have; None for the time of day.

    Raises:
        ActionFailed: it has changed a moment ago, or the system says no; it is as it was.
    """
    files = hands.workstation.files
    try:
        hands.area.make({aside.parent})
        with files.folder(aside.parent) as area, files.parent(place) as (folder, name):
            with contextlib.suppress(FileNotFoundError):
                area.remove(aside.name)  # of a try that was cut off
            if _marks(folder.look_at(name)) != _marks(look):
                raise _written_to(place)
            _make(folder, name, area, aside.name, data, look, times)
            area.exchange(aside.name, folder, name)
            if area.look_at(aside.name).identity != look.identity or not _is(area, aside.name, before):
                area.exchange(aside.name, folder, name)
                area.remove(aside.name)
                raise _written_to(place)
            folder.flush()
            area.remove(aside.name)
            area.flush()
    except OSError as error:
        raise ActionFailed(f"{place} cannot be changed: {error.strerror}", remedy=remedy_for(error)) from None


def _marks(look: Look) -> tuple[object, ...]:
    """What tells that a file is still the one that was read: its copy is given its owner and rights."""
    return look.identity, look.mode, look.uid, look.gid, look.size, look.times[1]


def _written_to(place: WPath) -> ActionFailed:
    return ActionFailed(f"{place} was changed by another program a moment ago; it is as that left it", remedy="look what writes to it")


def settle(hands: Hands, place: WPath, aside: WPath, before: str, after: str) -> bool | None:
    """After a kill: whether the file has its new content; None if it has neither. What lies in the area of it goes."""
    files = hands.workstation.files
    if files.look(aside) is not None:
        with files.folder(aside.parent) as area, files.parent(place) as (folder, name):
            if not _is(area, aside.name, before) and not _is(area, aside.name, after):
                if not _is(folder, name, after):
                    # Made in part, and never put in place.
                    area.remove(aside.name)
                    return False if _is(folder, name, before) else None
                area.exchange(aside.name, folder, name)  # what another program had written in that instant
            area.remove(aside.name)
    try:
        with files.parent(place) as (folder, name):
            return True if _is(folder, name, after) else False if _is(folder, name, before) else None
    except OSError:
        return None


def _make(folder: Folder, name: str, area: Folder, new: str, data: bytes, look: Look, times: tuple[int, int] | None) -> None:
    """A file with that content, and owner, permissions and attributes of another."""
    with folder.file(name) as old:
        attributes = old.attributes()
    file = area.create(new)
    try:
        file.write(data)
        file.set_owner(look.uid, look.gid)
        file.set_mode(stat.S_IMODE(look.mode))
        for key, value in attributes.items():
            file.set_attribute(key, value)
        if times:
            file.set_times(times)
        file.flush()
    finally:
        file.close()


def _is(folder: Folder, name: str, sha256: str) -> bool:
    with contextlib.suppress(OSError):
        return folder.sha256(name) == sha256
    return False
