"""Preview: every step resolved into actions, in phase order. Nothing is touched."""

from __future__ import annotations

import time
from base64 import b64decode
from collections.abc import Iterator
from datetime import UTC, datetime

import msgspec

from kleff.engine.holders import Holder, planned_holders
from kleff.engine.kinds import KINDS
from kleff.engine.scene import steps_here
from kleff.errors import LinkOnTheWay
from kleff.objects.base import ABSENT, KEPT, MANUAL, REFUSED, TO_DO, UNREADABLE, Action, Scene
from kleff.objects.paths import found_paths
from kleff.objects.presence import plan_presence
from kleff.objects.rescue import Rescuer
from kleff.procedure.load import LoadedStep
from kleff.procedure.versions import parse_duration
from kleff.texts import plain

# `backup` before `stop` (an export needs the server); what says `stopped = true` after it.
ORDER = (
    ("before", None), ("backup", False), ("stop", None), ("backup", True), ("uninstall", None), ("purge", None), ("delete", None),
    ("verify", None), ("after", None),
)  # fmt: skip
REMOVING = ("uninstall", "purge", "delete")


class Totals(msgspec.Struct, kw_only=True):
    """Sums over a plan; sizes in bytes."""

    to_do: int = 0
    absent: int = 0
    kept: int = 0
    refused: int = 0
    manual: int = 0
    unreadable: int = 0
    saved_items: int = 0
    saved_size: int = 0
    rescued_items: int = 0
    rescued_size: int = 0
    aside_items: int = 0
    aside_size: int = 0
    keys: int = 0
    values: int = 0


class Plan(msgspec.Struct, kw_only=True):
    """The actions of a procedure on a workstation, numbered in the order they are done.

    Attributes:
        no_return: number of the first action that cannot be taken back; 0 if there is none.
        holders: who has something of the product open now.
    """

    actions: list[Action]
    totals: Totals
    no_return: int = 0
    holders: list[Holder] = []

    @property
    def refused(self) -> list[Action]:
        return [a for a in self.actions if a.state == REFUSED and a.phase not in ("before", "verify")]

    @property
    def not_ready(self) -> list[Action]:
        """What the procedure asks for and is not so."""
        return [a for a in self.actions if a.phase == "before" and a.state in (REFUSED, UNREADABLE)]


def preview(scene: Scene) -> Plan:
    """Resolve every step."""
    actions = []
    for phase, stopped in ORDER:
        for step in steps_here(scene, phase):
            if stopped is None or getattr(step.model, "stopped", False) == stopped:
                actions += plan_step(step, scene)
    _mark_synced(scene, actions)
    at = next((n for n, a in enumerate(actions) if a.phase in ("uninstall", "purge", "delete", "verify", "after")), len(actions))
    actions[at:at] = Rescuer(scene).actions(actions)
    for number, action in enumerate(actions, 1):
        action.number = number
    final = [a.number for a in actions if a.final and a.state == TO_DO]
    return Plan(actions=actions, totals=_totals(actions), no_return=final[0] if final else 0, holders=planned_holders(scene, actions))


def plan_step(step: LoadedStep, scene: Scene) -> list[Action]:
    """The actions of one step; those of a step that the answers do without are kept."""
    kind = KINDS[step.kind]
    present = step.phase == "before" and hasattr(step.model, "must_be")
    actions = [plan_presence(kind, step, scene)] if present else list(kind.plan(step, scene))
    _leave_synced(step, scene, actions)
    _leave_unchosen(step, scene, actions)
    reason = scene.not_wanted(step.model)
    for action in actions if reason else ():
        if action.state != ABSENT:
            action.state, action.reason, action.final, action.shows, action.inside = KEPT, reason, False, [], []
            action.details.pop("again", None)
    return actions


def _leave_unchosen(step: LoadedStep, scene: Scene, actions: list[Action]) -> None:
    """Of what was found only what was chosen: the account's, the version's or the component's actions."""
    if not step.model.chosen:
        return
    ask = next(a for a in scene.procedure.asks if a.id == step.model.chosen)
    answer = scene.answers[ask.id]
    wanted = [answer] if isinstance(answer, str) else answer if isinstance(answer, list) else []
    for action in actions:
        is_of = {"accounts": action.account, "versions": action.version, "components": action.component}[str(ask.from_)]
        if action.state != ABSENT and is_of and is_of not in wanted:
            action.state, action.reason, action.final, action.inside = KEPT, f"not chosen: {is_of}", False, []
            action.details.pop("again", None)


def _leave_synced(step: LoadedStep, scene: Scene, actions: list[Action]) -> None:
    """What a sync program has in the person's own account elsewhere is not saved, if the step says so."""
    synced = getattr(step.model, "unless_synced", None)
    if synced is None:
        return
    try:
        last = list(_last_synced(synced.path, scene))
    except (OSError, LinkOnTheWay):
        last = []  # what cannot be looked at shows nothing; it is saved
    for action in (a for a in actions if a.state == TO_DO):
        found = [t for name, t in last if name in ("", action.account)]
        if found and time.time() - max(found) / 10**9 < parse_duration(synced.newer_than):
            action.state = KEPT
            action.reason = (
                f"synchronised {datetime.fromtimestamp(max(found) / 10**9, UTC):%Y-%m-%d %H:%M}: it is in the person's own account"
            )


def _last_synced(text: str, scene: Scene) -> Iterator[tuple[str, int]]:
    """(account, modification time in ns) of what a sync program writes."""
    for expanded in scene.resolver.expand(text):
        for path in found_paths(expanded, scene):
            look = scene.workstation.files.look(path)
            if look is not None:
                yield (expanded.account.name if expanded.account else ""), look.times[1]


def _mark_synced(scene: Scene, actions: list[Action]) -> None:
    """What leaves a folder that a sync program watches leaves the person's account elsewhere too."""
    facet, files = scene.workstation.readiness, scene.workstation.files
    roots = [(files.path(text), who) for text, who in (facet.sync_roots() if facet else [])]
    for action in actions if roots else ():
        if action.verb != "set aside" or action.state != TO_DO:
            continue
        path = files.from_raw(b64decode(action.exact))
        who = next((who for root, who in roots if root is not None and root.holds(path)), "")
        if who:
            action.details["synced"] = who
            action.shows.append(plain(f"{who} keeps this in step: what is deleted here is deleted in the person's account there too"))


def _totals(actions: list[Action]) -> Totals:
    totals = Totals()
    names = {TO_DO: "to_do", KEPT: "kept", REFUSED: "refused", MANUAL: "manual", UNREADABLE: "unreadable"}
    for action in (a for a in actions if a.phase not in ("before", "verify", "after")):
        name = names.get(action.state, "absent")
        setattr(totals, name, getattr(totals, name) + 1)
        if action.state != TO_DO:
            continue
        if action.phase == "rescue":
            totals.rescued_items += action.items
            totals.rescued_size += action.size
        elif action.phase == "backup":
            totals.saved_items += action.items
            totals.saved_size += action.size
        elif action.verb == "set aside":
            totals.aside_items += action.items
            totals.aside_size += action.size
        elif action.verb == "delete key":
            totals.keys += action.items
        elif action.verb == "delete value":
            totals.values += action.items
    return totals
