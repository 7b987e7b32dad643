"""The agreed plan of a case with what became of it."""

from __future__ import annotations

from dataclasses import dataclass

import msgspec

from kleff.case.record.beforehand import Beforehand
from kleff.case.record.effect import dump, load
from kleff.case.record.folder import Case
from kleff.engine.plan import Plan
from kleff.errors import DamagedCase
from kleff.objects.base.action import DONE, UNDONE, Action

SAVING = ("backup", "drivers")  # phases whose actions put something into the bag


@dataclass
class Row:
    """An action of the agreed plan with what became of it."""

    action: Action
    state: str
    note: str
    items: int
    size: int


def record_plan(case: Case, plan: Plan, beforehand: Beforehand | None = None) -> None:
    """Put the agreed plan into the case, and what is known before anything is removed."""
    noted = {} if beforehand is None else {"beforehand": dump(beforehand)}
    case.journal.add_actions(((a.number, dump(a), a.state) for a in plan.actions), **noted)


def rows(case: Case) -> list[Row]:
    """The plan as recorded, with what became of it.

    Raises:
        DamagedCase: it is not one.
    """
    taken_back = _taken_back(case)
    try:
        return [
            Row(_settled(load(plan, Action), note), UNDONE if state == DONE and number in taken_back else state, note, items, size)
            for number, plan, state, note, items, size in case.journal.actions()
        ]
    except (msgspec.MsgspecError, ValueError) as error:
        raise DamagedCase(
            f"the plan cannot be read: {error}", where=str(case.folder), remedy="restore the case folder from a copy"
        ) from None


def _settled(action: Action, note: str) -> Action:
    """Plans that do not hold yet what is owed to the vendor tell it in the note alone."""
    if not action.owed and note.startswith("tell the vendor: "):
        action.owed = note
    return action


def _taken_back(case: Case) -> set[int]:
    """The numbers of the actions of which every effect has been taken back, as far as it can be."""
    states: dict[int, set[str]] = {}
    for one in case.journal.effects():
        states.setdefault(one.action, set()).add(one.state)
    return {number for number, found in states.items() if "undone" in found and found <= {"undone", "noted", "void", "kept"}}
