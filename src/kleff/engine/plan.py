"""The plan: every step resolved into actions, in phase order. Nothing is touched."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from copy import copy
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from typing import Self

import msgspec

from kleff.engine.accounts import looked_at
from kleff.engine.context import UNSEEN, steps_here, why_unseen
from kleff.engine.systems import elsewhere
from kleff.engine.totals import Totals, totals_of
from kleff.errors import LinkOnTheWay
from kleff.objects.base.action import ABSENT, KEPT, REFUSED, SKIPPED, TO_DO, UNKNOWN, UNREADABLE, Action
from kleff.objects.base.checking import plan_condition
from kleff.objects.base.here import Here
from kleff.objects.base.holders import Holder, planned_holders, silent
from kleff.objects.base.kind import Adds, Looks, Plans, able
from kleff.objects.base.known import kind_of, kinds_of_whole
from kleff.procedure.globs import PathStyle
from kleff.procedure.loaded import LoadedStep
from kleff.procedure.model import Step
from kleff.procedure.versions import parse_duration
from kleff.workstation.identity import NameId

# `backup` before `stop` (an export needs the server); what says `stopped = true` after it. What says `before_uninstall` is deleted before.
ORDER: tuple[tuple[str, Callable[[Step], bool]], ...] = (
    ("before", lambda step: True), ("backup", lambda step: not step.after_stop), ("stop", lambda step: True),
    ("backup", lambda step: step.after_stop), ("delete", lambda step: step.early), ("uninstall", lambda step: True),
    ("purge", lambda step: True), ("delete", lambda step: not step.early), ("verify", lambda step: True), ("after", lambda step: True),
)  # fmt: skip
REMOVING = ("uninstall", "purge", "delete")
TOGETHER = ("uninstall", "purge")  # what one of these removes, another need not
JUDGED = ("stop", *REMOVING, "verify")  # by what has to stay, and by where the product is


class Plan(msgspec.Struct, kw_only=True):
    """The actions of a procedure on a workstation, numbered in the order they are done.

    Attributes:
        no_return: number of the first action that cannot be taken back; 0 if there is none.
        holders: who has something of the product open now.
        silent: programs of which it could not be told what they have open.
        elsewhere: the lines of the steps that cannot apply on this system.
    """

    actions: list[Action]
    totals: Totals
    no_return: int = 0
    holders: list[Holder] = []
    silent: list[str] = []
    elsewhere: list[int] = []

    @property
    def refused(self) -> list[Action]:
        return [a for a in self.actions if (a.state == REFUSED and a.phase not in ("before", "verify")) or _cannot_be_saved(a)]

    @property
    def not_ready(self) -> list[Action]:
        """What the procedure asks for and is not so."""
        return [a for a in self.actions if a.phase == "before" and a.state in (REFUSED, UNREADABLE)]


@dataclass(frozen=True)
class Planning:
    """What every step came to, by itself, so that another answer needs to resolve only the steps that it concerns.

    An answer concerns a step whose conditions or whose choice it changes; what comes along, the packages; and if one that uninstalls or
    purges, all of these. Where it changes what has to stay or where the product is (`Guard.kept`, `Here.own`), it concerns every step
    that stops, removes or verifies. What is made of the whole plan (sums, numbers, who holds it open, what `Adds`) is made anew each time.
    """

    here: Here
    steps: tuple[tuple[LoadedStep, list[Action]], ...]

    @classmethod
    def whole(cls, here: Here) -> Self:
        """Every step resolved."""
        return cls(here, tuple((step, plan_step(step, here)) for step in _in_order(here)))

    def again(self, here: Here) -> Self:
        """The same of a context with other answers or options."""
        if _way(here) != _way(self.here):
            return self.whole(here)
        steps = list(_in_order(here))
        known = {_place(step): actions for step, actions in self.steps}
        for place in self._concerned(steps, here):
            known.pop(place, None)
        planned = (known[place] if (place := _place(step)) in known else plan_step(step, here) for step in steps)
        return type(self)(here, tuple(zip(steps, planned, strict=True)))

    def _concerned(self, steps: list[LoadedStep], here: Here) -> set[tuple[str, int]]:
        """Which steps may come to something else than they did."""
        found = {_place(step) for step in steps if _concerns(self.here, here, step)}
        phases: tuple[str, ...] = TOGETHER if any(phase in TOGETHER for phase, _ in found) else ()
        if (self.here.guard.kept, self.here.own) != (here.guard.kept, here.own):
            phases = JUDGED
        return found | {_place(step) for step in steps if step.phase in phases}

    def plan(self) -> Plan:
        """Of actions of its own: what is made of the whole of them marks them."""
        here, actions = self.here, [_copied(action) for _, actions in self.steps for action in actions]
        _mark_synced(here, actions)
        for adding in (a for kind in kinds_of_whole() if (a := able(kind, Adds))):
            at = next((n for n, a in enumerate(actions) if a.phase in adding.ahead_of), len(actions))
            actions[at:at] = adding.add(actions, here)
        plan = numbered(actions, here.workstation.style, planned_holders(here, actions))
        plan.silent = silent(here)
        plan.elsewhere = elsewhere(here.procedure, here.workstation.system)
        return plan


def _in_order(here: Here) -> Iterable[LoadedStep]:
    return (step for phase, wanted in ORDER for step in steps_here(here, phase) if wanted(step.model))


def _place(step: LoadedStep) -> tuple[str, int]:
    return step.phase, step.index


def _copied(action: Action) -> Action:
    one = copy(action)
    one.shows, one.stays = list(action.shows), list(action.stays)
    return one


def _way(here: Here) -> tuple[object, ...]:
    """How a run is to be done, and whether anything shows the product: every step may hang on it."""
    return here.present, here.versions, replace(here.options, stop_holders=frozenset(), came_along="")


def _concerns(before: Here, here: Here, step: LoadedStep) -> bool:
    """Whether a step may come to something else with other answers, on the same ground."""
    model = step.model
    chosen = bool(model.chosen) and before.answers.get(model.chosen) != here.answers.get(model.chosen)
    along = step.phase == "purge" and before.options.came_along != here.options.came_along
    return chosen or along or before.not_wanted(model) != here.not_wanted(model)


def numbered(actions: list[Action], style: PathStyle, holders: list[Holder] | None = None) -> Plan:
    """A plan of actions, in their order."""
    for number, action in enumerate(actions, 1):
        action.number = number
    last_ones = [a.number for a in actions if a.without_return and a.state == TO_DO]
    return Plan(actions=actions, totals=totals_of(actions, style), no_return=last_ones[0] if last_ones else 0, holders=holders or [])


def plan_step(step: LoadedStep, here: Here) -> list[Action]:
    """The actions of one step; those of a step that the answers do without are kept."""
    kind = kind_of(step.kind)
    looking, planning = able(kind, Looks), able(kind, Plans)
    if step.model.expected and looking is not None:
        actions = [plan_condition(looking, step, here)]
    else:
        actions = _planned(planning, step, here) if planning is not None else []
    actions = [*looked_at(actions, here), *_accounts_not_here(step, here)]
    _leave_synced(step, here, actions)
    _leave_unchosen(step, here, actions)
    _leave_out(step, here, actions)
    reason = here.not_wanted(step.model)
    for action in actions if reason else ():
        if action.state != ABSENT:
            action.keep(reason)
            action.shows = []
    return actions


def _planned(planning: Plans, step: LoadedStep, here: Here) -> list[Action]:
    """What a kind plans; one action that says why where it could not look."""
    try:
        return list(planning.plan(step, here))
    except UNSEEN as error:
        target = step.model.label or " ".join(step.model.written_paths) or step.kind
        return [here.action(step, "look at", target, state=UNREADABLE, reason=why_unseen(error))]


def _accounts_not_here(step: LoadedStep, here: Here) -> list[Action]:
    """An account that a step names and that is not here is seen, not passed over."""
    found: list[Action] = []
    if here.procedure.rules < 2:
        return found
    for name, meant in here.resolver.not_here(step.model.names_accounts):
        action = here.action(step, "look for", f"account {name}", about=[NameId("account", name)], account=name)
        action.reason = f"no such account here{f'; did you mean {meant}?' if meant else ''}"
        action.state = ABSENT if step.model.only_if_here else UNKNOWN
        found.append(action)
    return found


def _leave_out(step: LoadedStep, here: Here, actions: list[Action]) -> None:
    """A backup that the technician goes on without: skipped, with her reason."""
    because = here.options.without_backup.get(step.model.label, "") if step.phase == "backup" and step.model.label else ""
    for action in actions if because else ():
        if action.state != ABSENT:
            action.state, action.reason = SKIPPED, because


def _cannot_be_saved(action: Action) -> bool:
    """A required backup of what could not be looked for."""
    return action.state == UNKNOWN and action.phase == "backup" and not action.optional


def _leave_unchosen(step: LoadedStep, here: Here, actions: list[Action]) -> None:
    """Of what was found only what was chosen: the account's, the version's or the component's actions."""
    for action in actions:
        name = here.not_chosen(step.model, action.account, action.version, action.component)
        if name and action.state != ABSENT:
            action.keep(f"not chosen: {name}")


def _leave_synced(step: LoadedStep, here: Here, actions: list[Action]) -> None:
    """What a sync program has in the person's own account elsewhere is not saved, if the step says so."""
    synced = step.model.synced
    if synced is None:
        return
    try:
        last = list(_last_synced(synced.path, here))
    except (OSError, LinkOnTheWay):
        last = []  # what cannot be looked at shows nothing; it is saved
    for action in (a for a in actions if a.state == TO_DO):
        found = [t for name, t in last if name in ("", action.account)]
        if found and time.time() - max(found) / 10**9 < parse_duration(synced.newer_than):
            action.state = KEPT
            action.reason = (
                f"synchronised {datetime.fromtimestamp(max(found) / 10**9, UTC):%Y-%m-%d %H:%M}: it is in the person's own account"
            )


def _last_synced(text: str, here: Here) -> Iterator[tuple[str, int]]:
    """(account, modification time in ns) of what a sync program writes."""
    files = here.workstation.files
    for expanded in here.resolver.expand(text):
        for path in files.expand(expanded.volume, expanded.pattern) if not expanded.absent else ():
            look = files.look(path)
            if look is not None:
                yield (expanded.account.name if expanded.account else ""), look.times[1]


def _mark_synced(here: Here, actions: list[Action]) -> None:
    """What leaves a folder that a sync program watches leaves the person's account elsewhere too."""
    facet, files = here.workstation.readiness, here.workstation.files
    roots = [(files.path(text), who) for text, who in (facet.sync_roots() if facet else [])]
    for action in actions if roots else ():
        path = action.path(files.style)
        if path is None or action.phase not in REMOVING or action.state != TO_DO:
            continue
        action.synced = next((who for root, who in roots if root is not None and root.holds(path)), "")
        if action.synced:
            action.shows.append(f"{action.synced} keeps this in step: what is deleted here is deleted in the person's account there too")
