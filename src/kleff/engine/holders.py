"""Who holds things open inside the product's places: what would fail, or leave something behind, once removing begins."""

from __future__ import annotations

import msgspec

from kleff.engine.context import going_steps
from kleff.engine.running import own_places
from kleff.objects.base.action import TO_DO, Action
from kleff.objects.base.here import Here
from kleff.objects.base.kind import Ends, StopsServices, able, kind_of
from kleff.workstation.paths import WPath
from kleff.workstation.things import Process, line_of


class Holder(msgspec.Struct, kw_only=True):
    """A program that has something of the product open; `stopped`: a step of the procedure stops it."""

    line: str
    path: str
    stopped: bool


def product_places(here: Here, actions: list[Action]) -> list[WPath]:
    """The product's places, as far as they may be removed, and what is going to be set aside."""
    return own_places(here, [a for a in actions if a.state == TO_DO])


def held_open(here: Here, actions: list[Action]) -> list[tuple[Process, str]]:
    """Who holds what now."""
    facet = here.workstation.processes
    places = product_places(here, actions) if facet else []
    return facet.holders(places) if facet and places else []


def planned_holders(here: Here, actions: list[Action]) -> list[Holder]:
    """Who holds what at the preview, and whether a step stops it."""
    found = held_open(here, actions)
    facet = here.workstation.processes
    if not found or facet is None:
        return []
    going: set[int] = set()
    services: set[str] = set()
    for step in going_steps(here, "stop"):
        kind = kind_of(step.kind)
        ending, stopping = able(kind, Ends), able(kind, StopsServices)
        going |= {p.pid for p in ending.ends(step, here)} if ending else set()
        services |= stopping.stopped(step, here) if stopping else set()
    return [
        Holder(line=line_of(p), path=path, stopped=p.pid in going or facet.service_of(p) in services) for p, path in found
    ]  # fmt: skip
