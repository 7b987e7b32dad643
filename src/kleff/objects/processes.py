"""Running programs: asked to close, ended after a while, their children too."""

import time
from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta

from kleff.case.effect_names import PROCESS
from kleff.errors import ActionFailed
from kleff.objects.base import ABSENT, Action, Offers, Outcome, Scene, Sighting, Work
from kleff.objects.resolve import Expanded
from kleff.procedure.globs import name_matches, parts_match
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import Problem, Step, Text, duration_problem, path_problem
from kleff.procedure.versions import parse_duration
from kleff.texts import plain, plural
from kleff.workstation.facets import Process, Processes

GRACE = 5.0  # seconds a process has to go after it was ended
SETTLING = 0.3  # seconds after which it is looked whether it was started again


Within = Annotated[str, Meta(description="how long it may take to close by itself, e.g. 20s")]


class _Process(Step, kw_only=True, frozen=True):
    process: Annotated[Text, Meta(description="name of the program, or its whole path, also with a variable; * and ? are wildcards")]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if self.process[0] in "{%":
            wrong = path_problem(self.process, places)
            if wrong:
                yield ("process",), wrong


class ProcessEvidence(_Process, kw_only=True, frozen=True):
    """A program that runs only with the product."""


class ProcessStop(_Process, kw_only=True, frozen=True):
    """End a program with its children."""

    within: Within = "20s"

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from super().problems(places)
        yield from duration_problem("within", self.within)


class WindowStop(Step, kw_only=True, frozen=True):
    """End the program that shows a window, with its children."""

    window: Annotated[Text, Meta(description="title of the window; * and ? are wildcards")]
    within: Within = "20s"

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from duration_problem("within", self.within)


class PortStop(Step, kw_only=True, frozen=True):
    """End the program that listens on a port, with its children."""

    port: Annotated[int, Meta(ge=1, le=65535, description="TCP port")]
    within: Within = "20s"

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from duration_problem("within", self.within)


class ProcessVerify(_Process, kw_only=True, frozen=True):
    """A program that must not run."""


def matching(step: LoadedStep, scene: Scene) -> list[Process]:
    """The processes a step means; never Kleff itself, its ancestors or process 1."""
    facet = scene.workstation.processes
    if facet is None:
        return []
    protected = facet.protected()
    return [p for p in _meant(step.model, scene, facet) if p.pid not in protected]


def _meant(model: Step, scene: Scene, facet: Processes) -> list[Process]:
    style = scene.workstation.style
    if isinstance(model, PortStop):
        pids = set(facet.listening(model.port))
        return [p for p in facet.all() if p.pid in pids]
    if isinstance(model, WindowStop):
        return [p for p in facet.all() if p.title and name_matches(model.window, p.title, style.folded)]
    assert isinstance(model, _Process)
    pattern = model.process
    if pattern[0] in "{%":
        meant = [e for e in scene.resolver.expand(pattern) if not e.absent]
        return [p for p in facet.all() if any(_lies_in(p, e, scene) for e in meant)]
    whole = any(s in pattern for s in style.separators)
    return [
        p for p in facet.all() if any(name_matches(pattern, t, style.folded) for t in ([p.path] if whole else _names(p, style.separators)))
    ]


def _lies_in(process: Process, expanded: Expanded, scene: Scene) -> bool:
    path = scene.workstation.files.path(process.path) if process.path else None
    return path is not None and path.volume == expanded.volume and parts_match(expanded.pattern, path.parts, path.style.folded)


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
        action = scene.action(step, "end" if step.phase == "stop" else "look for", _what(step.model))
        found = matching(step, scene)
        if not found:
            action.state = ABSENT
            action.reason = "not running" if scene.workstation.processes else "the workstation is not running"
            if isinstance(step.model, WindowStop) and scene.workstation.system != "windows":
                action.reason = "windows are told apart on Windows alone; name the program"
        elif step.phase == "stop":
            action.items = len(found)
            action.undo = "not started again: shown with its command line"
            action.shows = [line_of(p) for p in found]
        else:
            action.items = len(found)
        yield action

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        assert isinstance(step.model, ProcessStop | WindowStop | PortStop)
        facet = work.scene.workstation.processes
        found = matching(step, work.scene)
        if facet is None or not found:
            return Outcome(note="not running any more")
        victims = with_children(found, facet)
        asked = end_processes(action, f"{_what(step.model)} ({'; '.join(line_of(p) for p in found)})", victims, step.model.within, work)
        self._look_again(step, found, work.scene, facet)
        return Outcome(
            items=len(victims), note="closed by itself when asked" if asked else f"{plural(len(victims), 'process', 'processes')} ended"
        )

    def _look_again(self, step: LoadedStep, before: list[Process], scene: Scene, facet: Processes) -> None:
        """A watchdog may have started it again: it is named.

        Raises:
            ActionFailed.
        """
        time.sleep(SETTLING)
        known = {(p.pid, p.started) for p in before}
        back = [p for p in matching(step, scene) if (p.pid, p.started) not in known]
        if back:
            parent = next((p for p in facet.all() if p.pid == back[0].parent), None)
            who = f" by {parent.name} (number {parent.pid}{f' of {parent.account}' if parent.account else ''})" if parent else ""
            remedy = (
                f"stop {parent.name} first, in a [[stop]] before this one; then resume"
                if parent
                else "find out what starts it; then resume"
            )
            raise ActionFailed(f"{back[0].name} was started again{plain(who)}", remedy=plain(remedy))


def _what(model: Step) -> str:
    if isinstance(model, PortStop):
        return f"what listens on port {model.port}"
    if isinstance(model, WindowStop):
        return plain(f"the program with the window {model.window}")
    assert isinstance(model, _Process)
    return plain(f"program {model.process}")


def line_of(process: Process) -> str:
    """A process for people, with its command line."""
    who = f" of {process.account}" if process.account else ""
    return plain(f"{process.name}, number {process.pid}{who}: {' '.join(process.command)}")


def end_processes(action: Action, what: str, victims: list[Process], within: str, work: Work) -> bool:
    """Ask, wait, end, wait; journaled. True if asking was enough.

    Raises:
        ActionFailed: one does not end.
    """
    facet = work.scene.workstation.processes
    assert facet is not None
    effect = work.hands.intend(action.number, PROCESS, {"what": what, "processes": [line_of(p) for p in victims]})
    asked = _end(facet, victims, parse_duration(within), work)
    work.hands.done(effect)
    return asked


def _end(facet: Processes, victims: list[Process], within: float, work: Work) -> bool:
    for process in victims:
        facet.ask_to_end(process)
    if _gone(facet, victims, within):
        return True
    work.progress.say(f"     still running after {within:.0f} s: ended")
    left = _left(facet, victims)
    for process in [*left, *with_children(left, facet)]:
        facet.end(process)
    if not _gone(facet, victims, GRACE):
        names = ", ".join(line_of(p) for p in _left(facet, victims))
        raise ActionFailed(f"does not end: {names}", remedy="close it by hand, then resume")
    return False


def _left(facet: Processes, victims: list[Process]) -> list[Process]:
    wanted = {(p.pid, p.started) for p in victims}
    return [p for p in facet.all() if (p.pid, p.started) in wanted]


def _gone(facet: Processes, victims: list[Process], within: float) -> bool:
    deadline = time.monotonic() + within
    while _left(facet, victims):
        if time.monotonic() >= deadline:
            return False
        time.sleep(0.05)
    return True


class WindowKind(ProcessKind):
    """`window`."""

    models = {"stop": WindowStop}


class PortKind(ProcessKind):
    """`port`."""

    models = {"stop": PortStop}
