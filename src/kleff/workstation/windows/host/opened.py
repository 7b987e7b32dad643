"""Files of this machine by their path, opened without following a link in the last name, as Python's own files."""

from __future__ import annotations

import contextlib
import errno
import msvcrt
import os
from collections.abc import Iterator
from pathlib import Path
from typing import IO

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.system.files import nt
from kleff.workstation.windows.system.files.nt import NtFiles

DEVICE, NETWORK = "\\\\?\\", "\\\\?\\UNC\\"
BUFFER = 1 << 20  # bytes
WRITTEN = nt.CHANGE | c.FILE_READ_DATA | c.GENERIC_WRITE  # not to be deleted: who opens it as usual forbids others that


def nt_path(path: Path) -> str:
    """A path as the kernel takes it, however long it is."""
    text = os.path.abspath(path)
    if text.startswith(NETWORK):
        return f"\\??\\UNC\\{text.removeprefix(NETWORK)}"
    if text.startswith(DEVICE):
        return f"\\??\\{text.removeprefix(DEVICE)}"
    return f"\\??\\UNC\\{text[2:]}" if text.startswith("\\\\") else f"\\??\\{text}"


def new_file(files: NtFiles, file: Path) -> IO[bytes]:
    """A file that must not be there yet, for this account alone.

    Raises:
        OSError: it is there, or cannot be made.
    """
    with _named(file):
        handle = files.create_at(nt_path(file), WRITTEN, c.FILE_CREATE, files.private())
    return os.fdopen(msvcrt.open_osfhandle(handle, os.O_RDWR | os.O_BINARY | os.O_NOINHERIT), "wb", buffering=BUFFER)


def new_folder(files: NtFiles, folder: Path) -> None:
    """A folder that must not be there yet, for this account alone."""
    with _named(folder):
        files.close(files.create_at(nt_path(folder), nt.LIST, c.FILE_CREATE, files.private(), c.FILE_DIRECTORY_FILE))


def added_to(files: NtFiles, file: Path) -> IO[bytes]:
    """A file, made if it is not there, whose end is written."""
    with _named(file):
        handle = files.create_at(nt_path(file), WRITTEN, c.FILE_OPEN_IF, files.private())
        _refuse_others(files, handle, file)
    return os.fdopen(msvcrt.open_osfhandle(handle, os.O_WRONLY | os.O_APPEND | os.O_BINARY | os.O_NOINHERIT), "ab")


def shared(files: NtFiles, file: Path, made: bool) -> int:
    """A descriptor of a file that several processes read and write. Args: made: it is made if it is not there."""
    with _named(file):
        how = (WRITTEN, c.FILE_OPEN_IF) if made else (nt.READ, c.FILE_OPEN)
        handle = files.create_at(nt_path(file), *how, files.private() if made else b"")
        _refuse_others(files, handle, file)
    return msvcrt.open_osfhandle(handle, (os.O_RDWR if made else os.O_RDONLY) | os.O_BINARY | os.O_NOINHERIT)


def reading(files: NtFiles, file: Path) -> IO[bytes]:
    """Raises: OSError: it is not there, not readable, or (EINVAL) no regular file."""
    return os.fdopen(shared(files, file, made=False), "rb", buffering=BUFFER)


def flush_folder(files: NtFiles, folder: Path) -> None:
    """Have the names in a folder on the disk, where the volume can be asked for that."""
    with _named(folder):
        handle = files.create_at(nt_path(folder), nt.LIST | c.FILE_ADD_FILE, c.FILE_OPEN, b"", c.FILE_DIRECTORY_FILE)
        try:
            files.api.code("FlushFileBuffers", handle)  # one that cannot be asked keeps a journal of its names, or none
        finally:
            files.close(handle)


def _refuse_others(files: NtFiles, handle: int, file: Path) -> None:
    told = files.look(handle)
    if told.is_link or told.is_folder:
        files.close(handle)
        raise OSError(errno.ELOOP if told.is_link else errno.EINVAL, "is no regular file", str(file))


@contextlib.contextmanager
def _named(path: Path) -> Iterator[None]:
    """An error tells which file it is about."""
    try:
        yield
    except OSError as error:
        error.filename = error.filename or str(path)
        raise
