"""What a file holds beside its content: named streams ([MS-FSCC] 2.4.49), such as the mark of what was downloaded."""

from __future__ import annotations

import errno
from collections.abc import Iterator
from struct import unpack_from
from typing import Protocol

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import number
from kleff.workstation.windows.native.structures import FILE_STREAM_INFO

PREFIX = "windows.stream."  # under which names copies and bags keep them
MOST = 1 << 16  # bytes of one; larger ones are a second content, which is not kept as an attribute
LISTING = 1 << 16  # bytes of their names
ENDING = ":$DATA"
# The volume knows none; of a folder: there are none.
NONE_HERE = (1, c.ERROR_HANDLE_EOF, c.ERROR_NOT_SUPPORTED, c.ERROR_INVALID_PARAMETER, c.ERROR_CALL_NOT_IMPLEMENTED)


class Opening(Protocol):
    """What opens a stream of an open file."""

    api: Api

    def open_stream(self, handle: int, name: str, made: bool) -> int: ...

    def close(self, handle: int) -> None: ...


def streams(files: Opening, handle: int) -> dict[str, bytes]:
    """The streams of an open file, under their attribute names.

    Raises:
        OSError: EFBIG, one is too large to be kept.
    """
    found = {}
    for name, size in _named(files.api, handle):
        if size > MOST:
            raise OSError(errno.EFBIG, f"holds a stream of {size:,} bytes, which cannot be kept", name)
        found[PREFIX + name] = _read(files, handle, name, size)
    return found


def set_stream(files: Opening, handle: int, attribute: str, value: bytes) -> None:
    """Give an open file a stream."""
    opened = files.open_stream(handle, attribute.removeprefix(PREFIX), made=True)
    try:
        files.api.WriteFile(opened, value, len(value), bytearray(4), None)
    finally:
        files.close(opened)


def _named(api: Api, handle: int) -> Iterator[tuple[str, int]]:
    """(name, bytes) of each but the content itself."""
    data = bytearray(LISTING)
    code = api.code("GetFileInformationByHandleEx", handle, c.FileStreamInfo, data, len(data))
    if code in NONE_HERE:
        return
    if code:
        raise Failed("GetFileInformationByHandleEx", code)
    at, step, name_at = 0, 1, FILE_STREAM_INFO.StreamName.offset
    while step:
        step, length, size = unpack_from("<IIQ", data, at)
        name = data[at + name_at : at + name_at + length].decode("utf-16-le", "surrogatepass").removeprefix(":").removesuffix(ENDING)
        if name:
            yield name, size
        at += step


def _read(files: Opening, handle: int, name: str, size: int) -> bytes:
    opened = files.open_stream(handle, name, made=False)
    try:
        data, done = bytearray(max(size, 1)), bytearray(4)
        code = files.api.code("ReadFile", opened, data, len(data), done, None)
        if code not in (0, c.ERROR_HANDLE_EOF):
            raise Failed("ReadFile", code)
        return bytes(data[: number(done)])
    finally:
        files.close(opened)
