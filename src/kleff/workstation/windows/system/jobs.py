"""Programs in a job of their own: an uninstaller that hands over to a copy of itself and ends is followed to the end of the copy too.

What the installer service does on behalf of a program is no child of it, and is watched beside it.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from ctypes import sizeof
from typing import NamedTuple

from kleff.workstation.windows.command_lines import behind
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import number, wide
from kleff.workstation.windows.native.structures import (
    JOBOBJECT_ASSOCIATE_COMPLETION_PORT,
    JOBOBJECT_BASIC_ACCOUNTING_INFORMATION,
    PROCESS_INFORMATION,
    SECURITY_ATTRIBUTES,
    STARTUPINFOW,
)
from kleff.workstation.windows.system.moments import started

NONE = (1 << 64) - 1  # INVALID_HANDLE_VALUE
LONGEST_WAIT = 1000  # milliseconds for which a call waits; then it is made again
MOST_TOLD = 64  # processes


class Streams(NamedTuple):
    """Handles that a program inherits; 0 where it gets none."""

    says: int
    complains: int
    reads: int = 0


class Job:
    """A program that was started, with all it starts; to be closed.

    Attributes:
        pid, started: of the program itself, by which a later run finds it; seconds since 1601.
    """

    def __init__(self, api: Api, job: int, port: int, process: int, pid: int) -> None:
        self._api = api
        self._job, self._port, self._process = job, port, process
        self._over = False
        self.pid, self.started = pid, started(api, process)

    @property
    def code(self) -> int | None:
        """How the program itself ended, all 32 bits of it; None while it runs."""
        if self._api.WaitForSingleObject(self._process, 0) == c.WAIT_TIMEOUT:
            return None
        code = bytearray(4)
        self._api.GetExitCodeProcess(self._process, code)
        return number(code)

    @property
    def running(self) -> list[int]:
        """The numbers of all of it that still runs, some tens at most (JOBOBJECT_BASIC_PROCESS_ID_LIST)."""
        told = bytearray(8 + 8 * MOST_TOLD)
        with contextlib.suppress(Failed):  # more than that
            self._api.QueryInformationJobObject(self._job, c.JobObjectBasicProcessIdList, told, len(told), None)
        count = number(told[4:8])
        return [number(told[8 * at : 8 * at + 8]) for at in range(1, count + 1)]

    @property
    def busy(self) -> bool:
        """Whether it, or anything it has started, still runs."""
        told = JOBOBJECT_BASIC_ACCOUNTING_INFORMATION()
        self._api.QueryInformationJobObject(self._job, c.JobObjectBasicAccountingInformation, told, sizeof(told), None)
        return bool(told.ActiveProcesses)

    def ended(self, seconds: float) -> bool:
        """Wait until the program itself has ended; whether it has."""
        deadline = time.monotonic() + seconds
        while self.code is None:
            left = int(1000 * (deadline - time.monotonic()))
            if left <= 0:
                return False
            self._api.WaitForSingleObject(self._process, min(left, LONGEST_WAIT))
        return True

    def wait(self, seconds: float) -> bool:
        """Wait until nothing of it runs any more; whether that is so."""
        deadline = time.monotonic() + seconds
        while not self._over and self.busy:
            left = int(1000 * (deadline - time.monotonic()))
            if left <= 0:
                return False
            message, key, other = bytearray(4), bytearray(8), bytearray(8)
            with contextlib.suppress(Failed):  # nothing was told in this time
                self._api.GetQueuedCompletionStatus(self._port, message, key, other, min(left, LONGEST_WAIT))
                self._over = number(message) == c.JOB_OBJECT_MSG_ACTIVE_PROCESS_ZERO
        self._over = True
        return True

    def close(self) -> None:
        """Let go of it; what runs goes on."""
        for handle in (self._process, self._port, self._job):
            self._api.CloseHandle(handle)


def start(
    api: Api, argv: Sequence[str], streams: Streams, environment: Mapping[str, str], line: str = "",
    known: Callable[[Job], None] = lambda job: None,
) -> Job:  # fmt: skip
    """Start a program without a shell and without a window.

    Args:
        argv: its path, and its arguments as texts.
        streams: what it reads and where what it says goes.
        environment: all of its variables.
        line: what stands behind it before the arguments, as it stands.
        known: is told of it before it does anything.

    Raises:
        Failed: it cannot be started.
    """
    job = api.CreateJobObjectW(None, None)
    port = api.CreateIoCompletionPort(NONE, None, 0, 1)
    told = JOBOBJECT_ASSOCIATE_COMPLETION_PORT(CompletionKey=job, CompletionPort=port)
    api.SetInformationJobObject(job, c.JobObjectAssociateCompletionPortInformation, told, sizeof(told))
    made = PROCESS_INFORMATION()
    _created(api, argv, line, streams, environment, made)
    try:
        api.AssignProcessToJobObject(job, made.hProcess)
        one = Job(api, job, port, made.hProcess, made.dwProcessId)
        known(one)
        api.ResumeThread(made.hThread)
    except BaseException:
        api.TerminateProcess(made.hProcess, 1)  # it has done nothing yet
        raise
    finally:
        api.CloseHandle(made.hThread)
    return one


def _created(api: Api, argv: Sequence[str], line: str, streams: Streams, environment: Mapping[str, str], made: PROCESS_INFORMATION) -> None:
    given = {"hStdInput": streams.reads, "hStdOutput": streams.says, "hStdError": streams.complains}
    how = STARTUPINFOW(cb=sizeof(STARTUPINFOW), dwFlags=c.STARTF_USESTDHANDLES, **given)
    whole = bytearray(wide(f'"{argv[0]}" {behind(line, argv[1:])}'.rstrip()))
    variables = wide("".join(f"{name}={text}\0" for name, text in sorted(environment.items(), key=lambda one: one[0].upper())))
    flags = c.CREATE_SUSPENDED | c.CREATE_NO_WINDOW | c.CREATE_UNICODE_ENVIRONMENT
    api.CreateProcessW(argv[0], whole, None, None, 1, flags, variables, None, how, made)


@contextlib.contextmanager
def new_file(api: Api, path: str) -> Iterator[int]:
    """A new file that a program may inherit, for all that it says."""
    how = SECURITY_ATTRIBUTES(nLength=sizeof(SECURITY_ATTRIBUTES), bInheritHandle=1)
    file = api.CreateFileW(path, c.GENERIC_WRITE, c.FILE_SHARE_READ, how, c.CREATE_NEW, 0, None)
    try:
        yield file
    finally:
        api.CloseHandle(file)
