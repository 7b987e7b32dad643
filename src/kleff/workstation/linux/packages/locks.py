"""The locks that dpkg and its front ends hold while they are at work (dpkg(1), FILES; fcntl(2), F_GETLK)."""

from __future__ import annotations

import contextlib
import fcntl
import os
import struct
import time
from collections.abc import Iterator
from pathlib import Path

from kleff.errors import ActionFailed
from kleff.workstation.posix.calls import closing_fd

LOCKS = ("lock-frontend", "lock")
PATIENCE = 120  # seconds


def at_work(root: Path | None) -> str:
    """Who holds one: name and number; "" if nobody does."""
    return next((holder for name in LOCKS if (holder := _holder(root, name))), "")


def wait(root: Path | None) -> None:
    """Let a dpkg that is at work end first: one that a killed run started, or somebody else's.

    Raises:
        ActionFailed: it does not end.
    """
    deadline = time.monotonic() + PATIENCE
    for name in LOCKS:
        while not _free(root, name):
            if time.monotonic() > deadline:
                who = _holder(root, name) or "another program"
                raise ActionFailed(f"{who} is installing or removing packages", remedy="let it end, then resume")
            time.sleep(0.2)


@contextlib.contextmanager
def held(root: Path | None) -> Iterator[None]:
    """Hold them, as dpkg and its front ends do, while one of dpkg's own files is written.

    Raises:
        ActionFailed: another program does not let go of one.
    """
    deadline = time.monotonic() + PATIENCE
    with contextlib.ExitStack() as stack:
        for name in LOCKS:
            fd = _open(root, name)
            if fd is not None:
                stack.enter_context(closing_fd(fd))
                while not _taken(fd):
                    if time.monotonic() > deadline:
                        raise ActionFailed("another program is installing or removing packages", remedy="let it end, then undo again")
                    time.sleep(0.2)
        yield


def _taken(fd: int) -> bool:
    try:
        fcntl.lockf(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    return True


def _open(root: Path | None, name: str) -> int | None:
    try:
        return os.open((root or Path("/")) / "var/lib/dpkg" / name, os.O_RDWR | os.O_NOFOLLOW | os.O_CLOEXEC)
    except OSError:
        return None  # never used yet; dpkg says what else is wrong


def _holder(root: Path | None, name: str) -> str:
    fd = _open(root, name)
    if fd is None:
        return ""
    with closing_fd(fd):
        asked = fcntl.fcntl(fd, fcntl.F_GETLK, struct.pack("hhqqi4x", fcntl.F_WRLCK, os.SEEK_SET, 0, 0, 0))
    kind, _, _, _, pid = struct.unpack("hhqqi4x", asked)
    if kind == fcntl.F_UNLCK:
        return ""
    with contextlib.suppress(OSError):
        return f"{Path(f'/proc/{pid}/comm').read_text().strip()}, number {pid}"
    return f"number {pid}"


def _free(root: Path | None, name: str) -> bool:
    fd = _open(root, name)
    if fd is None:
        return True
    with closing_fd(fd):
        return _taken(fd)
