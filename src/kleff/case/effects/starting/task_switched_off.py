"""A scheduled task was switched off; taken back, it is switched on again."""

from __future__ import annotations

from typing import ClassVar

from kleff.case.effects.base import UNDONE, Effect, TakenBack, stays
from kleff.case.hands import Hands
from kleff.case.record.effect import Journaled
from kleff.procedure.globs import PathStyle
from kleff.workstation.things import Task


class TaskSwitchedOff(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """A task, and whether it might run before."""

    kind: ClassVar[str] = "task switched off"
    starts_programs: ClassVar[bool] = True

    name: str
    enabled: bool

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        tasks = hands.workstation.tasks
        if tasks is None or self.name not in {t.name for t in tasks.all()}:
            return stays(f"the task {self.name} is no longer registered")
        tasks.set_enabled(self.name, self.enabled)
        return UNDONE

    def what(self, one: Journaled, style: PathStyle) -> str:
        return self.name


def switch_off(hands: Hands, action: int, task: Task) -> None:
    """Switch a task off."""
    tasks = hands.workstation.tasks
    assert tasks is not None
    with hands.doing(action, TaskSwitchedOff(name=task.name, enabled=task.enabled)):
        tasks.set_enabled(task.name, False)
