"""Which files processes have open, by the table of all handles.

Even to be asked what it is, a handle may never answer: see `asking`.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence, Set
from ctypes import sizeof

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import allocated, narrow, number
from kleff.workstation.windows.native.structures import SYSTEM_HANDLE_TABLE_ENTRY_INFO_EX
from kleff.workstation.windows.system.asking import Asking, Pair
from kleff.workstation.windows.system.rights import DEBUG, THIS_PROCESS, switch_on

BEFORE = 16  # bytes: how many there are, and a number without meaning
FIRST, MOST = 1 << 20, 1 << 28  # bytes of the table
LONGEST = 32768  # characters of a path
EXTENDED, NETWORK = "\\\\?\\", "\\\\?\\UNC\\"


class Direct:
    """Implements `Asking` by calls that are made here: where no handle can be waited for."""

    def __init__(self, api: Api) -> None:
        self._api = api

    def paths(self, pairs: Sequence[Pair]) -> Iterator[str | None]:
        for pid, handle in pairs:
            yield path_of(self._api, pid, handle)

    def close(self) -> None:
        """Nothing is kept."""


def opened_files(api: Api, pids: Set[int], asking: Asking) -> Iterator[tuple[int, str | None]]:
    """(number of the process, path) of each file that some processes have open, as far as this account may see it; None for what a handle
    gave no answer to.
    """
    switch_on(api, DEBUG)
    pairs = sorted((entry.UniqueProcessId, entry.HandleValue) for entry in _table(api) if entry.UniqueProcessId in pids)
    for (pid, _), text in zip(pairs, asking.paths(pairs), strict=True):
        if text != "":
            yield pid, text


def path_of(api: Api, pid: int, handle: int) -> str:
    """The path of another process's handle; "" if it is no file on a disk, or is closed, or this account may not ask."""
    copied = bytearray(8)
    try:
        with _process(api, pid) as process:
            api.DuplicateHandle(process, handle, THIS_PROCESS, copied, 0, 0, c.DUPLICATE_SAME_ACCESS)
    except Failed:
        return ""
    try:
        if api.GetFileType(number(copied)) != c.FILE_TYPE_DISK:
            return ""
        text = bytearray(2 * LONGEST)
        api.GetFinalPathNameByHandleW(number(copied), text, LONGEST, 0)
        found = narrow(text)
        return f"\\\\{found.removeprefix(NETWORK)}" if found.startswith(NETWORK) else found.removeprefix(EXTENDED)
    except Failed:
        return ""
    finally:
        api.CloseHandle(number(copied))


def _table(api: Api) -> Iterator[SYSTEM_HANDLE_TABLE_ENTRY_INFO_EX]:
    size = FIRST
    while True:
        with allocated(api.caller, size) as place:
            code = api.code("NtQuerySystemInformation", c.SystemExtendedHandleInformation, place, size, bytearray(4))
            if not code:
                count = number(api.caller.read(place, 8))
                data = api.caller.read(place + BEFORE, count * sizeof(SYSTEM_HANDLE_TABLE_ENTRY_INFO_EX))
                break
        if code != c.STATUS_INFO_LENGTH_MISMATCH or size >= MOST:
            raise Failed("NtQuerySystemInformation", code)
        size *= 4
    for at in range(count):
        yield SYSTEM_HANDLE_TABLE_ENTRY_INFO_EX.from_buffer_copy(data, at * sizeof(SYSTEM_HANDLE_TABLE_ENTRY_INFO_EX))


@contextlib.contextmanager
def _process(api: Api, pid: int) -> Iterator[int]:
    handle = api.OpenProcess(c.PROCESS_DUP_HANDLE, 0, pid)
    try:
        yield handle
    finally:
        api.CloseHandle(handle)
