"""Programs that hold the product's files open: told before anything is removed."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from kleff.objects.base.action import TO_DO, Action
from kleff.objects.base.here import Here
from kleff.objects.base.kind import Ends, StopsServices, able
from kleff.objects.base.known import kind_of
from kleff.objects.base.own import own_places
from kleff.workstation.things import Process, line_of

UNTOLD = "not known what is open by"


class Holder(msgspec.Struct, kw_only=True):
    """A program that has something of the product open.

    Attributes:
        path: what it holds of the product.
        stopped: a step of the procedure stops it; may_be_stopped: it is not the system's own session.
    """

    name: str
    number: int
    account: str
    path: str
    stopped: bool
    may_be_stopped: bool

    @property
    def line(self) -> str:
        """For people."""
        return f"{self.name}, number {self.number}{f' of {self.account}' if self.account else ''}"


def held_open(here: Here, actions: Sequence[Action]) -> list[tuple[Process, str]]:
    """Who holds what now of the product's places and of what is going to be set aside."""
    facet = here.workstation.processes
    places = own_places(here, [a for a in actions if a.state == TO_DO]) if facet else []
    return facet.holders(places) if facet and places else []


def told_open(here: Here, actions: Sequence[Action]) -> list[str]:
    """The same for people, a line each; and what could not be told."""
    found = [f"still open: {path}, by {line_of(process)}" for process, path in held_open(here, actions)]
    return found + [f"{UNTOLD} {line}: it gives no answer" for line in silent(here)]


def silent(here: Here) -> list[str]:
    """Of which programs it could not be told, when it was looked for holders last, what all they have open."""
    facet = here.workstation.processes
    return sorted({line_of(process) for process in facet.silent()}) if facet else []


def planned_holders(here: Here, actions: Sequence[Action]) -> list[Holder]:
    """Who holds what at the preview, and whether a step stops it."""
    return [holder for holder, _ in found_holders(here, actions)]


def found_holders(here: Here, actions: Sequence[Action]) -> list[tuple[Holder, Process]]:
    found, facet = held_open(here, actions), here.workstation.processes
    if not found or facet is None:
        return []
    going: set[int] = set()
    services: set[str] = set()
    for step in here.procedure.phase("stop"):
        if step.model.on in (None, here.workstation.system) and not here.not_wanted(step.model):
            ending, stopping = able(kind_of(step.kind), Ends), able(kind_of(step.kind), StopsServices)
            going |= {p.pid for p in ending.ends(step, here)} if ending else set()
            services |= stopping.stopped(step, here) if stopping else set()
    return [
        (Holder(
            name=p.name, number=p.pid, account=p.account, path=path, stopped=p.pid in going or facet.service_of(p) in services,
            may_be_stopped=here.guard.check_name("process", p.name).ok,
        ), p)
        for p, path in found
    ]  # fmt: skip
