"""Running a program of the workstation to its end."""

from __future__ import annotations

import codecs
from collections.abc import Collection, Sequence
from pathlib import Path

from kleff.errors import ActionFailed
from kleff.workstation.facets import Commands
from kleff.workstation.things import Given, Known

LONGEST = 4 << 20  # bytes of a program's output that are read
LINES, LINE = 20, 400  # of it at a failure: so many lines, of so many characters


def run_to_its_end(
    commands: Commands, argv: Sequence[str], output: Path, given: Given, patience: float, known: Known | None = None,
    fine: Collection[int] = (0,),
) -> int | None:  # fmt: skip
    """Start a program and wait for it. Returns its exit code.

    Args:
        output: where its standard output goes, and its errors unless `given` says otherwise.
        patience: seconds it may take.
        known: as `Commands.start`; fine: the exit codes that are no failure.

    Raises:
        ActionFailed: it cannot be started, does not end in time, or ends badly.
    """
    running = commands.start(argv, output, given, known)
    if not commands.wait(running, patience):
        raise ActionFailed(f"{argv[0]} has not ended in time", remedy="do it by hand, then resume with --skip")
    if running.code not in fine:
        log = given.errors or output
        raise ActionFailed(f"{argv[0]} ended with exit code {running.code}", remedy=f"read {log}; then resume", said=last_lines(log))
    return running.code


def said(output: Path) -> str:
    """What a program wrote, up to `LONGEST` bytes; "" if it wrote nothing. Installers write 16-bit text with a mark before it."""
    try:
        with output.open("rb") as file:
            raw = file.read(LONGEST)
    except OSError:
        return ""
    wide = raw.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE))
    return raw.decode("utf-16", "replace") if wide else raw.decode("utf-8-sig", "surrogateescape")


def last_lines(output: Path) -> list[str]:
    """The last lines a program wrote, enough to act on; none if it wrote nothing."""
    return [line.rstrip()[:LINE] for line in said(output).splitlines() if line.strip()][-LINES:]
