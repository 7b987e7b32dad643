"""The processes of a running Windows, by a snapshot of the system; more of each where this account may ask for it."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Collection, Iterator, Sequence
from ctypes import sizeof
from dataclasses import dataclass

from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath
from kleff.workstation.things import Process
from kleff.workstation.windows.command_lines import split_command
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import narrow, number
from kleff.workstation.windows.native.structures import (
    IO_COUNTERS,
    PROCESS_BASIC_INFORMATION,
    PROCESSENTRY32W,
)
from kleff.workstation.windows.system.asking import Asking
from kleff.workstation.windows.system.handles import Direct, opened_files
from kleff.workstation.windows.system.moments import started, worked
from kleff.workstation.windows.system.ports import listeners
from kleff.workstation.windows.system.service_processes import services_by_process
from kleff.workstation.windows.system.tokens import Names, user_of
from kleff.workstation.windows.system.windows import ask_to_close, titles

SYSTEM_S_OWN = (0, 4)  # the idle process and the kernel
LONGEST = 32768  # characters of a path
PARAMETERS, COMMAND_LINE = 0x20, 0x70  # places in the process environment block and its parameters, on 64 bits
PATIENCE = 5000  # milliseconds for a process that was ended to be gone


@dataclass
class _Entry:
    """A process as the snapshot tells it."""

    pid: int
    parent: int
    name: str


class WindowsProcesses:
    """Implements `Processes`. Args: asking: asks handles of others."""

    def __init__(self, api: Api, files: FileTree, asking: Asking | None = None) -> None:
        self._api = api
        self._asking = asking or Direct(api)
        self._silent: set[int] = set()
        self._files = files
        self._names = Names(api)

    def all(self) -> list[Process]:
        shown = titles(self._api)
        return [self._process(entry, shown.get(entry.pid, "")) for entry in self._entries()]

    def protected(self) -> set[int]:
        """The system's own, this process and those it came from."""
        parents = {entry.pid: entry.parent for entry in self._entries()}
        own, pid = set(SYSTEM_S_OWN), os.getpid()
        while pid and pid not in own:
            own.add(pid)
            pid = parents.get(pid, 0)
        return own

    # -- ending -----------------------------------------------------------------------------------------------

    def ask_to_end(self, process: Process) -> None:
        if self._is_same(process):
            ask_to_close(self._api, process.pid)

    def end(self, process: Process) -> None:
        """Raises: Failed: this account may not."""
        try:
            with self._opened(process.pid, c.PROCESS_TERMINATE | c.PROCESS_QUERY_LIMITED_INFORMATION | c.SYNCHRONIZE) as handle:
                if started(self._api, handle) == process.started and self._api.WaitForSingleObject(handle, 0) == c.WAIT_TIMEOUT:
                    self._api.TerminateProcess(handle, 1)
                    self._api.WaitForSingleObject(handle, PATIENCE)
        except Failed as failed:
            if failed.code != c.ERROR_INVALID_PARAMETER:  # there is no such process any more
                raise

    def _is_same(self, process: Process) -> bool:
        """Whether the number is still that process's."""
        with contextlib.suppress(Failed), self._opened(process.pid, c.PROCESS_QUERY_LIMITED_INFORMATION) as handle:
            return started(self._api, handle) == process.started
        return False

    # -- what they hold ---------------------------------------------------------------------------------------

    def listening(self, port: int) -> list[int]:
        return sorted({pid for pid, at in listeners(self._api) if at == port and pid})

    def unit_of(self, process: Process) -> str | None:
        return None

    def service_of(self, process: Process) -> str | None:
        return next((name for name, pid in services_by_process(self._api) if pid == process.pid), None)

    def opened(self, process: Process) -> list[str]:
        return [text for pid, text in opened_files(self._api, {process.pid}, self._asking) if pid == process.pid and text is not None]

    def holders(self, places: Sequence[WPath]) -> list[tuple[Process, str]]:
        everything = {process.pid: process for process in self.all()}
        asked = set(everything) - self.protected()
        opened = list(opened_files(self._api, asked, self._asking))
        self._silent = {pid for pid, text in opened if text is None}
        open_there = [(pid, text) for pid, text in opened if text is not None and self._in(text, places)]
        running = [(pid, p.path) for pid, p in everything.items() if pid in asked and p.path and self._in(p.path, places)]
        found = dict(reversed([*running, *open_there]))
        return [(everything[pid], text) for pid, text in sorted(found.items())]

    def silent(self) -> list[Process]:
        return [process for process in self.all() if process.pid in self._silent] if self._silent else []

    def _in(self, text: str, places: Sequence[WPath]) -> bool:
        path = self._files.path(text)
        return path is not None and any(place.holds(path) for place in places)

    def used(self, pids: Collection[int]) -> tuple[float, int]:
        cpu, written = 0.0, 0
        for pid in pids:
            with contextlib.suppress(Failed), self._opened(pid, c.PROCESS_QUERY_LIMITED_INFORMATION) as handle:
                cpu += worked(self._api, handle)
                counted = IO_COUNTERS()
                self._api.GetProcessIoCounters(handle, counted)
                written += counted.WriteTransferCount
        return round(cpu, 1), written

    # -- looking ----------------------------------------------------------------------------------------------

    def _entries(self) -> Iterator[_Entry]:
        snapshot = self._api.CreateToolhelp32Snapshot(c.TH32CS_SNAPPROCESS, 0)
        try:
            entry = PROCESSENTRY32W(dwSize=sizeof(PROCESSENTRY32W))
            code = self._api.code("Process32FirstW", snapshot, entry)
            while not code:
                if entry.th32ProcessID not in SYSTEM_S_OWN:
                    yield _Entry(entry.th32ProcessID, entry.th32ParentProcessID, narrow(bytes(entry.szExeFile)))
                code = self._api.code("Process32NextW", snapshot, entry)
        finally:
            self._api.CloseHandle(snapshot)

    def _process(self, entry: _Entry, title: str) -> Process:
        since, path, account, command = 0.0, "", "", tuple[str, ...]()
        with contextlib.suppress(Failed), self._opened(entry.pid, c.PROCESS_QUERY_LIMITED_INFORMATION) as handle:
            since, path = started(self._api, handle), self._path(handle)
            account = self._names.of(user_of(self._api, handle))
        with contextlib.suppress(Failed), self._opened(entry.pid, c.PROCESS_QUERY_INFORMATION | c.PROCESS_VM_READ) as handle:
            command = tuple(split_command(self._command(handle), lambda text: False))
        return Process(entry.pid, since, entry.name, path, command, entry.parent, account, title)

    def _path(self, handle: int) -> str:
        text, size = bytearray(2 * LONGEST), bytearray(LONGEST.to_bytes(4, "little"))
        self._api.QueryFullProcessImageNameW(handle, 0, text, size)
        return narrow(text)

    def _command(self, handle: int) -> str:
        """As it stands in the process itself: where it is kept is not documented, but has not changed since there are 64 bits."""
        told = PROCESS_BASIC_INFORMATION()
        self._api.NtQueryInformationProcess(handle, c.ProcessBasicInformation, told, sizeof(told), None)
        parameters = number(self._memory(handle, told.PebBaseAddress + PARAMETERS, 8))
        text = self._memory(handle, parameters + COMMAND_LINE, 16)
        return self._memory(handle, number(text[8:]), number(text[:2])).decode("utf-16-le", "surrogatepass")

    def _memory(self, handle: int, address: int, size: int) -> bytes:
        data = bytearray(max(size, 1))
        self._api.ReadProcessMemory(handle, address, data, size, None)
        return bytes(data[:size])

    @contextlib.contextmanager
    def _opened(self, pid: int, access: int) -> Iterator[int]:
        handle = self._api.OpenProcess(access, 0, pid)
        try:
            yield handle
        finally:
            self._api.CloseHandle(handle)
