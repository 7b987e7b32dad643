"""Who holds things open inside the product's places: what would fail, or leave something behind, once removing begins."""

from __future__ import annotations

from base64 import b64decode

import msgspec

from kleff.case.guard.guard import Target
from kleff.engine.kinds import KINDS
from kleff.engine.scene import going_steps
from kleff.objects.base import TO_DO, Action, Scene
from kleff.objects.processes import ProcessKind, line_of, matching, with_children
from kleff.procedure.globs import literal
from kleff.texts import plain
from kleff.workstation.facets import Process
from kleff.workstation.paths import WPath


class Holder(msgspec.Struct, kw_only=True):
    """A program that has something of the product open; `stopped`: a step of the procedure stops it."""

    line: str
    path: str
    stopped: bool


def product_places(scene: Scene, actions: list[Action]) -> list[WPath]:
    """The product's places, as far as they may be removed, and what is going to be set aside."""
    files = scene.workstation.files
    meant = [e for texts in scene.procedure.places.values() for text in texts for e in scene.resolver.expand(text)]
    found = [WPath(files.style, e.volume, tuple(literal(n) for n in e.pattern)) for e in meant if not e.absent and not e.is_glob]
    # A place that may not be removed is nobody's alone: half the system runs from /usr.
    found = [p for p in found if scene.guard.check(Target(p, len(p.parts), 9)).ok]
    found += [files.from_raw(b64decode(a.exact)) for a in actions if a.phase == "delete" and a.state == TO_DO and a.exact]
    return [p for p in found if p.parts]


def held(scene: Scene, actions: list[Action]) -> list[tuple[Process, str]]:
    """Who holds what now."""
    facet = scene.workstation.processes
    places = product_places(scene, actions) if facet else []
    return facet.holders(places) if facet and places else []


def planned_holders(scene: Scene, actions: list[Action]) -> list[Holder]:
    """Who holds what at the preview, and whether a step stops it."""
    found = held(scene, actions)
    facet = scene.workstation.processes
    if not found or facet is None:
        return []
    going: set[int] = set()
    for step in going_steps(scene, "stop"):
        if isinstance(KINDS[step.kind], ProcessKind):
            going |= {p.pid for p in with_children(matching(step, scene), facet)}
    services = {service for step in going_steps(scene, "stop") if (service := getattr(step.model, "service", ""))}
    return [
        Holder(line=line_of(p), path=plain(path), stopped=p.pid in going or facet.service_of(p) in services)
        for p, path in found
    ]  # fmt: skip
