"""Open files and folders of a running Windows."""

from __future__ import annotations

import contextlib
import errno
import hashlib
from collections.abc import Callable, Iterator
from struct import unpack
from typing import cast

from kleff.procedure.globs import fold
from kleff.workstation.files.protocol import File, Folder, Owner
from kleff.workstation.paths import Look
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Failed
from kleff.workstation.windows.native.caller import number
from kleff.workstation.windows.native.structures import FILE_BASIC_INFO, OVERLAPPED
from kleff.workstation.windows.system.files import links, nt, security, streams
from kleff.workstation.windows.system.files.looks import EPOCH, look_of
from kleff.workstation.windows.system.files.nt import PIECE, NtFiles

# What else belongs to a thing, under the names by which copies and bags keep it.
ATTRIBUTES, CREATED, SECURITY = "windows.attributes", "windows.created", security.ATTRIBUTE
KEPT_ATTRIBUTES = 0x1 | 0x2 | 0x4 | 0x20 | 0x2000  # read-only, hidden, system, to be archived, not indexed


class NtHandle:
    """An open handle."""

    def __init__(self, files: NtFiles, handle: int) -> None:
        self.files = files
        self.handle = handle

    def look(self) -> Look:
        return look_of(self.files.look(self.handle), security.owner(self.files.security(self.handle)))

    def attributes(self) -> dict[str, bytes]:
        told = self.files.look(self.handle)
        found = {
            ATTRIBUTES: (told.attributes & KEPT_ATTRIBUTES).to_bytes(4, "little"), CREATED: told.created.to_bytes(8, "little"),
            SECURITY: self.files.security(self.handle),
        }  # fmt: skip
        return {name: value for name, value in (found | streams.streams(self.files, self.handle)).items() if value}

    def set_owner(self, uid: int, gid: int) -> None:
        """Whose it is comes with its security descriptor, as a SID and not as a number."""

    def give_to(self, account: str) -> None:
        made = security.for_account_alone(account) if account.startswith("S-1-") else security.for_everybody_to_read()
        self.set_attribute(SECURITY, made)

    def set_mode(self, mode: int) -> None:
        attributes = self.files.look(self.handle).attributes & ~c.FILE_ATTRIBUTE_READONLY
        wanted = attributes | (0 if mode & 0o222 else c.FILE_ATTRIBUTE_READONLY)
        self._set_basic(FILE_BASIC_INFO(FileAttributes=wanted or c.FILE_ATTRIBUTE_NORMAL))

    def set_attribute(self, name: str, value: bytes) -> None:
        if name == SECURITY:
            with self._opened_for(c.READ_CONTROL | c.WRITE_DAC | c.WRITE_OWNER) as handle:
                self.files.set_security(handle, value)
        elif name == ATTRIBUTES:
            kept = self.files.look(self.handle).attributes & ~KEPT_ATTRIBUTES
            wanted = kept | number(value) & KEPT_ATTRIBUTES
            self._set_basic(FILE_BASIC_INFO(FileAttributes=wanted or c.FILE_ATTRIBUTE_NORMAL))
        elif name == CREATED:
            self._set_basic(FILE_BASIC_INFO(CreationTime=number(value)))
        elif name.startswith(streams.PREFIX):
            streams.set_stream(self.files, self.handle, name, value)
        else:
            raise OSError(errno.ENOTSUP, "Windows has no such attribute", name)

    def set_times(self, times: tuple[int, int]) -> None:
        accessed, written = (EPOCH + one // 100 for one in times)
        self._set_basic(FILE_BASIC_INFO(LastAccessTime=accessed, LastWriteTime=written))

    def _set_basic(self, basic: FILE_BASIC_INFO) -> None:
        with self._opened_for(nt.CHANGE) as handle:
            self.files.set_basic(handle, basic)

    @contextlib.contextmanager
    def _opened_for(self, access: int) -> Iterator[int]:
        """The very thing, opened for what this handle may not do."""
        handle = self.files.open_again(self.handle, access | c.SYNCHRONIZE)
        try:
            yield handle
        finally:
            self.files.close(handle)

    def flush(self) -> None:
        self.files.api.FlushFileBuffers(self.handle)

    def close(self) -> None:
        self.files.close(self.handle)


class NtFile(NtHandle):
    """An open regular file."""

    def read(self, size: int) -> bytes:
        data, done = bytearray(min(size, PIECE)), bytearray(4)
        code = self.files.api.code("ReadFile", self.handle, data, len(data), done, None)
        if code not in (0, c.ERROR_HANDLE_EOF):
            raise Failed("ReadFile", code)
        return bytes(data[: number(done)])

    def read_at(self, size: int, at: int) -> bytes:
        """Up to so many bytes from a place on."""
        data, done = bytearray(min(size, PIECE)), bytearray(4)
        code = self.files.api.code("ReadFile", self.handle, data, len(data), done, _at(at))
        if code not in (0, c.ERROR_HANDLE_EOF):
            raise Failed("ReadFile", code)
        return bytes(data[: number(done)])

    def truncate(self, size: int) -> None:
        self.files.api.SetFileInformationByHandle(self.handle, c.FileEndOfFileInfo, size.to_bytes(8, "little"), 8)

    def write(self, data: bytes) -> None:
        for start in range(0, len(data), PIECE):
            self._written(data[start : start + PIECE], None)

    def write_at(self, data: bytes, at: int) -> None:
        for start in range(0, len(data), PIECE):
            self._written(data[start : start + PIECE], _at(at + start))

    def _written(self, piece: bytes, at: OVERLAPPED | None) -> None:
        self.files.api.WriteFile(self.handle, piece, len(piece), bytearray(4), at)


class NtFolder(NtHandle):
    """An open folder."""

    def flush(self) -> None:
        """Nothing is asked: its names are in the volume's own journal, and only who may write in it could ask."""

    def names(self) -> list[str]:
        with self._opened_for(nt.LIST) as handle:  # a handle may remember what was there when it was asked first
            return self.files.names(handle)

    def look_at(self, name: str) -> Look:
        with self._opened(name, nt.LOOK) as one:
            return one.look()

    @contextlib.contextmanager
    def folder(self, name: str) -> Iterator[Folder]:
        below = NtFolder(self.files, self.files.open_folder(self.handle, name))
        try:
            yield below
        finally:
            below.close()

    @contextlib.contextmanager
    def file(self, name: str) -> Iterator[File]:
        file = NtFile(self.files, self.files.open(self.handle, name, nt.READ))
        try:
            yield file
        finally:
            file.close()

    def create(self, name: str) -> File:
        options = c.FILE_NON_DIRECTORY_FILE
        return NtFile(self.files, self.files.create(self.handle, name, nt.WRITE, options, self.files.private()))

    def make_folder(self, name: str, mode: int = 0o700) -> None:
        whose = b"" if mode & 0o077 else self.files.private()  # else as what is in the folder usually is
        self.files.close(self.files.create(self.handle, name, nt.LIST, c.FILE_DIRECTORY_FILE, whose))

    def make_link(self, name: str, target: str) -> None:
        """A junction, which leads to a folder by its whole path."""
        if not links.is_absolute(target):
            raise OSError(errno.EOPNOTSUPP, "a link by a part of a path is not made on Windows", name)
        with contextlib.suppress(FileNotFoundError):
            led = self.files.create_at(f"\\??\\{target}", nt.LOOK, c.FILE_OPEN, b"", 0)
            told = self.files.look(led)
            self.files.close(led)
            if not told.is_folder and not told.is_link:
                raise OSError(errno.EOPNOTSUPP, "a link to a file is not made on Windows", name)
        handle = self.files.create(self.handle, name, nt.REMOVE, c.FILE_DIRECTORY_FILE, b"")
        try:
            self.files.make_link(handle, links.junction(target))
        except OSError:
            self.files.remove(handle)
            raise
        finally:
            self.files.close(handle)

    def read_link(self, name: str) -> str:
        with self._opened(name, nt.LOOK) as one:
            if not self.files.look(one.handle).is_link:
                raise OSError(errno.EINVAL, "is no link", name)
            return self.files.link_target(one.handle)

    def set_link(self, name: str, owner: Owner, times: tuple[int, int]) -> None:
        with self._opened(name, nt.CHANGE) as one:
            one.set_times(times)

    def short_name(self, name: str) -> str:
        with self._opened(name, nt.LOOK) as one:
            told = self.files.short_name(one.handle)
        return told if told is not None else next((short for long, short in self.shorts() if fold(long) == fold(name)), "")

    def set_short_name(self, name: str, short: str) -> None:
        with self._opened(name, nt.REMOVE) as one:
            self.files.set_short_name(one.handle, short)

    def shorts(self) -> list[tuple[str, str]]:
        """The names in it, each with its short one."""
        with self._opened_for(nt.LIST) as handle:
            return self.files.listing(handle)

    def remove(self, name: str) -> None:
        with self._opened(name, nt.REMOVE) as one:
            if self.files.look(one.handle).is_folder:
                raise Failed("NtSetInformationFile", 0xC00000BA)
            self.files.remove(one.handle)

    def remove_if_empty(self, name: str) -> None:
        with contextlib.suppress(FileNotFoundError), self._opened(name, nt.REMOVE) as one:
            if not self.files.look(one.handle).is_folder:
                raise Failed("NtSetInformationFile", 0xC0000103)
            try:
                self.files.remove(one.handle)
            except OSError as error:
                if error.errno != errno.ENOTEMPTY:
                    raise

    def rename(self, name: str, to: Folder, to_name: str) -> None:
        with self._opened(name, nt.REMOVE) as one:
            # Asked besides, for a second name of the very file, onto which some systems rename it without a word.
            with contextlib.suppress(FileNotFoundError):
                to.look_at(to_name)
                raise Failed("NtSetInformationFile", 0xC0000035)
            self.files.rename(one.handle, _handle_of(to), to_name)

    def exchange(self, name: str, other: Folder, other_name: str) -> None:
        raise OSError(errno.EOPNOTSUPP, "this system exchanges no files", name)

    def link(self, name: str, to: Folder, to_name: str) -> None:
        with self._opened(name, nt.CHANGE) as one:
            if self.files.look(one.handle).is_folder:
                taken = any(fold(there) == fold(to_name) for there in to.names())
                raise OSError(errno.EEXIST if taken else errno.EPERM, "a folder has one name only", to_name)
            self.files.link(one.handle, _handle_of(to), to_name)

    def sha256(self, name: str) -> str:
        with self.file(name) as file:
            if not file.look().is_file:
                raise OSError(errno.EINVAL, "is no regular file", name)
            return _sum(file)

    def remove_same(self, name: str, sha256: str) -> bool:
        """Delete a file if its content has this sum, by the very handle by which that was read; whether it has gone."""
        file = NtFile(self.files, self.files.open(self.handle, name, nt.REMOVE | nt.READ, c.FILE_NON_DIRECTORY_FILE))
        try:
            same = file.look().is_file and _sum(file) == sha256
            if same:
                self.files.remove(file.handle)
            return same
        finally:
            file.close()

    def copy_file(self, name: str, to: Folder, to_name: str, look: Look, flush: bool = True) -> str:
        from kleff.workstation.windows.system.files.copying import copy_file

        return copy_file(self, name, to, to_name, look)

    def copy_tree(self, name: str, to: Folder, to_name: str, told: Callable[[int, int], None]) -> None:
        from kleff.workstation.windows.system.files.copying import Dressing, copy_tree

        copy_tree(self, name, cast(Dressing, to), to_name, told)

    def dress(self, name: str, attributes: dict[str, bytes], times: tuple[int, int]) -> None:
        """Give a folder what belongs to it; who may, last: it may be nobody."""
        access = nt.CHANGE | c.WRITE_DAC | c.WRITE_OWNER
        made = NtHandle(self.files, self.files.open(self.handle, name, access, c.FILE_DIRECTORY_FILE))
        try:
            for attribute, value in sorted(attributes.items(), key=lambda one: one[0] == SECURITY):
                made.set_attribute(attribute, value)
            made.set_times(times)
        finally:
            made.close()

    def delete_copied(self, name: str, to: Folder, to_name: str) -> list[str]:
        from kleff.workstation.windows.system.files.copying import delete_copied

        return delete_copied(self, name, to, to_name)

    def delete_tree(self, name: str, told: Callable[[int], None]) -> None:
        with contextlib.suppress(FileNotFoundError):
            if self.look_at(name).is_folder:
                with self.folder(name) as below:
                    for inside in below.names():
                        cast(NtFolder, below)._delete_inside(inside, told)
                self._delete_one(name)
            else:
                self._delete_one(name)
                told(1)

    def _delete_inside(self, name: str, told: Callable[[int], None]) -> None:
        with contextlib.suppress(FileNotFoundError):
            folder = self.look_at(name).is_folder
            self.delete_tree(name, told)
            told(1 if folder else 0)

    def _delete_one(self, name: str) -> None:
        with self._opened(name, nt.REMOVE) as one:
            self.files.remove(one.handle)

    def may_change(self) -> bool:
        try:
            self.files.close(self.files.open_again(self.handle, nt.LOOK | c.FILE_ADD_FILE | c.FILE_ADD_SUBDIRECTORY))
        except PermissionError:
            return False
        return True

    def ours(self, name: str) -> bool:
        with self._opened(name, nt.LOOK) as one:
            whose = self.files.security(one.handle)
            return self.files.look(one.handle).is_folder and security.only_admin(whose, self.files.trusted())

    def flush_volume(self) -> None: ...

    @contextlib.contextmanager
    def _opened(self, name: str, access: int) -> Iterator[NtHandle]:
        one = NtHandle(self.files, self.files.open(self.handle, name, access))
        try:
            yield one
        finally:
            one.close()


def _sum(file: File) -> str:
    made = hashlib.sha256()
    while piece := file.read(PIECE):
        made.update(piece)
    return made.hexdigest()


def _handle_of(folder: Folder) -> int:
    return cast(NtFolder, folder).handle


def _at(place: int) -> OVERLAPPED:
    low, high = unpack("<II", place.to_bytes(8, "little"))
    return OVERLAPPED(Offset=low, OffsetHigh=high)
