"""The calls: opening a name in an open folder, looking at what is open, renaming and removing it by its handle.

Microsoft's documentation of NtCreateFile, [MS-FSCC] 2.4 (information classes), [MS-FSCC] 2.1.2 (reparse points).
"""

from __future__ import annotations

import errno
import time
from ctypes import sizeof
from functools import cached_property
from struct import pack, unpack_from
from typing import NamedTuple

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import allocated, number
from kleff.workstation.windows.native.structures import (
    FILE_ATTRIBUTE_TAG_INFO,
    FILE_BASIC_INFO,
    FILE_ID_BOTH_DIR_INFO,
    FILE_ID_INFO,
    FILE_RENAME_INFO,
    FILE_STANDARD_INFO,
    IO_STATUS_BLOCK,
    OBJECT_ATTRIBUTES,
    UNICODE_STRING,
)
from kleff.workstation.windows.system.files.links import target_in
from kleff.workstation.windows.system.files.security import TRUSTED, for_account_alone, for_admins_alone, sid_text
from kleff.workstation.windows.system.rights import THIS_PROCESS, is_admin
from kleff.workstation.windows.system.tokens import user_of

LOOK = c.SYNCHRONIZE | c.FILE_READ_ATTRIBUTES | c.READ_CONTROL
LIST = LOOK | c.FILE_LIST_DIRECTORY
READ = LOOK | c.FILE_READ_DATA
CHANGE = LOOK | c.FILE_WRITE_ATTRIBUTES
REMOVE = CHANGE | c.DELETE
WRITE = REMOVE | c.FILE_READ_DATA | c.FILE_WRITE_DATA | c.GENERIC_WRITE | c.WRITE_DAC | c.WRITE_OWNER

ALWAYS = c.FILE_OPEN_REPARSE_POINT | c.FILE_OPEN_FOR_BACKUP_INTENT | c.FILE_SYNCHRONOUS_IO_NONALERT
# Delete at once, though others have it open, and read-only or not (FILE_DISPOSITION_INFORMATION_EX): since Windows 10 1809, on NTFS.
AT_ONCE = 0x1 | 0x2 | 0x10
NO_SUCH_CLASS = (0xC0000002, 0xC0000003, 0xC000000D, 0xC0000010, 0xC00000BB)
SURROGATE = 0x20000000  # of a reparse tag: it stands for another thing, as links do
NAME_AT, SIZE_AT = FILE_ID_BOTH_DIR_INFO.FileName.offset, FILE_ID_BOTH_DIR_INFO.FileNameLength.offset
SHORT_AT, SHORT_SIZE_AT = FILE_ID_BOTH_DIR_INFO.ShortName.offset, FILE_ID_BOTH_DIR_INFO.ShortNameLength.offset
TRIES, PAUSE = 6, 0.1  # seconds; a search for harm, or an index, may have a file open for a moment
PIECE = 1 << 20  # bytes that are read or written at once
LISTING = 1 << 16  # bytes that are asked for at once
LARGEST_REPARSE = 16384  # MAXIMUM_REPARSE_DATA_BUFFER_SIZE
LONGEST_SHORT = 12  # characters
LARGEST_SECURITY = 1 << 16


class Told(NamedTuple):
    """What the system says of an open thing.

    Attributes:
        attributes: FILE_ATTRIBUTE_...; tag: of a reparse point, else 0.
        created, accessed, written: in 100 ns since 1601; size, room: bytes; links: how many names it has.
        volume, id: which thing it is.
    """

    attributes: int
    tag: int
    created: int
    accessed: int
    written: int
    size: int
    room: int
    links: int
    volume: int
    id: bytes

    @property
    def is_link(self) -> bool:
        return _is_link(self.attributes, self.tag)

    @property
    def is_folder(self) -> bool:
        return _is_folder(self.attributes, self.tag)


def _is_link(attributes: int, tag: int) -> bool:
    return bool(attributes & c.FILE_ATTRIBUTE_REPARSE_POINT and tag & SURROGATE)


def _is_folder(attributes: int, tag: int) -> bool:
    return bool(attributes & c.FILE_ATTRIBUTE_DIRECTORY) and not _is_link(attributes, tag)


class NtFiles:
    """Raises `Failed` where not said otherwise."""

    def __init__(self, api: Api) -> None:
        self.api = api

    # -- opening ----------------------------------------------------------------------------------------------

    def open_top(self, path: str) -> int:
        """The folder from which on names are opened one by one, such as the topmost of a drive. Args: path: as the kernel takes it."""
        return self._create(path, 0, LIST, c.FILE_OPEN, c.FILE_DIRECTORY_FILE, b"")

    def create_at(self, path: str, access: int, disposition: int, security: bytes, options: int = c.FILE_NON_DIRECTORY_FILE) -> int:
        """A file, or with other options a folder, by its whole path; of a link the link. The way there may hold links."""
        return self._create(path, 0, access, disposition, options, security)

    def open(self, folder: int, name: str, access: int, options: int = 0) -> int:
        """What a name stands for in an open folder; of a link the link. What is to go is waited for while somebody looks into it."""
        for left in reversed(range(TRIES if access & c.DELETE else 1)):
            try:
                return self._create(_one(name), folder, access, c.FILE_OPEN, options, b"")
            except OSError as error:
                if error.errno != errno.EBUSY or not left:
                    raise
                time.sleep(PAUSE)
        raise AssertionError("not reached")

    def open_again(self, handle: int, access: int) -> int:
        """The very thing that is open, for more."""
        return self._create("", handle, access, c.FILE_OPEN, 0, b"")

    def open_folder(self, folder: int, name: str) -> int:
        """A folder in an open one.

        Raises:
            NotADirectoryError: it is a file, or a link of any kind.
        """
        handle = self.open(folder, name, LIST, c.FILE_DIRECTORY_FILE)
        try:
            told = FILE_ATTRIBUTE_TAG_INFO()
            self.api.GetFileInformationByHandleEx(handle, c.FileAttributeTagInfo, told, sizeof(told))
            if not _is_folder(told.FileAttributes, told.ReparseTag):
                raise Failed("NtCreateFile", 0xC0000103)
        except BaseException:
            self.close(handle)
            raise
        return handle

    def create(self, folder: int, name: str, access: int, options: int, security: bytes) -> int:
        """A new file or folder. Args: security: its owner and who may do what, self-relative ([MS-DTYP] 2.4.6)."""
        return self._create(_one(name), folder, access, c.FILE_CREATE, options, security)

    def _create(self, name: str, folder: int, access: int, disposition: int, options: int, security: bytes) -> int:
        data = name.encode("utf-16-le", "surrogatepass")
        head = sizeof(UNICODE_STRING)
        with allocated(self.api.caller, head + len(data) + len(security) + 8) as place:
            at = place + head + (len(data) + 7) // 8 * 8
            text = bytes(UNICODE_STRING(len(data), len(data), place + head)) + data
            self.api.caller.write(place, text + bytes(at - place - len(text)) + security)
            wanted = OBJECT_ATTRIBUTES(sizeof(OBJECT_ATTRIBUTES), folder, place, c.OBJ_CASE_INSENSITIVE, at if security else 0, 0)
            handle, status = bytearray(8), IO_STATUS_BLOCK()
            how = (c.FILE_ATTRIBUTE_NORMAL, c.FILE_SHARE_ALL, disposition, ALWAYS | options)
            self.api.NtCreateFile(handle, access, wanted, status, None, *how, None, 0)
            return number(handle)

    def close(self, handle: int) -> None:
        self.api.NtClose(handle)

    # -- looking ----------------------------------------------------------------------------------------------

    def look(self, handle: int) -> Told:
        tag, basic, standard, which = FILE_ATTRIBUTE_TAG_INFO(), FILE_BASIC_INFO(), FILE_STANDARD_INFO(), FILE_ID_INFO()
        classes = (
            (c.FileAttributeTagInfo, tag), (c.FileBasicInfo, basic), (c.FileStandardInfo, standard), (c.FileIdInfo, which),
        )  # fmt: skip
        self.api.many("GetFileInformationByHandleEx", [(handle, n, into, sizeof(into)) for n, into in classes], len(classes))
        return Told(
            tag.FileAttributes, tag.ReparseTag, basic.CreationTime, basic.LastAccessTime, basic.LastWriteTime, standard.EndOfFile,
            standard.AllocationSize, standard.NumberOfLinks, which.VolumeSerialNumber, bytes(which.FileId),
        )  # fmt: skip

    def names(self, folder: int) -> list[str]:
        return [name for name, _ in self.listing(folder)]

    def listing(self, folder: int) -> list[tuple[str, str]]:
        """The names in a folder, each with its short one, "" if it has none."""
        found: list[tuple[str, str]] = []
        which = c.FileIdBothDirectoryRestartInfo
        while True:
            data = bytearray(LISTING)
            code = self.api.code("GetFileInformationByHandleEx", folder, which, data, len(data))
            if code == c.ERROR_NO_MORE_FILES:
                return [one for one in found if one[0] not in (".", "..")]
            if code:
                raise Failed("GetFileInformationByHandleEx", code)
            which, at, step = c.FileIdBothDirectoryInfo, 0, 1
            while step:
                (step,), (size,) = unpack_from("<I", data, at), unpack_from("<I", data, at + SIZE_AT)
                short = bytes(data[at + SHORT_AT : at + SHORT_AT + data[at + SHORT_SIZE_AT]]).decode("utf-16-le", "surrogatepass")
                found.append((bytes(data[at + NAME_AT : at + NAME_AT + size]).decode("utf-16-le", "surrogatepass"), short))
                at += step

    def open_stream(self, handle: int, name: str, made: bool) -> int:
        """A stream of an open file, by its name. Args: made: it is made, and written to."""
        how = (c.GENERIC_WRITE | c.SYNCHRONIZE, c.FILE_CREATE) if made else (c.FILE_READ_DATA | c.SYNCHRONIZE, c.FILE_OPEN)
        return self._create(f":{name}", handle, *how, c.FILE_NON_DIRECTORY_FILE, b"")

    def link_target(self, handle: int) -> str:
        """Where a link leads, as it is written for people.

        Raises:
            OSError: EINVAL, it is none.
        """
        data, size = bytearray(LARGEST_REPARSE), bytearray(4)
        self.api.DeviceIoControl(handle, c.FSCTL_GET_REPARSE_POINT, None, 0, data, len(data), size, None)
        return target_in(bytes(data[: number(size)]))

    # -- changing ---------------------------------------------------------------------------------------------

    def rename(self, handle: int, to: int, name: str) -> None:
        """Give it another name in an open folder of the same volume; never one that is taken."""
        self._set(handle, _naming(to, _one(name)), c.FileRenameInformation)

    def short_name(self, handle: int) -> str | None:
        """The short name of what is open (FILE_NAME_INFORMATION); "" if it has none, None if this system does not tell it so."""
        data = bytearray(4 + 2 * LONGEST_SHORT)
        code = self.api.code("NtQueryInformationFile", handle, IO_STATUS_BLOCK(), data, len(data), c.FileAlternateNameInformation)
        if code:
            return None if code in NO_SUCH_CLASS else ""
        return bytes(data[4 : 4 + number(data[:4])]).decode("utf-16-le", "surrogatepass")

    def set_short_name(self, handle: int, short: str) -> None:
        data = short.encode("utf-16-le")
        self._set(handle, bytearray(pack("<I", len(data)) + data), c.FileShortNameInformation)

    def link(self, handle: int, to: int, name: str) -> None:
        """A second name of a file."""
        self._set(handle, _naming(to, _one(name)), c.FileLinkInformation)

    def remove(self, handle: int) -> None:
        """Delete what is open: a file, a link, an empty folder. It is gone when the handle is closed."""
        code = self._code(handle, bytearray(pack("<I", AT_ONCE)), c.FileDispositionInformationEx)
        if code in NO_SUCH_CLASS:  # an older system, another file system
            attributes = self.look(handle).attributes
            if attributes & c.FILE_ATTRIBUTE_READONLY:
                self.set_basic(handle, FILE_BASIC_INFO(FileAttributes=attributes & ~c.FILE_ATTRIBUTE_READONLY or c.FILE_ATTRIBUTE_NORMAL))
            code = self._code(handle, bytearray(b"\1"), c.FileDispositionInformation)
        if code:
            raise Failed("NtSetInformationFile", code)

    def set_basic(self, handle: int, basic: FILE_BASIC_INFO) -> None:
        """Attributes and times; what is 0 stays as it is."""
        self.api.SetFileInformationByHandle(handle, c.FileBasicInfo, basic, sizeof(basic))

    def _set(self, handle: int, data: bytearray, which: int) -> None:
        if code := self._code(handle, data, which):
            raise Failed("NtSetInformationFile", code)

    def _code(self, handle: int, data: bytearray, which: int) -> int:
        return self.api.code("NtSetInformationFile", handle, IO_STATUS_BLOCK(), data, len(data), which)

    def make_link(self, handle: int, data: bytes) -> None:
        """Make a link of what is open and empty. Args: data: what it is to hold."""
        self.api.DeviceIoControl(handle, c.FSCTL_SET_REPARSE_POINT, data, len(data), None, 0, bytearray(4), None)

    # -- who may ----------------------------------------------------------------------------------------------

    def security(self, handle: int) -> bytes:
        """Owner and access control list, self-relative; empty where the volume knows none."""
        data, size = bytearray(LARGEST_SECURITY), bytearray(4)
        which = c.OWNER_SECURITY_INFORMATION | c.DACL_SECURITY_INFORMATION
        if self.api.code("NtQuerySecurityObject", handle, which, data, len(data), size):
            return b""
        return bytes(data[: number(size)])

    def private(self) -> bytes:
        """The security of what is to be this account's alone; an administrator's is all administrators'."""
        return for_account_alone(self._account) if self._account else for_admins_alone()

    def trusted(self) -> frozenset[str]:
        """Who may change what is Kleff's own."""
        return TRUSTED | {self._account} if self._account else TRUSTED

    def account_number(self) -> int:
        """As the owner of a thing is told by `Look`."""
        return int(self._account.rpartition("-")[2] or 0)

    @cached_property
    def _account(self) -> str:
        """The SID of the account Kleff works as; "" for an administrator."""
        return "" if is_admin(self.api) else sid_text(user_of(self.api, THIS_PROCESS))

    def set_security(self, handle: int, security: bytes) -> None:
        self.api.NtSetSecurityObject(handle, c.OWNER_SECURITY_INFORMATION | c.DACL_SECURITY_INFORMATION, security)


def _one(name: str) -> str:
    """A name that is one step, and of no stream.

    Raises:
        OSError: EINVAL, it is not.
    """
    if name in ("", ".", "..") or any(sign in name for sign in "\\/:\0"):
        raise OSError(errno.EINVAL, "is not the name of a file", name)
    return name


def _naming(folder: int, name: str) -> bytearray:
    """FILE_RENAME_INFORMATION, and FILE_LINK_INFORMATION, which is the same: never onto what is there."""
    data = name.encode("utf-16-le", "surrogatepass")
    head = bytes(FILE_RENAME_INFO(RootDirectory=folder, FileNameLength=len(data)))[: FILE_RENAME_INFO.FileName.offset]
    return bytearray(head + data + b"\0\0")
