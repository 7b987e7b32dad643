"""What a supervisor keeps of the program it runs, in a file beside the program's output, whatever the system."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

import msgspec


class Record(msgspec.Struct, kw_only=True):
    """What is kept of a program.

    Attributes:
        program, started: its number and start time, 0 before it is started; code, ended: how and when it ended.
        left: the processes that it has left at work.
    """

    program: int
    started: float
    code: int | None = None
    ended: float | None = None
    left: list[int] = []


def record_of(output: Path) -> Path:
    """Where it is kept how a program ended."""
    return output.with_name(output.name + ".run")


def recorded(output: Path) -> Record | None:
    """What is known of a program; None if nothing is."""
    with suppress(OSError, msgspec.DecodeError):
        return msgspec.json.decode(record_of(output).read_bytes(), type=Record)
    return None
