"""A scheduled task was deleted; taken back, it is registered again by the definition that was kept at that very instant."""

from __future__ import annotations

from typing import ClassVar

from kleff.case.effects.base import UNDONE, Effect, TakenBack, stays
from kleff.case.hands import Hands
from kleff.case.record.effect import Journaled
from kleff.errors import ActionFailed, remedy_for
from kleff.procedure.globs import PathStyle
from kleff.workstation.things import Task


class TaskDeleted(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """A task: its name, its definition, and whether it might run."""

    kind: ClassVar[str] = "task deleted"

    name: str
    definition: str
    enabled: bool

    def happened(self, one: Journaled, hands: Hands) -> bool:
        tasks = hands.workstation.tasks
        return tasks is not None and self.name not in {task.name for task in tasks.all()}

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        tasks = hands.workstation.tasks
        if tasks is None:
            return stays(f"the task {self.name}: this workstation has no tasks now")
        try:  # cut off between the two it is done once more
            if self.name not in {task.name for task in tasks.all()}:
                tasks.register(self.name, self.definition)
            if self.enabled not in {task.enabled for task in tasks.all() if task.name == self.name}:
                tasks.set_enabled(self.name, self.enabled)
        except (OSError, ActionFailed) as error:  # as one that runs with a password, which nobody keeps
            return stays(f"the task {self.name} cannot be made again: {error.what if isinstance(error, ActionFailed) else error.strerror}")
        return UNDONE

    def again(self, one: Journaled) -> bool:
        return True

    def what(self, one: Journaled, style: PathStyle) -> str:
        return self.name


def delete_task(hands: Hands, action: int, task: Task) -> None:
    """Keep what it is, then delete it.

    Raises:
        ActionFailed: it may not be touched, or the system says no.
    """
    tasks, verdict = hands.workstation.tasks, hands.guard.check_name("task", task.name)
    assert tasks is not None
    if not verdict.ok:
        raise ActionFailed(f"the task {task.name} may not be touched: {verdict.reason}", remedy="correct the procedure")
    try:
        with hands.doing(action, TaskDeleted(name=task.name, definition=tasks.definition(task.name), enabled=task.enabled)):
            tasks.delete(task.name)
    except OSError as error:
        raise ActionFailed(f"the task {task.name} cannot be deleted: {error.strerror}", remedy=remedy_for(error)) from None
