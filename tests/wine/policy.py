"""Lets no unsafe call through: Wine follows the links of the machine it runs on, and deletes what these lead to.

Nor one that only Wine lets through: it does not ask for what a file was opened.
"""

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
WRITE = c.FILE_WRITE_DATA | 4  # or only adding to it (FILE_APPEND_DATA)
GENERIC = {c.GENERIC_WRITE: WRITE | c.FILE_WRITE_ATTRIBUTES | c.READ_CONTROL | c.SYNCHRONIZE}
# What a handle must have been opened for (one of these rights), by function and, where there is one, the class or code asked for.
RIGHTS: dict[tuple[str, int], int] = {
    ("SetFileInformationByHandle", c.FileBasicInfo): c.FILE_WRITE_ATTRIBUTES,
    ("SetFileInformationByHandle", c.FileEndOfFileInfo): c.FILE_WRITE_DATA,
    ("NtSetInformationFile", c.FileRenameInformation): c.DELETE, ("NtSetInformationFile", c.FileDispositionInformation): c.DELETE,
    ("NtSetInformationFile", c.FileDispositionInformationEx): c.DELETE,
    ("GetFileInformationByHandleEx", c.FileBasicInfo): c.FILE_READ_ATTRIBUTES,
    ("GetFileInformationByHandleEx", c.FileAttributeTagInfo): c.FILE_READ_ATTRIBUTES,
    ("GetFileInformationByHandleEx", c.FileIdBothDirectoryInfo): c.FILE_LIST_DIRECTORY,
    ("GetFileInformationByHandleEx", c.FileIdBothDirectoryRestartInfo): c.FILE_LIST_DIRECTORY,
    ("DeviceIoControl", c.FSCTL_SET_REPARSE_POINT): c.FILE_WRITE_DATA | c.FILE_WRITE_ATTRIBUTES,
    ("NtQuerySecurityObject", 0): c.READ_CONTROL, ("ReadFile", 0): c.FILE_READ_DATA, ("WriteFile", 0): WRITE,
    ("FlushFileBuffers", 0): WRITE,
}  # fmt: skip
CLASS_AT = {"SetFileInformationByHandle": 1, "NtSetInformationFile": 4, "GetFileInformationByHandleEx": 1, "DeviceIoControl": 1}


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
        self.rights: dict[int, int] = {}

    def call(self, call: Call) -> Answer:
        name = self._judged(call)
        answer = self._under.call(call)
        if call.function == "NtCreateFile" and answer.result & 0xFFFFFFFF < 0x80000000:
            assert isinstance(call.arguments[0], bytearray)
            assert isinstance(call.arguments[1], int)
            self.open[number(call.arguments[0])] = name
            self.rights[number(call.arguments[0])] = call.arguments[1] | GENERIC.get(call.arguments[1] & c.GENERIC_WRITE, 0)
        if call.function in ("NtClose", "CloseHandle"):
            assert isinstance(call.arguments[0], int)
            self.open.pop(call.arguments[0], None)
            self.rights.pop(call.arguments[0], None)
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
        if call.function == "CreateFileW" and call.arguments[4] != c.CREATE_NEW and not self._whole_paths:
            raise Unsafe(f"{call.arguments[0]!r} is opened by a path")
        self._check_rights(call)
        return self._opened(call) if call.function == "NtCreateFile" else ""

    def _check_rights(self, call: Call) -> None:
        which = call.arguments[CLASS_AT[call.function]] if call.function in CLASS_AT else 0
        handle = call.arguments[0] if call.arguments else None
        if not isinstance(handle, int) or not isinstance(which, int) or handle not in self.rights:
            return
        needed = [RIGHTS.get((call.function, which), 0)]
        if call.function == "NtSetSecurityObject":
            needed = [right for bit, right in ((1, c.WRITE_OWNER), (4, c.WRITE_DAC)) if int(str(call.arguments[1])) & bit]
        for right in needed:
            if right and not self.rights[handle] & right:
                raise Unsafe(f"{self.open[handle]!r} was not opened for what {call.function} {which} does")

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
        return name or self.open.get(folder, "")

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
