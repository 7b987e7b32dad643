"""Restarting the workstation for a case that waits for it, if the technician wants that."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from kleff.errors import ActionFailed, Refused, RestartNeeded

if TYPE_CHECKING:
    from kleff.workstation.facets import Workstation


@contextmanager
def restarted_on_demand(workstation: Workstation, wanted: bool, yes: bool) -> Iterator[None]:
    """What is done within may need a restart: it is asked for then, and begun.

    Args:
        wanted: it is to be restarted at once; yes: without a question.

    Raises:
        RestartNeeded: in any case; what is open waits.
    """
    from kleff.cli.common import confirm
    from kleff.cli.terminal.show import message

    try:
        yield
    except RestartNeeded as needed:
        boots, readiness = workstation.boots, workstation.readiness
        if not wanted:
            raise
        if boots is None:
            message("\nIt cannot be restarted from here.")
            raise
        others = readiness.signed_in() if readiness is not None else []
        warnings = [f"{', '.join(others)} signed in too, and loses what is not saved"] if others else []
        told = "".join(f"\n  {text}" for text in (*warnings, *boots.prompts()))
        try:
            confirm(f"\n{needed.what}.{told}\nRestart {workstation.name} now?", yes, needed.remedy)
            boots.restart()
            message(f"\n{workstation.name} restarts.")
        except (Refused, ActionFailed) as error:  # the case waits all the same
            message(f"\nIt was not restarted: {error.what}.")
        raise
