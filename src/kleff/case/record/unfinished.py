"""What stands on the workstation itself: the lock of a running Kleff, and the mark of an unfinished case."""

from __future__ import annotations

import contextlib
import fcntl
import os
import platform
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec

from kleff.errors import Blocked, Refused
from kleff.workstation.common.posix import sync_folder, write_atomic
from kleff.workstation.facets import Workstation


class Mark(msgspec.Struct, kw_only=True):
    """The mark of an unfinished case."""

    case: str
    folder: str
    product: str


def _folder(workstation: Workstation) -> Path:
    above = workstation.state.parent
    try:
        before = above.stat() if above.is_dir() else None
        workstation.state.mkdir(parents=True, exist_ok=True, mode=0o700)
        if before is not None and above.stat().st_mtime_ns != before.st_mtime_ns:
            os.utime(above, ns=(before.st_atime_ns, before.st_mtime_ns))  # Kleff's own folder changes nothing else
    except OSError as error:
        raise Refused(
            f"cannot write {workstation.state}: {error.strerror}", where=workstation.spec, remedy="run Kleff as administrator"
        ) from None
    return workstation.state


@contextmanager
def lock(workstation: Workstation, purpose: str) -> Iterator[None]:
    """Be the only Kleff that changes this workstation. The system drops the lock of a Kleff that is gone.

    Raises:
        Blocked: another one works; named by its process and machine.
    """
    file = _folder(workstation) / "lock"
    fd = os.open(file, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
    try:
        try:
            fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            owner = os.pread(fd, 400, 0).decode("utf-8", "replace").strip() or "another Kleff"
            raise Blocked(f"in use by {owner}", where=workstation.spec, remedy="wait until it has ended, then try again") from None
        os.ftruncate(fd, 0)
        os.pwrite(fd, f"process {os.getpid()} on {platform.node()} ({purpose})".encode(), 0)
        yield
    finally:
        os.close(fd)


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
    write_atomic(_folder(workstation) / "unfinished.json", msgspec.json.encode(mark))


def clear_mark(workstation: Workstation, case: str) -> None:
    """Take the mark away if it is this case's."""
    mark = read_mark(workstation)
    if mark is not None and mark.case == case:
        with contextlib.suppress(FileNotFoundError):
            (workstation.state / "unfinished.json").unlink()
        sync_folder(workstation.state)
