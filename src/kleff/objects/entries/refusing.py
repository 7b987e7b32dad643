"""Programs that keep an uninstaller from its work: ended before it is run, and again where it refuses."""

from collections.abc import Iterator

from kleff.errors import ActionFailed
from kleff.objects.base.action import REFUSED, TO_DO, Action
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Does, Plans, able
from kleff.objects.base.known import kind_of
from kleff.objects.entries.steps import Removing
from kleff.objects.processes import ProcessStop
from kleff.procedure.loaded import LoadedStep


def in_the_way(model: Removing, step: LoadedStep, here: Here) -> list[tuple[Action, LoadedStep]]:
    """Which of those that are ended first run now, each as a step plans it that would end it by itself."""
    return [(action, made) for action, made in _planned(model, step, here) if action.state in (TO_DO, REFUSED)]


def plan(action: Action, model: Removing, step: LoadedStep, here: Here) -> None:
    """Put into an action what is ended before it."""
    for part, _ in in_the_way(model, step, here):
        if part.state == REFUSED:
            action.state, action.reason = REFUSED, part.reason
        action.shows += [f"ended first: {line}" for line in part.shows]


def end_first(model: Removing, step: LoadedStep, action: Action, work: Work) -> None:
    """End what runs.

    Raises:
        ActionFailed: it may not be ended, or is not.
    """
    for part, made in in_the_way(model, step, work.here):
        doing = able(kind_of(made.kind), Does)
        if part.state == REFUSED or doing is None:
            raise ActionFailed(f"{part.target}: {part.reason}", remedy="close it by hand, then resume")
        work.progress.say(f"     {part.verb} {part.target}")
        part.number = action.number
        doing.do(part, made, work)


def _planned(model: Removing, step: LoadedStep, here: Here) -> Iterator[tuple[Action, LoadedStep]]:
    planning = able(kind_of("process"), Plans)
    assert planning is not None
    for name in model.stops_first:
        made = LoadedStep("stop", "process", step.index, step.line, ProcessStop(process=name, within="5s"))
        for action in planning.plan(made, here):
            yield action, made
