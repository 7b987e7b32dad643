"""Giving a file another content in one instant: the new one is made whole in the set-aside area, then the two change places.

What comes out of the place is looked at: if it is not what was read before, somebody wrote to it in between, and it is changed back.
Where a system exchanges no files, the old one is moved out of the way first: for an instant nothing stands in its place.
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import stat

from kleff.case.hands import Hands
from kleff.errors import ActionFailed, remedy_for
from kleff.workstation.files.protocol import Folder
from kleff.workstation.paths import Look, WPath

OLD = ".old"  # behind the new one's name: the old one, while the two change places in three steps
NO_EXCHANGE = errno.EOPNOTSUPP


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
    files, after = hands.workstation.files, sha256_of(data)
    try:
        hands.area.make({aside.parent})
        with files.folder(aside.parent) as area, files.parent(place) as (folder, name):
            _finish_exchange(area, aside.name, folder, name, after)
            with contextlib.suppress(FileNotFoundError):
                area.remove(aside.name)  # of a try that was cut off
            if _marks(folder.look_at(name)) != _marks(look):
                raise _written_to(place)
            _make(folder, name, area, aside.name, data, look, times)
            _exchange(area, aside.name, folder, name, after)
            if area.look_at(aside.name).identity != look.identity or not _is(area, aside.name, before):
                _exchange(area, aside.name, folder, name, after)
                area.remove(aside.name)
                raise _written_to(place)
            folder.flush()
            with contextlib.suppress(OSError):  # the file has its new content; whoever looks again takes the old one away
                area.remove(aside.name)
                area.flush()
    except OSError as error:
        if (kept := files.look(aside.parent.child(aside.name + OLD))) is not None and kept.is_file:
            what = f"{place} was made anew by another program in that instant; what it held before lies in {aside}{OLD}"
            raise ActionFailed(what, remedy="put both together by hand") from None
        raise ActionFailed(f"{place} cannot be changed: {error.strerror}", remedy=remedy_for(error)) from None


def _marks(look: Look) -> tuple[object, ...]:
    """What tells that a file is still the one that was read: its copy is given its owner and rights."""
    return look.identity, look.mode, look.uid, look.gid, look.size, look.times[1]


def _written_to(place: WPath) -> ActionFailed:
    return ActionFailed(f"{place} was changed by another program a moment ago; it is as that left it", remedy="look what writes to it")


def settle(hands: Hands, place: WPath, aside: WPath, before: str, after: str, folder_times: tuple[int, int] | None = None) -> bool | None:
    """After a kill: whether the file has its new content; None if it has neither. What lies in the area of it goes.

    Args:
        folder_times: of the folder it stands in, given back where the file has to be put back there.
    """
    files = hands.workstation.files
    if files.look(aside.parent.child(aside.name + OLD)) is not None:
        with files.folder(aside.parent) as area, files.parent(place) as (folder, name):
            _finish_exchange(area, aside.name, folder, name, after)
            if folder_times:
                folder.set_times(folder_times)
    if files.look(aside) is not None:
        with files.folder(aside.parent) as area, files.parent(place) as (folder, name):
            if not _is(area, aside.name, before) and not _is(area, aside.name, after):
                if not _is(folder, name, after):
                    # Made in part, and never put in place.
                    area.remove(aside.name)
                    return False if _is(folder, name, before) else None
                _exchange(area, aside.name, folder, name, after)  # what another program had written in that instant
            area.remove(aside.name)
    try:
        with files.parent(place) as (folder, name):
            return True if _is(folder, name, after) else False if _is(folder, name, before) else None
    except OSError:
        return None


def _exchange(area: Folder, new: str, folder: Folder, name: str, after: str) -> None:
    """Have two files change places, in one instant where the system can."""
    try:
        area.exchange(new, folder, name)
    except OSError as error:
        if error.errno != NO_EXCHANGE:
            raise
        folder.rename(name, area, new + OLD)
        area.flush()
        try:
            area.rename(new, folder, name)
        except OSError:
            _finish_exchange(area, new, folder, name, after)
            raise
        folder.flush()
        area.rename(new + OLD, area, new)


def _finish_exchange(area: Folder, new: str, folder: Folder, name: str, after: str) -> None:
    """Bring three steps that were cut off to one end or the other. Where somebody has made another file in the place since, both stay."""
    if not _there(area, new + OLD):
        return
    if not _there(folder, name):
        area.rename(new + OLD, folder, name)
        folder.flush()
    elif not _there(area, new) and _is(folder, name, after):
        area.rename(new + OLD, area, new)


def _there(folder: Folder, name: str) -> bool:
    with contextlib.suppress(FileNotFoundError):
        folder.look_at(name)
        return True
    return False


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
