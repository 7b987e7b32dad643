"""Scheduled tasks, which would start the product again."""

import re
from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta, Struct

from kleff.objects.base.action import ABSENT, NOTHING_TO_UNDO, REFUSED, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind
from kleff.objects.base.own import AT_MOST, AtMost, pattern_objection, refuse_own, width_objection
from kleff.objects.base.staging import Stage, shown_as
from kleff.objects.registered.spelling import Spelling
from kleff.procedure.globs import name_matches, parts_match
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.procedure.model import Step, Text
from kleff.procedure.texts import Problem, path_problem
from kleff.workstation.identity import NameId
from kleff.workstation.things import Task


class _Task(Step, kw_only=True, frozen=True):
    task: Annotated[
        Text,
        Meta(description="name of the task with its folders, of the program it runs, or that program's whole path; * and ? are wildcards"),
    ]

    @property
    def by_path(self) -> bool:
        """Whether it is meant by its program's whole path."""
        return self.task[0] in "{%" or ":" in self.task

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if self.by_path and (wrong := path_problem(self.task, places)):
            yield ("task",), wrong


class TaskStop(_Task, kw_only=True, frozen=True):
    """Switch a scheduled task off; undo switches it on again."""

    at_most: AtMost = AT_MOST


class TaskDelete(_Task, kw_only=True, frozen=True):
    """Delete a scheduled task with all that the system knows of it."""

    at_most: AtMost = AT_MOST


class TaskVerify(_Task, kw_only=True, frozen=True):
    """A scheduled task that must be gone."""


class OneTask(Struct, kw_only=True):
    """The exact name of a task."""

    task: str


VERBS = {"stop": ("switch off", "switched on again"), "delete": ("delete", "registered again"), "verify": ("look for", NOTHING_TO_UNDO)}


class TaskKind(Kind):
    """`task`."""

    names = ("task",)
    systems = ("windows",)
    models: dict[str, type[Step]] = {"stop": TaskStop, "delete": TaskDelete, "verify": TaskVerify}

    def stage(self, step: StepOf[_Task], stage: Stage) -> None:
        model = step.model
        by_path = ":" in model.task or model.task[0] in "{%"
        program = next(iter(stage.named(model.task)), "") if by_path else rf"{stage.home}\sample.exe"
        name = "Sample task" if by_path else rf"Sample\{model.task}" if model.task.endswith(".exe") else shown_as(model.task).strip("\\")
        stage.add(
            "task",
            name=name.removesuffix(".exe"),
            program=rf"{stage.home}\{model.task}" if model.task.endswith(".exe") and not by_path else program,
        )

    def _found(self, step: StepOf[_Task], here: Here) -> list[Task]:
        folded, pattern = here.workstation.style.folded, step.model.task
        tasks = here.workstation.tasks.all() if here.workstation.tasks else []
        if step.model.by_path:
            return [t for t in tasks if _runs(t, pattern, here)]
        return [t for t in tasks if any(name_matches(pattern, text, folded) for text in (t.name, program_of(t.command)))]

    def plan(self, step: StepOf[_Task], here: Here) -> Iterator[Action]:
        found, (verb, undo) = self._found(step, here), VERBS[step.phase]
        wide = width_objection(step.model.task, len(found), step.model.at_most) if isinstance(step.model, TaskStop | TaskDelete) else ""
        if wide:
            yield here.action(step, verb, f"task {step.model.task}", state=REFUSED, reason=wide)
            return
        for task in found:
            action = here.action(step, verb, f"task {task.name}", items=1, undo=undo, about=[NameId("task", task.name)])
            action.set_details(OneTask(task=task.name))
            action.shows = [f"runs: {task.command}"] if task.command else []
            if isinstance(step.model, TaskStop | TaskDelete):
                self._judge(step.model, task, here, action)
            yield action
        if not found:
            reason = "no such task" if here.workstation.tasks else "this workstation has no such tasks; use  unit"
            yield here.action(step, verb, f"task {step.model.task}", state=ABSENT, reason=reason, nowhere=not here.workstation.tasks)

    def _judge(self, model: TaskStop | TaskDelete, task: Task, here: Here, action: Action) -> None:
        files, folded = here.workstation.files, here.workstation.style.folded
        if not task.enabled and isinstance(model, TaskStop):
            action.state, action.reason = ABSENT, "off already"
        elif not model.by_path and not name_matches(model.task, task.name, folded) and here.own.lacks(files.path(path_of(task.command))):
            action.keep(f"it runs another's program of the same name: {task.command}")
        else:
            refuse_own(action, here, "task", [task.name])

    def always_refused(self, step: LoadedStep, here: Here) -> Iterator[str]:
        if isinstance(step.model, TaskStop | TaskDelete):
            own = here.guard.check_name("task", step.model.task)
            if why := pattern_objection(step.model.task) or own.reason:
                yield f"task {step.model.task}: {why}; name the product's own task with its folders"

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        tasks, name = work.here.workstation.tasks, action.details_as(OneTask).task
        now = next((t for t in tasks.all() if t.name == name), None) if tasks else None
        if isinstance(step.model, TaskDelete):
            if now is None:
                return Outcome(note="already gone")
            from kleff.case.effects.starting.task_deleted import delete_task

            delete_task(work.hands, action.number, now)
            return Outcome(items=1)
        if tasks is None or now is None or not now.enabled:
            return Outcome(note="off already")
        from kleff.case.effects.starting.task_switched_off import switch_off

        switch_off(work.hands, action.number, now)
        return Outcome(items=1)


def _runs(task: Task, pattern: str, here: Here) -> bool:
    """Whether it runs a program by its whole path."""
    meant = [e for e in here.resolver.expand(pattern) if not e.absent]
    paths = Spelling(here).path(path_of(task.command))
    return any(e.volume == path.volume and parts_match(e.pattern, path.parts, path.style.folded) for path in paths for e in meant)


def program_of(command: str) -> str:
    """The file name of the program a command runs."""
    return path_of(command).replace("\\", "/").rpartition("/")[2]


def path_of(command: str) -> str:
    """The program that a command runs, as it is written there."""
    text = command.strip()
    return text[1:].partition('"')[0] if text.startswith('"') else re.split(r" [/-]", text)[0]


KINDS = (TaskKind(),)
