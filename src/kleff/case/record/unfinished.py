"""What stands on the workstation itself: the lock of a running Kleff, and the mark of an unfinished case."""

from __future__ import annotations

import contextlib
import os
import platform
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec

from kleff.errors import Blocked, Refused, remedy_for
from kleff.workstation.facets import Workstation
from kleff.workstation.host import Busy
from kleff.workstation.this_machine import host

MARK = "unfinished.json"
ROOM = "unfinished.room"  # an earlier mark, in whose place the next is written: that takes no room on a full volume
WORKED = "worked"


class Mark(msgspec.Struct, kw_only=True):
    """The mark of an unfinished case."""

    case: str
    folder: str
    product: str


def _folder(workstation: Workstation) -> Path:
    try:
        host().make_state_folder(workstation.state)  # Kleff's own folder changes nothing else
    except OSError as error:
        raise Refused(
            f"cannot write {workstation.state}: {error.strerror}",
            where=workstation.spec,
            remedy=remedy_for(error, "try again"),
        ) from None
    return workstation.state


@contextmanager
def lock(workstation: Workstation, purpose: str) -> Iterator[int]:
    """Be the only Kleff that changes this workstation. The system drops the lock of a Kleff that is gone.

    Yields:
        As `last_at_work` was before.

    Raises:
        Blocked: another one works; named by its process and machine.
    """
    text = f"process {os.getpid()} on {platform.node()} ({purpose})"
    try:
        with host().lock(_folder(workstation) / "lock", text):
            before = last_at_work(workstation)
            _at_work_now(workstation)
            try:
                yield before
            finally:
                _at_work_now(workstation)
    except Busy as error:
        raise _in_use(str(error), workstation) from None


def last_at_work(workstation: Workstation) -> int:
    """When a Kleff that changes something last began or ended here, in ns: what was planned before is to be looked at anew."""
    try:
        return (workstation.state / WORKED).stat().st_mtime_ns
    except OSError:
        return 0


def _at_work_now(workstation: Workstation) -> None:
    with contextlib.suppress(OSError):  # on a full volume it cannot be made; the lock itself holds all the same
        (workstation.state / WORKED).touch(0o600)


def _in_use(who: str, workstation: Workstation) -> Blocked:
    return Blocked(f"in use by {who or 'another Kleff'}", where=workstation.spec, remedy="wait until it has ended, then try again")


def at_work(workstation: Workstation) -> str | None:
    """Who is at work there now; None if nobody is. A case that is worked on is not an unfinished one."""
    return host().lock_holder(workstation.state / "lock")


def check_free(workstation: Workstation) -> None:
    """Raise `Blocked` if another Kleff is at work there."""
    who = at_work(workstation)
    if who is not None:
        raise _in_use(who, workstation)


def read_mark(workstation: Workstation) -> Mark | None:
    """The unfinished case of this workstation, or None."""
    try:
        return msgspec.json.decode((workstation.state / MARK).read_bytes(), type=Mark)
    except OSError:
        return None
    except msgspec.MsgspecError:
        raise Blocked(
            "the mark of an unfinished case cannot be read", where=str(workstation.state / MARK),
            remedy="look in  kleff cases  for the unfinished case and undo or resume it; then delete this file",
        ) from None  # fmt: skip


def is_of(mark: Mark, case: str, folder: Path) -> bool:
    """Whether a mark is a case's: cases that are kept in different folders may have one name."""
    return mark.case == case and os.path.realpath(mark.folder) == os.path.realpath(folder)


def set_mark(workstation: Workstation, mark: Mark) -> None:
    """Mark a case as unfinished. Where it is marked already nothing is written: on a full volume there may be no room.

    Raises:
        Blocked: there is a mark that cannot be read.
    """
    if read_mark(workstation) == mark:
        return
    folder = _folder(workstation)
    data = msgspec.json.encode(mark)
    try:
        host().write_in_place(folder / ROOM, data)
        (folder / ROOM).replace(folder / MARK)
        host().flush_folder(folder)
    except FileNotFoundError:
        host().write_atomic(folder / MARK, data)


def clear_mark(workstation: Workstation, case: str, folder: Path) -> None:
    """Take the mark away if it is this case's; its room is kept for the next."""
    mark = read_mark(workstation)
    if mark is None or not is_of(mark, case, folder):
        return
    with contextlib.suppress(FileNotFoundError):
        (workstation.state / MARK).replace(workstation.state / ROOM)
    host().flush_folder(workstation.state)
