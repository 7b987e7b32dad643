"""Running programs: asked to close, ended after a while, their children too."""

import time
from collections.abc import Collection, Iterator
from typing import Annotated, Any

from msgspec import Meta

from kleff.case.effect_names import PROCESS
from kleff.errors import ActionFailed
from kleff.objects.base import ABSENT, Action, Offers, Outcome, Scene, Sighting, Work
from kleff.procedure.globs import name_matches
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import Problem, Step, Text, duration_problem
from kleff.procedure.versions import parse_duration
from kleff.texts import plain, plural
from kleff.workstation.facets import Process, Processes

GRACE = 5.0  # seconds a process has to go after it was ended


class _Process(Step, kw_only=True, frozen=True):
    process: Annotated[Text, Meta(description="name of the program, or its whole path; * and ? are wildcards")]


class ProcessEvidence(_Process, kw_only=True, frozen=True):
    """A program that runs only with the product."""


class ProcessStop(_Process, kw_only=True, frozen=True):
    """End a program with its children."""

    within: Annotated[str, Meta(description="how long it may take to close by itself, e.g. 20s")] = "20s"

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from duration_problem("within", self.within)


class ProcessVerify(_Process, kw_only=True, frozen=True):
    """A program that must not run."""


def matching(step: LoadedStep, scene: Scene) -> list[Process]:
    """The processes a step means; never Kleff itself, its ancestors or process 1."""
    assert isinstance(step.model, _Process)
    facet = scene.workstation.processes
    if facet is None:
        return []
    style, pattern = scene.workstation.style, step.model.process
    whole = any(s in pattern for s in style.separators)
    protected = facet.protected()
    return [
        p
        for p in facet.all()
        if p.pid not in protected
        and any(name_matches(pattern, t, style.folded) for t in ([p.path] if whole else _names(p, style.separators)))
    ]


def _names(process: Process, separators: str) -> list[str]:
    """Its name, and its program's file name (the system may cut the first short)."""
    tail = process.path
    for separator in separators:
        tail = tail.rpartition(separator)[2]
    return [process.name, tail] if tail else [process.name]


def with_children(found: list[Process], facet: Processes) -> list[Process]:
    """The processes and everything they started, children last; nothing protected."""
    everything = facet.all()
    protected = facet.protected()
    result = {p.pid: p for p in found}
    grown = True
    while grown:
        more = {p.pid: p for p in everything if p.parent in result and p.pid not in result and p.pid not in protected}
        result.update(more)
        grown = bool(more)
    return list(result.values())


class ProcessKind(Offers):
    """`process`."""

    models = {"evidence": ProcessEvidence, "stop": ProcessStop, "verify": ProcessVerify}

    def look(self, step: LoadedStep, scene: Scene) -> Iterator[Sighting]:
        for process in matching(step, scene):
            yield Sighting(kind="process", what=plain(process.name), where=plain(process.path), account=process.account, line=step.line)

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        assert isinstance(step.model, _Process)
        action = scene.action(step, "end" if step.phase == "stop" else "look for", f"program {plain(step.model.process)}")
        found = matching(step, scene)
        if not found:
            action.state = ABSENT
            action.reason = "not running" if scene.workstation.processes else "the workstation is not running"
        elif step.phase == "stop":
            action.items = len(found)
            action.undo = "not started again: shown with its command line"
            action.shows = [self._line(p) for p in found]
        else:
            action.items = len(found)
        yield action

    def _line(self, process: Process) -> str:
        who = f" of {process.account}" if process.account else ""
        return plain(f"{process.name}, number {process.pid}{who}: {' '.join(process.command)}")

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        assert isinstance(step.model, ProcessStop)
        facet = work.scene.workstation.processes
        found = matching(step, work.scene)
        if facet is None or not found:
            return Outcome(note="not running any more")
        victims = with_children(found, facet)
        data: dict[str, Any] = {
            "what": f"{step.model.process} ({'; '.join(self._line(p) for p in found)})",
            "processes": [self._line(p) for p in victims],
        }
        effect = work.hands.intend(action.number, PROCESS, data)
        asked = self._end(facet, victims, parse_duration(step.model.within), work)
        work.hands.done(effect)
        return Outcome(
            items=len(victims), note="closed by itself when asked" if asked else f"{plural(len(victims), 'process', 'processes')} ended"
        )

    def _end(self, facet: Processes, victims: list[Process], within: float, work: Work) -> bool:
        """Ask, wait, end, wait. True if asking was enough."""
        for process in victims:
            facet.ask_to_end(process)
        if self._gone(facet, victims, within):
            return True
        work.progress.say(f"     still running after {within:.0f} s: ended")
        left = self._left(facet, victims)
        for process in [*left, *with_children(left, facet)]:
            facet.end(process)
        if not self._gone(facet, victims, GRACE):
            names = ", ".join(self._line(p) for p in self._left(facet, victims))
            raise ActionFailed(f"does not end: {names}", remedy="close it by hand, then resume")
        return False

    def _left(self, facet: Processes, victims: list[Process]) -> list[Process]:
        wanted = {(p.pid, p.started) for p in victims}
        return [p for p in facet.all() if (p.pid, p.started) in wanted]

    def _gone(self, facet: Processes, victims: list[Process], within: float) -> bool:
        deadline = time.monotonic() + within
        while self._left(facet, victims):
            if time.monotonic() >= deadline:
                return False
            time.sleep(0.05)
        return True
