"""Actions that could not be done before: what they come to now."""

from __future__ import annotations

from collections.abc import Hashable, Sequence

import msgspec

from kleff.case.record.effect import Journaled
from kleff.case.record.folder import Case
from kleff.engine.cases.rows import Row
from kleff.engine.finding import Finding
from kleff.engine.plan import plan_step
from kleff.errors import ActionFailed
from kleff.objects.base.action import ABSENT, DONE, FAILED, MANUAL, TO_DO, UNREADABLE, Action, Outcome
from kleff.objects.base.here import Here
from kleff.procedure.globs import PathStyle
from kleff.procedure.loaded import LoadedStep
from kleff.texts import plain
from kleff.workstation.identity import sameness

NOT_SHOWN = "not_shown"  # the actions of which it is told already that what would show them was deleted since


def look_again(row: Row, step: LoadedStep, here: Here, case: Case) -> Action | Outcome:
    """Look at an action that failed, is done by hand or could not be looked at.

    Returns:
        The action as it is to be done now; or how it stands, if it needs not be done any more.

    Raises:
        ActionFailed: it cannot be done now either, or failed and has not been done since.
    """
    action = row.action
    now = [a for a in plan_step(step, here) if is_same(a, action, here.workstation.style)]
    gone = action.phase == "uninstall" and not any(a.state != ABSENT for a in now)
    if gone and _went_on_after(action, case.journal.effects()):
        # A later step of the case may have deleted what would show that it is there: that is not "done by hand".
        told, number = case.text(NOT_SHOWN).split(), str(action.number)
        case.keep(**{NOT_SHOWN: " ".join(dict.fromkeys([*told, number]))})
        remedy = f"if it was done by hand, go past it with  --skip {number} --because TEXT"
        raise ActionFailed(f"{row.note or action.reason}{'' if number in told else '; what showed it was deleted since'}", remedy=remedy)
    if row.state == FAILED and action.state not in (MANUAL, UNREADABLE):
        return action
    if now and now[0].state == TO_DO:
        return msgspec.structs.replace(now[0], number=action.number)
    if now and now[0].state in (MANUAL, UNREADABLE):
        remedy = "do it by hand, then resume" if now[0].state == MANUAL else "check the rights, or end what has it open; then resume"
        raise ActionFailed(f"{action.target}: {now[0].reason}", remedy=remedy)
    return Outcome(note=now[0].reason if now and now[0].state == DONE else "done by hand")


def _went_on_after(action: Action, effects: Sequence[Journaled]) -> bool:
    return any(e.action > action.number and e.state == "done" for e in effects)


def is_same(now: Action, then: Action, style: PathStyle) -> bool:
    """Whether an action planned afresh is the agreed one."""
    if now.account != then.account:
        return False
    return about(now, style) == about(then, style) if then.about else _same_text(now, then)


def _same_text(now: Action, then: Action) -> bool:
    """Plans of the first format hold only a text of what they are about, escaped; of what is absent there is no more either."""
    return plain(now.target) == plain(then.target)


def about(thing: Action | Finding, style: PathStyle) -> tuple[Hashable, ...]:
    """What it is about, to be compared."""
    return tuple(sameness(i, style) for i in thing.about)


def late_actions(row: Row, step: LoadedStep, here: Here) -> list[Action]:
    """Of what was absent at the preview, what is there now: of the same text, which may have a wildcard, and account."""
    wanted = row.action
    found = [a for a in plan_step(step, here) if a.state == TO_DO and a.account == wanted.account]
    return [msgspec.structs.replace(a, number=wanted.number) for a in found if wanted.meant in (a.target, a.meant)]
