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
def lock(workstation: Workstation, purpose: str) -> Iterator[None]:
    """Be the only Kleff that changes this workstation. The system drops the lock of a Kleff that is gone.

    Raises:
        Blocked: another one works; named by its process and machine.
    """
    text = f"process {os.getpid()} on {platform.node()} ({purpose})"
    try:
        with host().lock(_folder(workstation) / "lock", text):
            yield
    except Busy as error:
        raise _in_use(str(error), workstation) from None


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
        return msgspec.json.decode((workstation.state / "unfinished.json").read_bytes(), type=Mark)
    except OSError:
        return None
    except msgspec.MsgspecError:
        raise Blocked(
            "the mark of an unfinished case cannot be read", where=str(workstation.state / "unfinished.json"),
            remedy="look in  kleff cases  for the unfinished case and undo or resume it; then delete this file",
        ) from None  # fmt: skip


def set_mark(workstation: Workstation, mark: Mark) -> None:
    host().write_atomic(_folder(workstation) / "unfinished.json", msgspec.json.encode(mark))


def clear_mark(workstation: Workstation, case: str) -> None:
    """Take the mark away if it is this case's."""
    mark = read_mark(workstation)
    if mark is not None and mark.case == case:
        with contextlib.suppress(FileNotFoundError):
            (workstation.state / "unfinished.json").unlink()
        host().flush_folder(workstation.state)
