"""Running programs: asked to close, ended after a while, their children too."""

import time
from collections.abc import Collection, Iterator
from typing import TYPE_CHECKING, Annotated

from msgspec import Meta

from kleff.errors import ActionFailed
from kleff.objects.base.action import ABSENT, Action, Outcome, Sighting
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind
from kleff.objects.base.noting import note_opened
from kleff.objects.base.own import AT_MOST, AtMost, pattern_objection, refuse, refuse_own, width_objection
from kleff.objects.base.resolve import Expanded
from kleff.objects.base.staging import Stage, shown_as
from kleff.procedure.globs import PathStyle, name_matches, parts_match
from kleff.procedure.loaded import StepOf
from kleff.procedure.model import Step, Text
from kleff.procedure.texts import Problem, duration_problem, path_problem
from kleff.procedure.versions import parse_duration
from kleff.texts import plural
from kleff.workstation.facets import Processes, with_children
from kleff.workstation.identity import NameId
from kleff.workstation.programs.interpreters import script_of
from kleff.workstation.things import Process, line_of

if TYPE_CHECKING:
    from kleff.case.record.beforehand import Beforehand

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
    """End a program with its children; one of the same name that lies outside the product's places is left."""

    within: Within = "20s"
    at_most: AtMost = AT_MOST

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from super().problems(places)
        yield from duration_problem("within", self.within)


class WindowStop(Step, kw_only=True, frozen=True):
    """End the program that shows a window, with its children."""

    window: Annotated[Text, Meta(description="title of the window; * and ? are wildcards")]
    within: Within = "20s"
    at_most: AtMost = AT_MOST

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from duration_problem("within", self.within)


class PortEvidence(Step, kw_only=True, frozen=True):
    """A port on which something listens only with the product."""

    port: Annotated[int, Meta(ge=1, le=65535, description="TCP port")]


class PortStop(Step, kw_only=True, frozen=True):
    """End the program that listens on a port, with its children."""

    port: Annotated[int, Meta(ge=1, le=65535, description="TCP port")]
    within: Within = "20s"

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from duration_problem("within", self.within)


class ProcessVerify(_Process, kw_only=True, frozen=True):
    """A program that must not run."""


Meant = _Process | WindowStop | PortStop | PortEvidence


def elsewhere(model: Step, process: Process, here: Here) -> bool:
    """Whether a program is another's of the same name: its file has the name that is meant, and lies outside the product's places. One that
    an interpreter runs cannot be told by its place.
    """
    style = here.workstation.style
    if not isinstance(model, _Process) or not process.path or any(mark in model.process for mark in ("{", "%", *style.separators)):
        return False
    file = _names(process, style.separators)[-1]
    return name_matches(model.process, file, style.folded) and here.own.lacks(here.workstation.files.path(process.path))


def matching(step: StepOf[Meant], here: Here) -> list[Process]:
    """The processes a step means, of the accounts that were chosen; never Kleff itself, its ancestors or process 1."""
    facet = here.workstation.processes
    if facet is None:
        return []
    protected = facet.protected()
    return [p for p in _meant(step.model, here, facet) if p.pid not in protected and not here.not_chosen(step.model, p.account)]


def _meant(model: Meant, here: Here, facet: Processes) -> list[Process]:
    style = here.workstation.style
    if isinstance(model, PortStop | PortEvidence):
        pids = set(facet.listening(model.port))
        return [p for p in facet.all() if p.pid in pids]
    if isinstance(model, WindowStop):
        return [p for p in facet.all() if p.title and name_matches(model.window, p.title, style.folded)]
    pattern = model.process
    if pattern[0] in "{%":
        meant = [e for e in here.resolver.expand(pattern) if not e.absent]
        return [p for p in facet.all() if any(_lies_in(p, e, here) for e in meant)]
    whole = any(s in pattern for s in style.separators)

    def texts(process: Process) -> list[str]:
        return [process.path, script_of(process, style)] if whole else _names(process, style.separators)

    return [p for p in facet.all() if any(name_matches(pattern, text, style.folded) for text in texts(p))]


def _lies_in(process: Process, expanded: Expanded, here: Here) -> bool:
    """Its program, or the script that it runs."""
    texts = (process.path, script_of(process, here.workstation.style))
    paths = [path for text in texts if text and (path := here.workstation.files.path(text)) is not None]
    return any(p.volume == expanded.volume and parts_match(expanded.pattern, p.parts, p.style.folded) for p in paths)


def _names(process: Process, separators: str) -> list[str]:
    """Its name, and its program's file name (the system may cut the first short)."""
    tail = process.path
    for separator in separators:
        tail = tail.rpartition(separator)[2]
    return [process.name, tail] if tail else [process.name]


def _judged_by(model: Meant, process: Process, style: PathStyle) -> list[str]:
    """The names by which a process could be the system's own; where a place is meant, of what an interpreter runs, not of that."""
    script = script_of(process, style) if isinstance(model, _Process) and _is_place(model.process, style) else ""
    return [script.rpartition(style.separator)[2]] if script else _names(process, style.separators)


def _is_place(pattern: str, style: PathStyle) -> bool:
    return pattern[0] in "{%" or any(sign in pattern for sign in style.separators)


class ProcessKind(Kind):
    """`process`."""

    names: tuple[str, ...] = ("process",)
    models: dict[str, type[Step]] = {"evidence": ProcessEvidence, "stop": ProcessStop, "verify": ProcessVerify}

    def stage(self, step: StepOf[Meant], stage: Stage) -> None:
        model = step.model
        if not isinstance(model, _Process):
            return
        name = shown_as(model.process.rpartition("\\")[2])
        path = rf"{stage.home}\{name}" if "\\" not in model.process else next(iter(stage.named(model.process)), model.process)
        stage.file(path, "MZ stand-in\r\n")
        stage.add("process", name=name, path=path, at_start=True)

    def look(self, step: StepOf[Meant], here: Here) -> Iterator[Sighting]:
        for process in matching(step, here):
            about = NameId("process", process.name, str(process.pid))
            yield Sighting(
                kind="process", what=process.name, about=about, where=process.path, account=process.account, line=step.line, running=True
            )

    def plan(self, step: StepOf[Meant], here: Here) -> Iterator[Action]:
        everything = matching(step, here)
        found = [p for p in everything if not elsewhere(step.model, p, here)]
        others = [p for p in everything if p not in found]
        about = [NameId("process", p.name, str(p.pid)) for p in found]
        action = here.action(step, "end" if step.phase == "stop" else "look for", _what(step.model), about=about)
        if not found:
            action.state = ABSENT
            action.reason = "not running" if here.workstation.processes else "the workstation is not running"
            if isinstance(step.model, WindowStop) and here.workstation.system != "windows":
                action.reason = "windows are told apart on Windows alone; name the program"
        elif step.phase == "stop":
            action.items, action.ends = len(found), True
            action.undo = "not started again"
            action.shows = [line_of(p) for p in found]
            names = sorted({name for p in found for name in _judged_by(step.model, p, here.workstation.style)})
            at_most = step.model.at_most if isinstance(step.model, ProcessStop | WindowStop) else AT_MOST
            refuse(refuse_own(action, here, "process", names), width_objection(_pattern(step.model), len(found), at_most))
        else:
            action.items = len(found)
        action.shows += [f"left alone: {line_of(p)}, which is another's, from {p.path}" for p in others]
        yield action

    def do(self, action: Action, step: StepOf[ProcessStop | WindowStop | PortStop], work: Work) -> Outcome:
        facet = work.here.workstation.processes
        found = [p for p in matching(step, work.here) if not elsewhere(step.model, p, work.here)]
        if facet is None or not found:
            return Outcome(note="not running any more")
        from kleff.case.effects.process_ended import end_processes

        victims = with_children(found, facet)
        what = f"{_what(step.model)} ({'; '.join(line_of(p) for p in found)})"
        asked = end_processes(work.hands, action.number, what, victims, parse_duration(step.model.within))
        self._look_again(step, found, work.here, facet)
        return Outcome(
            items=len(victims), note="closed by itself when asked" if asked else f"{plural(len(victims), 'process', 'processes')} ended"
        )

    def ends(self, step: StepOf[Meant], here: Here) -> list[Process]:
        facet = here.workstation.processes
        found = [p for p in matching(step, here) if not elsewhere(step.model, p, here)]
        return with_children(found, facet) if facet else []

    def always_refused(self, step: StepOf[Meant], here: Here) -> Iterator[str]:
        pattern = _pattern(step.model) if step.phase == "stop" else ""
        own = here.guard.check_name("process", pattern)
        if why := pattern_objection(pattern) or own.reason:
            yield f"{_what(step.model)}: {why}; name the product's own program, best with its whole path"

    def note(self, step: StepOf[Meant], here: Here, noted: "Beforehand") -> None:
        note_opened(matching(step, here), here, noted)

    def _look_again(self, step: StepOf[Meant], before: list[Process], here: Here, facet: Processes) -> None:
        """A watchdog may have started it again: it is named.

        Raises:
            ActionFailed.
        """
        time.sleep(SETTLING)
        known = {(p.pid, p.started) for p in before}
        back = [p for p in matching(step, here) if not elsewhere(step.model, p, here) and (p.pid, p.started) not in known]
        if back:
            parent = next((p for p in facet.all() if p.pid == back[0].parent), None)
            who = f" by {parent.name} (number {parent.pid}{f' of {parent.account}' if parent.account else ''})" if parent else ""
            remedy = (
                f"stop {parent.name} first, in a [[stop]] before this one; then resume"
                if parent
                else "find out what starts it; then resume"
            )
            raise ActionFailed(f"{back[0].name} was started again{who}", remedy=remedy)


def _pattern(model: Meant) -> str:
    """The name it goes by; "" if it goes by something else."""
    if isinstance(model, WindowStop):
        return model.window
    return model.process if isinstance(model, _Process) else ""


def _what(model: Meant) -> str:
    if isinstance(model, PortStop | PortEvidence):
        return f"what listens on port {model.port}"
    if isinstance(model, WindowStop):
        return f"the program with the window {model.window}"
    return f"program {model.process}"


class WindowKind(ProcessKind):
    """`window`."""

    names = ("window",)
    models = {"stop": WindowStop}


class PortKind(ProcessKind):
    """`port`."""

    names = ("port",)
    models = {"evidence": PortEvidence, "stop": PortStop}

    def look(self, step: StepOf[Meant], here: Here) -> Iterator[Sighting]:
        if not isinstance(step.model, PortEvidence):
            yield from super().look(step, here)
        elif (facet := here.workstation.processes) is not None and (pids := facet.listening(step.model.port)):
            who = ", ".join(sorted({p.name for p in facet.all() if p.pid in pids}))
            about = NameId("port", str(step.model.port))
            yield Sighting(
                kind="port", what=f"port {step.model.port}", about=about, where=f"listening: {who}", line=step.line, running=True
            )


KINDS = (ProcessKind(), WindowKind(), PortKind())
