"""Lets no unsafe call through: Wine follows the links of the machine it runs on, and deletes what these lead to."""

from __future__ import annotations

import ctypes
from collections.abc import Sequence

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.caller import Answer, Arg, Call, Caller, number

# By a path, on which a link may stand: never for anything that is to go or to change.
BY_PATH = frozenset({
    "DeleteFileW", "RemoveDirectoryW", "MoveFileW", "MoveFileExW", "MoveFileWithProgressW", "CopyFileW", "CopyFileExW", "ReplaceFileW",
    "SetFileAttributesW", "CreateDirectoryW", "CreateHardLinkW", "CreateSymbolicLinkW", "SHFileOperationW", "RegDeleteTreeW",
    "RegDeleteKeyW", "RegDeleteKeyExW", "SetNamedSecurityInfoW",
})  # fmt: skip
FOR_EVER = 0xFFFFFFFF
ROOT = "\\??\\C:\\"  # other drives, and what Wine has besides, are the developer's own files


class Unsafe(AssertionError):
    """A call that must not be made."""


class Guarded:
    """Implements `Caller`: passes on what is safe, and knows which handles of files are open.

    Args:
        whole_paths: whether what lies on drive C may be opened by its whole path too.
    """

    def __init__(self, under: Caller, whole_paths: bool = False) -> None:
        self._whole_paths = whole_paths
        self._under = under
        self.open: dict[int, str] = {}

    def call(self, call: Call) -> Answer:
        name = self._judged(call)
        answer = self._under.call(call)
        if call.function == "NtCreateFile" and answer.result & 0xFFFFFFFF < 0x80000000:
            assert isinstance(call.arguments[0], bytearray)
            self.open[number(call.arguments[0])] = name
        if call.function in ("NtClose", "CloseHandle"):
            assert isinstance(call.arguments[0], int)
            self.open.pop(call.arguments[0], None)
        return answer

    def batch(self, calls: Sequence[Call]) -> list[Answer]:
        for call in calls:
            self._judged(call)
        return self._under.batch(calls)

    def _judged(self, call: Call) -> str:
        """The name that is opened, if one is.

        Raises:
            Unsafe.
        """
        if call.function in BY_PATH:
            raise Unsafe(f"{call.function} goes by a path")
        if call.function.startswith("WaitFor") and FOR_EVER in call.arguments:
            raise Unsafe(f"{call.function} waits for ever")
        if call.function == "CreateFileW" and call.arguments[4] != c.CREATE_NEW:
            raise Unsafe(f"{call.arguments[0]!r} is opened by a path")
        return self._opened(call) if call.function == "NtCreateFile" else ""

    def _opened(self, call: Call) -> str:
        """One name below an open folder, or the top of drive C; never what a link leads to."""
        wanted, options = call.arguments[2], call.arguments[8]
        assert isinstance(wanted, ctypes.Structure)
        assert isinstance(options, int)
        folder, text = wanted.RootDirectory, self._under.read(wanted.ObjectName, 16)  # type: ignore[attr-defined]
        name = self._under.read(number(text[8:]), number(text[:2])).decode("utf-16-le", "surrogatepass")
        if not options & c.FILE_OPEN_REPARSE_POINT:
            raise Unsafe(f"{name!r} is opened through links")
        if not folder and name != ROOT and not (self._whole_paths and name.upper().startswith(ROOT)):
            raise Unsafe(f"{name!r} is opened by a path")
        if folder and ("\\" in name or name in (".", "..")):  # none at all is the open folder itself
            raise Unsafe(f"{name!r} is not one step")
        return name

    def call_at(self, address: int, *arguments: Arg) -> Answer:
        return self._under.call_at(address, *arguments)

    def address_of(self, dll: str, function: str) -> int:
        return self._under.address_of(dll, function)

    def alloc(self, data: int | bytes) -> int:
        return self._under.alloc(data)

    def free(self, address: int) -> None:
        self._under.free(address)

    def read(self, address: int, size: int) -> bytes:
        return self._under.read(address, size)

    def write(self, address: int, data: bytes) -> None:
        self._under.write(address, data)
