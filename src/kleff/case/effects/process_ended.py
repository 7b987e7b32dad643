"""Programs were asked to close, then ended. There is no inverse: they are named, so that a person can start them again."""

from __future__ import annotations

import time
from typing import ClassVar

from msgspec import field

from kleff.case.effects.base import Effect, TakenBack
from kleff.case.hands import Hands
from kleff.case.record.effect import Journaled
from kleff.errors import ActionFailed
from kleff.procedure.globs import PathStyle
from kleff.workstation.facets import Processes, with_children
from kleff.workstation.things import Process, line_of, without_commands

GRACE = 5.0  # seconds a process has to go after it was ended


class ProcessEnded(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """What was ended, in words, and each process with its number."""

    kind: ClassVar[str] = "process ended"

    what_: str = field(default="", name="what")
    processes: list[str] = []

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        return TakenBack("noted", f"{without_commands(self.what_)} was ended; start it again if it is wanted")

    def what(self, one: Journaled, style: PathStyle) -> str:
        return without_commands(self.what_)


def end_processes(hands: Hands, action: int, what: str, victims: list[Process], within: float) -> bool:
    """Ask, wait, end, wait. True if asking was enough.

    Args:
        within: seconds they may take to close by themselves.

    Raises:
        ActionFailed: one does not end.
    """
    facet = hands.workstation.processes
    assert facet is not None
    with hands.doing(action, ProcessEnded(what_=what, processes=[line_of(p) for p in victims])):
        return _end(facet, victims, within, hands)


def _end(facet: Processes, victims: list[Process], within: float, hands: Hands) -> bool:
    for process in victims:
        facet.ask_to_end(process)
    if _gone(facet, victims, within):
        return True
    hands.progress.say(f"     still running after {within:.0f} s: ended")
    left = _left(facet, victims)
    for process in [*left, *with_children(left, facet)]:
        facet.end(process)
    if not _gone(facet, victims, GRACE):
        names = ", ".join(line_of(p) for p in _left(facet, victims))
        raise ActionFailed(f"does not end: {names}", remedy="close it by hand, then resume")
    return False


def _left(facet: Processes, victims: list[Process]) -> list[Process]:
    wanted = {(p.pid, p.started) for p in victims}
    return [p for p in facet.all() if (p.pid, p.started) in wanted]


def _gone(facet: Processes, victims: list[Process], within: float) -> bool:
    deadline = time.monotonic() + within
    while _left(facet, victims):
        if time.monotonic() >= deadline:
            return False
        time.sleep(0.05)
    return True
