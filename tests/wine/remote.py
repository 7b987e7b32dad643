"""Calls made under Wine by a helper (callhost.c, which tells what travels): what calls on a real Windows, for tests on Linux."""

from __future__ import annotations

import ctypes
import os
import select
import struct
import subprocess
import time
from collections.abc import Sequence
from pathlib import Path

from kleff.workstation.windows.native.caller import MOST, Answer, Arg, Call, Crashed, wide

WINE = "/usr/lib/wine/wine64"  # /usr/bin/wine tells of a missing 32-bit one first
STUB = 0x80000100  # a name that Wine exports with nothing behind it
OVERRUN = 0xE0000001


class HelperLost(RuntimeError):
    """The helper has ended or does not answer; what it had open is gone."""


def environment(prefix: Path) -> dict[str, str]:
    """For programs that are to run in a prefix, without any window."""
    own = {"WINEPREFIX": str(prefix.absolute()), "WINEDEBUG": "-all", "LC_ALL": "C.UTF-8"}
    return {name: text for name, text in os.environ.items() if name != "DISPLAY"} | own


class RemoteCaller:
    """Implements `Caller`. It must live as long as a test: with the last of its programs a prefix ends, and its services too.

    Args:
        seconds: within which everything is answered; who does not is ended.
    """

    def __init__(self, helper: Path, prefix: Path, seconds: float = 60) -> None:
        self._seconds = seconds
        self._process = subprocess.Popen(
            [WINE, str(helper)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, bufsize=0,
            env=environment(prefix),
        )  # fmt: skip
        self._addresses: dict[tuple[str, str], int] = {}

    def address_of(self, dll: str, function: str) -> int:
        if (dll, function) not in self._addresses:
            library, name = f"{dll}.dll".encode("utf-16-le"), function.encode()
            frame = struct.pack("<cH", b"F", len(library) // 2) + library + struct.pack("<H", len(name)) + name
            (self._addresses[dll, function],) = struct.unpack("<Q", self._exchange(frame))
        return self._addresses[dll, function]

    def call(self, call: Call) -> Answer:
        return self.batch([call])[0]

    def batch(self, calls: Sequence[Call]) -> list[Answer]:
        for call in calls:
            if not self.address_of(call.dll, call.function):
                raise NotImplementedError(f"{call.dll} has no {call.function} here")
        return self._called([(c.function, self.address_of(c.dll, c.function), c.arguments) for c in calls])

    def call_at(self, address: int, *arguments: Arg) -> Answer:
        return self._called([(f"{address:#x}", address, arguments)])[0]

    def _called(self, calls: Sequence[tuple[str, int, Sequence[Arg]]]) -> list[Answer]:
        frame = bytearray()
        for what, address, arguments in calls:
            if len(arguments) > MOST:
                raise TypeError(f"{what} has too many arguments")
            frame += struct.pack("<cQB", b"C", address, len(arguments)) + b"".join(map(_packed, arguments))
        back, at, found = self._exchange(bytes(frame)), 0, []
        for what, _, arguments in calls:
            exception, result, error = struct.unpack_from("<IQI", back, at)
            at += 16
            for argument in arguments:
                at += _written_back(argument, back, at)
            if exception == STUB:
                raise NotImplementedError(f"Wine has nothing behind {what}")
            if exception:
                raise Crashed(what, exception)
            found.append(Answer(result, error))
        return found

    def alloc(self, data: int | bytes) -> int:
        size = data if isinstance(data, int) else len(data)
        address: int = struct.unpack("<Q", self._exchange(struct.pack("<cI", b"A", size)))[0]
        if isinstance(data, bytes):
            self.write(address, data)
        return address

    def free(self, address: int) -> None:
        self._exchange(struct.pack("<cQ", b"D", address))

    def read(self, address: int, size: int) -> bytes:
        back = self._exchange(struct.pack("<cQI", b"R", address, size))
        if len(back) - 4 != size:
            raise Crashed(f"reading at {address:#x}", 0xC0000005)
        return back[4:]

    def write(self, address: int, data: bytes) -> None:
        (done,) = struct.unpack("<I", self._exchange(struct.pack("<cQI", b"W", address, len(data)) + data))
        if done != len(data):
            raise Crashed(f"writing at {address:#x}", 0xC0000005)

    def close(self) -> None:
        """Let the helper end."""
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        self._process.stdin.close()
        try:
            self._process.wait(10)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        self._process.stdout.close()

    # -- the pipe ---------------------------------------------------------------------------------------------

    def _exchange(self, frame: bytes) -> bytes:
        assert self._process.stdin is not None
        data = memoryview(struct.pack("<I", len(frame)) + frame)
        try:
            while data:
                data = data[os.write(self._process.stdin.fileno(), data) :]
        except (BrokenPipeError, ValueError):
            raise HelperLost(f"the helper ended with {self._process.wait()}") from None
        deadline = time.monotonic() + self._seconds
        (size,) = struct.unpack("<I", self._received(4, deadline))
        return self._received(size, deadline)

    def _received(self, size: int, deadline: float) -> bytes:
        assert self._process.stdout is not None
        fd, pieces = self._process.stdout.fileno(), bytearray()
        while len(pieces) < size:
            if not select.select([fd], [], [], max(0, deadline - time.monotonic()))[0]:
                self._process.kill()
                raise HelperLost(f"no answer within {self._seconds:g} s")
            piece = os.read(fd, size - len(pieces))
            if not piece:
                raise HelperLost(f"the helper ended with {self._process.wait()}")
            pieces += piece
        return bytes(pieces)


def _bytes_of(argument: str | bytes | bytearray | ctypes.Structure) -> bytes:
    return wide(argument) if isinstance(argument, str) else bytes(argument)


def _packed(argument: Arg) -> bytes:
    if argument is None or isinstance(argument, int):
        return struct.pack("<BQ", 0, (argument or 0) & (1 << 64) - 1)
    data = _bytes_of(argument)
    return struct.pack("<BI", 1, len(data)) + data


def _written_back(argument: Arg, back: bytes, at: int) -> int:
    """Give a buffer what it holds after the call. Returns how much of the answer that was."""
    if argument is None or isinstance(argument, int):
        return 0
    size = len(_bytes_of(argument))
    if isinstance(argument, bytearray):
        argument[:] = back[at : at + size]
    elif isinstance(argument, ctypes.Structure):
        ctypes.memmove(ctypes.addressof(argument), back[at : at + size], size)
    return size
