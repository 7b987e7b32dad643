"""What a supervisor keeps of the program it runs, in a file beside the program's output, whatever the system."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import msgspec

from kleff.workstation.things import Running

NOTED = 300_000_000  # ns within which a supervisor notes anew that its program is at work, on a busy machine too


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


def last_at_work(output: Path) -> int:
    """Until when a program was at work at least, in ns: its end, or the last that its supervisor has noted of it (0: nothing is known)."""
    record = recorded(output)
    if record is None:
        return 0
    return int(record.ended * 1e9) if record.ended is not None else record_of(output).stat().st_mtime_ns + NOTED


def over(running: Running, runs: Callable[[int, float], bool]) -> bool:
    """Whether a program has ended: its record says so, or neither it nor its supervisor runs any more.

    Args:
        runs: whether the very process of a number and a start time still does.
    """
    watched = runs(running.pid, running.started)  # asked first: what ends after this has left its record
    record = recorded(running.output)
    running.begun = watched or record is not None
    if record is not None:
        running.program, running.code = record.program, record.code
        if record.code is not None:
            return True
        watched = watched or (record.program > 0 and runs(record.program, record.started))
    return not watched
