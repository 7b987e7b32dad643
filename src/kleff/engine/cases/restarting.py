"""Restarting the workstation for a case that waits for it, if the technician wants that."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Protocol

from kleff.errors import ActionFailed, Refused, RestartNeeded
from kleff.workstation.facets import Workstation


class RestartFront(Protocol):
    """What a front end says and asks before a restart."""

    def tell(self, text: str) -> None:
        """One line for the technician."""

    def restart(self, question: str, remedy: str) -> None:
        """The question; remedy: what to do where nobody answers.

        Raises:
            Refused: not agreed.
        """


@contextmanager
def restarted_on_demand(workstation: Workstation, wanted: bool, front: RestartFront) -> Iterator[None]:
    """What is done within may need a restart: it is asked for then, and begun.

    Args:
        wanted: it is to be restarted at once.

    Raises:
        RestartNeeded: in any case; what is open waits.
    """
    try:
        yield
    except RestartNeeded as needed:
        workstation.release()
        boots, readiness = workstation.boots, workstation.readiness
        if not wanted:
            raise
        if boots is None:
            front.tell("\nIt cannot be restarted from here.")
            raise
        others = readiness.signed_in() if readiness is not None else []
        warnings = [f"{', '.join(others)} signed in too, and loses what is not saved"] if others else []
        told = "".join(f"\n  {text}" for text in (*warnings, *boots.prompts()))
        try:
            front.restart(f"\n{needed.what}.{told}\nRestart {workstation.name} now?", needed.remedy)
            boots.restart()
            front.tell(f"\n{workstation.name} restarts.")
        except (Refused, ActionFailed) as error:  # the case waits all the same
            front.tell(f"\nIt was not restarted: {error.what}.")
        raise
