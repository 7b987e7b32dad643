"""The three standard streams, as whoever started Kleff left them: closed, or with a reader that goes away."""

from __future__ import annotations

import contextlib
import io
import os
import sys
from typing import BinaryIO, TextIO, cast


class _Heard(io.FileIO):
    """Writes to whoever listens; what nobody reads any more is dropped, so that the work and its exit code stay the same."""

    def write(self, data: bytes | bytearray | memoryview, /) -> int | None:  # type: ignore[override]
        rest = memoryview(data).cast("B")
        size = len(rest)
        with contextlib.suppress(BrokenPipeError):
            while rest:
                rest = rest[super().write(rest) or 0 :]
        return size


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
    raw = cast(io.RawIOBase, _Heard(number, "w", closefd=False))
    encoding = getattr(stream, "encoding", None) or "utf-8"
    if number == 2:  # a signal may say something while something is being said: nothing here may be locked
        return io.TextIOWrapper(cast(BinaryIO, raw), encoding=encoding, errors="backslashreplace", write_through=True)
    return io.TextIOWrapper(io.BufferedWriter(raw), encoding=encoding, errors="backslashreplace", line_buffering=os.isatty(number))
