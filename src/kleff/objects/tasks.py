"""Scheduled tasks, which would start the product again."""

import re
from collections.abc import Iterator
from typing import Annotated

from msgspec import Meta, Struct

from kleff.objects.base.action import ABSENT, REFUSED, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind
from kleff.objects.base.own import AT_MOST, AtMost, pattern_objection, refuse_own, width_objection
from kleff.procedure.globs import name_matches
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import Step, Text
from kleff.workstation.identity import NameId
from kleff.workstation.things import Task


class TaskStop(Step, kw_only=True, frozen=True):
    """Switch a scheduled task off; undo switches it on again."""

    task: Annotated[Text, Meta(description="name of the task with its folders, or of the program it runs; * and ? are wildcards")]
    at_most: AtMost = AT_MOST


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
        wide = width_objection(step.model.task, len(found), step.model.at_most)
        if wide:
            yield here.action(step, "switch off", f"task {step.model.task}", state=REFUSED, reason=wide)
            return
        for task in found:
            action = here.action(
                step, "switch off", f"task {task.name}", items=1, undo="switched on again", about=[NameId("task", task.name)]
            )
            action.set_details(OneTask(task=task.name))
            action.shows = [f"runs: {task.command}"] if task.command else []
            self._judge(step.model, task, here, action)
            yield action
        if not found:
            reason = "no such task" if here.workstation.tasks else "this workstation has no such tasks; use  unit"
            yield here.action(step, "switch off", f"task {step.model.task}", state=ABSENT, reason=reason)

    def _judge(self, model: TaskStop, task: Task, here: Here, action: Action) -> None:
        files, folded = here.workstation.files, here.workstation.style.folded
        if not task.enabled:
            action.state, action.reason = ABSENT, "off already"
        elif not name_matches(model.task, task.name, folded) and here.own.lacks(files.path(path_of(task.command))):
            action.keep(f"it runs another's program of the same name: {task.command}")
        else:
            refuse_own(action, here, "task", [task.name])

    def always_refused(self, step: LoadedStep, here: Here) -> Iterator[str]:
        if isinstance(step.model, TaskStop):
            own = here.guard.check_name("task", step.model.task)
            if why := pattern_objection(step.model.task) or own.reason:
                yield f"task {step.model.task}: {why}; name the product's own task with its folders"

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
    return path_of(command).replace("\\", "/").rpartition("/")[2]


def path_of(command: str) -> str:
    """The program that a command runs, as it is written there."""
    text = command.strip()
    return text[1:].partition('"')[0] if text.startswith('"') else re.split(r" [/-]", text)[0]
