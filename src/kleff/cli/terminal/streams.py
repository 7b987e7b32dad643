"""The three standard streams, as whoever started Kleff left them: closed, or with a reader that goes away."""

from __future__ import annotations

import errno
import io
import os
import sys
from typing import BinaryIO, TextIO, cast


class _Heard(io.FileIO):
    """Writes to whoever listens; what nobody reads any more is dropped, so that the work and its exit code stay the same.

    Attributes:
        lost: why something could not be written, for another reason than an absent reader.
    """

    lost: OSError | None = None

    def write(self, data: bytes | bytearray | memoryview, /) -> int | None:  # type: ignore[override]
        rest = memoryview(data).cast("B")
        size = len(rest)
        try:
            while rest:
                rest = rest[super().write(rest) or 0 :]
        except BrokenPipeError:
            pass
        except OSError as error:
            if sys.platform != "win32" or error.errno != errno.EINVAL:  # which Windows says of a pipe without a reader
                self.lost = self.lost or error
        return size


def lost() -> OSError | None:
    """Why what was said on standard output is not all there; None if it is."""
    sys.stdout.flush()
    buffer = getattr(sys.stdout, "buffer", None)
    raw = getattr(buffer, "raw", None)
    return raw.lost if isinstance(raw, _Heard) else None


def make_sound() -> None:
    """Open those that are closed, for the next file that is opened would take their number and be written to by programs;
    let none of them end the work when its reader goes away."""
    for number in (0, 1, 2):
        try:
            os.fstat(number)
        except OSError:
            os.set_inheritable(os.open(os.devnull, os.O_RDWR), True)  # the lowest free number is this one
    sys.stdin = sys.stdin or io.TextIOWrapper(io.FileIO(0, closefd=False))
    if sys.stdout is sys.__stdout__ and sys.stderr is sys.__stderr__:  # not those of a program that calls this
        sys.stdout, sys.stderr = _sound(sys.stdout, 1), _sound(sys.stderr, 2)


def _sound(stream: TextIO | None, number: int) -> TextIO:
    if stream is not None:
        stream.flush()
        if sys.platform == "win32" and stream.isatty() and isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")  # a console takes any letter, whatever its code page
            return stream
    raw = cast(io.RawIOBase, _Heard(number, "w", closefd=False))
    encoding = "utf-8" if sys.platform == "win32" else getattr(stream, "encoding", None) or "utf-8"
    if number == 2:  # a signal may say something while something is being said: nothing here may be locked
        return io.TextIOWrapper(cast(BinaryIO, raw), encoding=encoding, errors="backslashreplace", write_through=True)
    return io.TextIOWrapper(io.BufferedWriter(raw), encoding=encoding, errors="backslashreplace", line_buffering=os.isatty(number))
