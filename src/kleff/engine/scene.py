"""Setting the scene: a procedure, a workstation, and what on it must stay."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence

import msgspec

from kleff.case.guard.guard import Guard, Kept
from kleff.engine.kinds import KINDS
from kleff.errors import LinkOnTheWay
from kleff.objects.base import Scene, Sighting
from kleff.objects.entries import EntryUninstall
from kleff.objects.entries import matching as matching_entries
from kleff.objects.packages import leaving
from kleff.objects.paths import PathsDelete, found_paths
from kleff.objects.resolve import Resolver
from kleff.procedure.conditions import Answer
from kleff.procedure.load import LoadedStep, Procedure
from kleff.progress import Progress, Silent
from kleff.workstation.facets import Workstation
from kleff.workstation.paths import WPath

# What stands for an answer that nobody needed to give (a look at a procedure, without a plan).
_NONE: dict[str, Answer] = {"yes-no": False, "one": "", "some": []}


def set_scene(
    workstation: Workstation,
    procedure: Procedure,
    progress: Progress | None = None,
    others: Sequence[Procedure] = (),
    answers: dict[str, Answer] | None = None,
) -> Scene:
    """A scene for planning and running.

    Args:
        others: the other procedures of the library; what they claim stays while their product is present.
        answers: to the procedure's questions; the defaults where they are left out.
    """
    resolver = Resolver(workstation, procedure)
    scene = Scene(workstation, procedure, Guard(workstation), resolver, progress or Silent())
    scene.answers = {**_defaults(procedure), **(answers or {})}
    if any("version" in s.model.when + s.model.unless for s in procedure.steps):
        scene.versions = sorted({s.version for s in sightings(scene) if s.version})
    kept = scene.guard.kept
    _keep_named(scene, kept)
    _keep_unwanted(scene, kept)
    _keep_products(scene, kept)
    _keep_packages(scene, kept)
    for other in others:
        _keep_claimed(Scene(workstation, other, scene.guard, Resolver(workstation, other), answers=_defaults(other)), kept)
    return scene


def _defaults(procedure: Procedure) -> dict[str, Answer]:
    return {ask.id: ask.default if ask.default is not None and not ask.from_ else _NONE[ask.type] for ask in procedure.asks}


def secrets_needed(procedure: Procedure, system: str) -> list[str]:
    """The names of the secrets that steps of a procedure need on a system."""
    steps = [s.model for s in procedure.steps if s.model.on in (None, system)]
    return list(dict.fromkeys(name for s in steps if (name := getattr(s, "secret", ""))))


def steps_here(scene: Scene, phase: str) -> list[LoadedStep]:
    """The steps of a phase that are meant for this system."""
    steps = scene.procedure.evidence if phase == "evidence" else scene.procedure.phase(phase)
    return [s for s in steps if s.model.on in (None, scene.workstation.system)]


def going_steps(scene: Scene, phase: str) -> list[LoadedStep]:
    """The steps of a phase that are meant for this system and wanted by the answers."""
    return [s for s in steps_here(scene, phase) if not scene.not_wanted(s.model)]


def sightings(scene: Scene) -> list[Sighting]:
    """All evidence that is there."""
    return [found for step in going_steps(scene, "evidence") for found in KINDS[step.kind].look(step, scene)]


def _keep_named(scene: Scene, kept: Kept) -> None:
    for text in scene.procedure.keep.paths:
        for expanded in scene.resolver.expand(text):
            if not expanded.absent:
                kept.patterns.append((expanded.volume, expanded.pattern, f"the procedure keeps {text}"))


def _keep_unwanted(scene: Scene, kept: Kept) -> None:
    """What a step would delete that the answers do without stays, also where another step names a folder above it."""
    for step in steps_here(scene, "delete"):
        reason = scene.not_wanted(step.model)
        if reason:
            kept.places += [(place, f"{reason} (line {step.line})") for place in _named_by(scene, [step])]
        ask = next((a for a in scene.procedure.asks if a.id == step.model.chosen and a.from_ == "accounts"), None)
        if ask is not None and isinstance(step.model, PathsDelete):
            chosen = scene.answers.get(ask.id, [])
            for account in scene.resolver.accounts(step.model.accounts):
                if account.name not in (chosen if isinstance(chosen, list) else [chosen]):
                    only = msgspec.structs.replace(step.model, accounts=[account.name])
                    one = dataclasses.replace(step, model=only)
                    kept.places += [
                        (place, f"not chosen: {account.name} (line {step.line})")
                        for place in _named_by(scene, [one])
                        if account.home.holds(place)
                    ]


def _keep_products(scene: Scene, kept: Kept) -> None:
    """Folders of registered products that this procedure does not uninstall."""
    entries = scene.workstation.entries
    if entries is None:
        return
    going = set()
    for step in going_steps(scene, "uninstall"):
        if isinstance(step.model, EntryUninstall):
            found = matching_entries(step, scene)
            going |= {e.key for e in found if scene.version_in_range(e.version, step.model.entry)}
    for entry in entries.all():
        place = scene.workstation.files.path(entry.location) if entry.location and entry.key not in going else None
        if place is not None and place.parts:
            name = entry.name if entry.version in entry.name else f"{entry.name} {entry.version}"
            kept.places.append((place, f"it belongs to {name}, which stays"))


def _keep_claimed(other: Scene, kept: Kept) -> None:
    """Paths that another procedure would delete, while its product is there."""
    if any(s.in_range and not s.unreadable for s in sightings(other)):
        reason = f"the procedure of {other.procedure.product.name}, which is present, claims it"
        kept.places += [(place, reason) for place in _targets(other)]


def _keep_packages(scene: Scene, kept: Kept) -> None:
    """Paths below the targets that packages own which this procedure does not remove."""
    packages = scene.workstation.packages
    targets = _targets(scene) if packages else []
    if packages is None or not targets:
        return
    going = {n.partition(":")[0] for n in leaving(going_steps(scene, "purge"), scene)}
    for text, owners in packages.owners(targets).items():
        staying = sorted({o for o in owners if o.partition(":")[0] not in going})
        path = scene.workstation.files.path(text)
        if staying and path is not None:
            kept.single[path.key] = f"it belongs to the package {', '.join(staying)}, which stays"


def _targets(scene: Scene) -> list[WPath]:
    return _named_by(scene, going_steps(scene, "delete"))


def _named_by(scene: Scene, steps: list[LoadedStep]) -> list[WPath]:
    found: dict[object, WPath] = {}
    for step in steps:
        if isinstance(step.model, PathsDelete):
            for text in step.model.paths:
                for expanded in scene.resolver.expand(text, step.model.accounts):
                    try:
                        found.update((p.key, p) for p in found_paths(expanded, scene, step.model.at_most))
                    except (OSError, LinkOnTheWay):
                        continue  # the plan says so where it stands
    return list(found.values())
