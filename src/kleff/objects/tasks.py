"""Scheduled tasks, which would start the product again."""

import re
from collections.abc import Iterator
from typing import Annotated

from msgspec import Meta, Struct

from kleff.objects.base.action import ABSENT, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind
from kleff.procedure.globs import name_matches
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import Step, Text
from kleff.workstation.identity import NameId
from kleff.workstation.things import Task


class TaskStop(Step, kw_only=True, frozen=True):
    """Switch a scheduled task off; undo switches it on again."""

    task: Annotated[Text, Meta(description="name of the task with its folders, or of the program it runs; * and ? are wildcards")]


class OneTask(Struct, kw_only=True):
    """The exact name of a task."""

    task: str


class TaskKind(Kind):
    """`task`."""

    names = ("task",)
    systems = ("windows",)
    models = {"stop": TaskStop}

    def _found(self, step: LoadedStep, here: Here) -> list[Task]:
        assert isinstance(step.model, TaskStop)
        folded, pattern = here.workstation.style.folded, step.model.task
        tasks = here.workstation.tasks.all() if here.workstation.tasks else []
        return [t for t in tasks if any(name_matches(pattern, text, folded) for text in (t.name, program_of(t.command)))]

    def plan(self, step: LoadedStep, here: Here) -> Iterator[Action]:
        assert isinstance(step.model, TaskStop)
        found = self._found(step, here)
        for task in found:
            action = here.action(
                step, "switch off", f"task {task.name}", items=1, undo="switched on again", about=[NameId("task", task.name)]
            )
            action.set_details(OneTask(task=task.name))
            action.shows = [f"runs: {task.command}"] if task.command else []
            if not task.enabled:
                action.state, action.reason = ABSENT, "off already"
            yield action
        if not found:
            reason = "no such task" if here.workstation.tasks else "this workstation has no such tasks; use  unit"
            yield here.action(step, "switch off", f"task {step.model.task}", state=ABSENT, reason=reason)

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        tasks, name = work.here.workstation.tasks, action.details_as(OneTask).task
        now = next((t for t in tasks.all() if t.name == name), None) if tasks else None
        if tasks is None or now is None or not now.enabled:
            return Outcome(note="off already")
        from kleff.case.effects.task_switched_off import switch_off

        switch_off(work.hands, action.number, now)
        return Outcome(items=1)


def program_of(command: str) -> str:
    """The file name of the program a command runs."""
    text = command.strip()
    path = text[1:].partition('"')[0] if text.startswith('"') else re.split(r" [/-]", text)[0]
    return path.replace("\\", "/").rpartition("/")[2]
