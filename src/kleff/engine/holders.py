"""Who holds things open inside the product's places: what would fail, or leave something behind, once removing begins."""

from __future__ import annotations

import msgspec

from kleff.case.guard.guard import Target
from kleff.engine.context import going_steps
from kleff.objects.base.action import TO_DO, Action
from kleff.objects.base.here import Here
from kleff.objects.base.kind import Ends, StopsServices, able, kind_of
from kleff.procedure.globs import literal
from kleff.workstation.paths import WPath
from kleff.workstation.things import Process, line_of


class Holder(msgspec.Struct, kw_only=True):
    """A program that has something of the product open; `stopped`: a step of the procedure stops it."""

    line: str
    path: str
    stopped: bool


def product_places(here: Here, actions: list[Action]) -> list[WPath]:
    """The product's places, as far as they may be removed, and what is going to be set aside."""
    files = here.workstation.files
    meant = [e for texts in here.procedure.places.values() for text in texts for e in here.resolver.expand(text)]
    found = [WPath(files.style, e.volume, tuple(literal(n) for n in e.pattern)) for e in meant if not e.absent and not e.is_glob]
    # A place that may not be removed is nobody's alone: half the system runs from /usr.
    found = [p for p in found if here.guard.check(Target(p, len(p.parts), 9)).ok]
    going = (a.path(files.style) for a in actions if a.phase == "delete" and a.state == TO_DO)
    return [p for p in (*found, *(p for p in going if p is not None)) if p.parts]


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
        services |= {stopping.stopped(step, here)} if stopping else set()
    return [
        Holder(line=line_of(p), path=path, stopped=p.pid in going or facet.service_of(p) in services - {""}) for p, path in found
    ]  # fmt: skip
