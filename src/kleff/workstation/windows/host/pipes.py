"""A pipe with a name: what a program writes to it, or reads from it, never lies on the disk."""

from __future__ import annotations

import contextlib
import msvcrt
import os
import secrets
from ctypes import sizeof
from pathlib import Path
from typing import IO

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Failed
from kleff.workstation.windows.native.caller import allocated
from kleff.workstation.windows.native.structures import SECURITY_ATTRIBUTES
from kleff.workstation.windows.system.files.nt import NtFiles

ROOM = 1 << 16  # bytes that may wait in it
WHOLE_FILE = c.PIPE_ACCESS_DUPLEX | c.FILE_FLAG_FIRST_PIPE_INSTANCE  # nobody else has made one of this name before
BYTES = c.PIPE_TYPE_BYTE | c.PIPE_REJECT_REMOTE_CLIENTS


class SystemPipe:
    """Implements `NamedPipe`; its name is nobody else's."""

    def __init__(self, files: NtFiles) -> None:
        self.path = Path(f"\\\\.\\pipe\\kleff-{secrets.token_hex(8)}")
        self._api = files.api
        with allocated(self._api.caller, files.private()) as whose:
            how = SECURITY_ATTRIBUTES(nLength=sizeof(SECURITY_ATTRIBUTES), lpSecurityDescriptor=whose)
            self._handle = self._api.CreateNamedPipeW(str(self.path), WHOLE_FILE, BYTES, 1, ROOM, ROOM, 0, how)

    def open_reader(self) -> IO[bytes]:
        return os.fdopen(self._opened(os.O_RDONLY), "rb")

    def open_writer(self) -> IO[bytes]:
        return os.fdopen(self._opened(os.O_WRONLY), "wb")

    def _opened(self, flags: int) -> int:
        code = self._api.code("ConnectNamedPipe", self._handle, None)  # waits until somebody opens it; `release` does, else
        if code not in (0, c.ERROR_PIPE_CONNECTED, c.ERROR_NO_DATA):  # here already; gone again already
            raise Failed("ConnectNamedPipe", code)
        return msvcrt.open_osfhandle(self._handle, flags | os.O_BINARY)

    def release(self) -> None:
        with contextlib.suppress(OSError):
            os.close(os.open(self.path, os.O_RDWR | os.O_BINARY))
