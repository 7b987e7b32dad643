"""Room that a case keeps for its own journal: what it removes may be the very reason why a volume is full."""

from __future__ import annotations

from pathlib import Path

from kleff.workstation.this_machine import host

NAME = "reserve"
LEAST = 256 << 10  # bytes
EACH = 2 << 10  # for each action: what is journaled of it, in the log and in the file
LOW = 512 << 10  # free bytes of the volume below which it is given up
FILES = 16  # a case's own; and of each action two


def needed(actions: int) -> int:
    """Bytes for a case of so many actions."""
    return LEAST + EACH * actions


def make(case: Path, actions: int) -> None:
    """Take the room, on disk when this returns.

    Raises:
        OSError: there is none.
    """
    with host().open_new(case / NAME) as out:
        left = needed(actions)
        while left > 0:
            left -= out.write(bytes(min(left, 1 << 20)))
        host().flush_file(out)


def low(case: Path) -> bool:
    """Whether the volume has hardly any room; what was kept is then the journal's."""
    if host().space(case).free >= LOW:
        return False
    drop(case)
    return True


def drop(case: Path) -> None:
    """It is not needed any more."""
    (case / NAME).unlink(missing_ok=True)
