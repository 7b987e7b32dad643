"""Survey: is it here, which versions, where, who uses it, what of it runs."""

from __future__ import annotations

import msgspec

from kleff.engine.kinds import KINDS
from kleff.engine.scene import sightings, steps_here
from kleff.errors import LinkOnTheWay
from kleff.objects.base import Scene, Sighting, can_look
from kleff.objects.keys import KeyDelete, meant_keys
from kleff.objects.paths import PathsBackup, PathsDelete, found_paths


class Survey(msgspec.Struct, kw_only=True):
    """What a survey found.

    Attributes:
        present: some evidence within the procedure's versions.
        versions: those that were found, whether meant or not.
        evidence: what speaks for the product as meant; others: other versions, which are kept.
        accounts: who has files or settings of it.
        running: programs and services of it that run now.
    """

    present: bool
    versions: list[str]
    evidence: list[Sighting]
    others: list[Sighting]
    unreadable: list[Sighting]
    accounts: list[str]
    running: list[str]


def survey(scene: Scene) -> Survey:
    """Look; nothing is changed."""
    found = sightings(scene)
    meant = [s for s in found if s.in_range and not s.unreadable]
    return Survey(
        present=bool(meant),
        versions=sorted({s.version for s in found if s.version}),
        evidence=meant,
        others=[s for s in found if not s.in_range],
        unreadable=[s for s in found if s.unreadable],
        accounts=_users(scene),
        running=_running(scene),
    )


def _users(scene: Scene) -> list[str]:
    names: set[str] = set()
    for step in [*steps_here(scene, "backup"), *steps_here(scene, "delete")]:
        model = step.model
        if isinstance(model, PathsBackup | PathsDelete):
            for text in model.paths:
                for expanded in scene.resolver.expand(text, model.accounts):
                    if expanded.account and expanded.account.name not in names:
                        try:
                            names |= {expanded.account.name} if found_paths(expanded, scene) else set()
                        except (OSError, LinkOnTheWay):
                            continue
        elif isinstance(model, KeyDelete) and scene.workstation.registry:
            for key, account in meant_keys(scene, model.key, model.view, model.accounts):
                if account and scene.workstation.registry.exists(key):
                    names.add(account)
    return sorted(names)


def _running(scene: Scene) -> list[str]:
    found = [s for step in steps_here(scene, "stop") if can_look(KINDS[step.kind]) for s in KINDS[step.kind].look(step, scene)]
    return [
        f"{'program' if s.kind == 'process' else s.kind} {s.what.removesuffix(', running')}" + (f" ({s.account})" if s.account else "")
        for s in found
        if not s.what.endswith("not running")
    ]
