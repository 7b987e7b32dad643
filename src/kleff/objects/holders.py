"""Programs that hold the product's files open and that no step stops: told before, and ended if a technician chooses them."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from kleff.errors import UsageError
from kleff.objects.base.action import TO_DO, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Ends, Kind, StopsServices, Words, able, kind_of
from kleff.objects.base.own import own_places, refuse
from kleff.procedure.globs import fold
from kleff.procedure.load import LoadedStep
from kleff.workstation.identity import NameId
from kleff.workstation.things import Process, line_of

WITHIN = 10.0  # seconds that a program may take to close by itself


class Holder(msgspec.Struct, kw_only=True):
    """A program that has something of the product open.

    Attributes:
        path: what it holds of the product.
        stopped: a step of the procedure stops it; may_be_stopped: it is not the system's own session.
    """

    name: str
    number: int
    account: str
    path: str
    stopped: bool
    may_be_stopped: bool

    @property
    def line(self) -> str:
        """For people."""
        return f"{self.name}, number {self.number}{f' of {self.account}' if self.account else ''}"


class Holding(msgspec.Struct, kw_only=True):
    """The very process: its number, and when it was started."""

    pid: int
    started: float


def held_open(here: Here, actions: Sequence[Action]) -> list[tuple[Process, str]]:
    """Who holds what now of the product's places and of what is going to be set aside."""
    facet = here.workstation.processes
    places = own_places(here, [a for a in actions if a.state == TO_DO]) if facet else []
    return facet.holders(places) if facet and places else []


def planned_holders(here: Here, actions: Sequence[Action]) -> list[Holder]:
    """Who holds what at the preview, and whether a step stops it."""
    return [holder for holder, _ in _found(here, actions)]


def _found(here: Here, actions: Sequence[Action]) -> list[tuple[Holder, Process]]:
    found, facet = held_open(here, actions), here.workstation.processes
    if not found or facet is None:
        return []
    going: set[int] = set()
    services: set[str] = set()
    for step in here.procedure.phase("stop"):
        if step.model.on in (None, here.workstation.system) and not here.not_wanted(step.model):
            ending, stopping = able(kind_of(step.kind), Ends), able(kind_of(step.kind), StopsServices)
            going |= {p.pid for p in ending.ends(step, here)} if ending else set()
            services |= stopping.stopped(step, here) if stopping else set()
    return [
        (Holder(
            name=p.name, number=p.pid, account=p.account, path=path, stopped=p.pid in going or facet.service_of(p) in services,
            may_be_stopped=here.guard.check_name("process", p.name).ok,
        ), p)
        for p, path in found
    ]  # fmt: skip


class HolderKind(Kind):
    """Chosen by the technician, not named by a step."""

    names = ("holder",)
    ahead_of = ("rescue", "uninstall", "purge", "delete", "verify", "after")

    def words(self, phase: str) -> Words:
        return Words("Ended, since they held files open")

    def add(self, planned: list[Action], here: Here) -> list[Action]:
        """An action for each that was chosen, by its name or its number.

        Raises:
            UsageError: nothing of that name holds anything.
        """
        found = _found(here, planned) if here.options.stop_holders else []
        actions = []
        for chosen in sorted(here.options.stop_holders):
            meant = [(h, p) for h, p in found if chosen == str(h.number) or fold(chosen) == fold(h.name)]
            if not meant:
                names = ", ".join(sorted({h.name for h, _ in found})) or "none does"
                raise UsageError(f"no program {chosen!r} holds anything open", remedy=f"programs that do: {names}")
            actions += [self._planned(h, p, here) for h, p in meant if not h.stopped]
        return list({a.about[0]: a for a in actions}.values())

    def _planned(self, holder: Holder, process: Process, here: Here) -> Action:
        action = Action(
            phase="holders", step=0, line=0, kind="holder", verb="end", target=holder.line, account=holder.account, items=1, ends=True,
            about=[NameId("process", holder.name, str(holder.number))], because=f"it holds {holder.path} open", undo="not started again",
            shows=[f"holds {holder.path}"],
        )  # fmt: skip
        action.set_details(Holding(pid=process.pid, started=process.started))
        return refuse(action, here.guard.check_name("process", process.name).reason)

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        from kleff.case.effects.process_ended import end_processes

        told, facet = action.details_as(Holding), work.here.workstation.processes
        found = [p for p in facet.all() if (p.pid, p.started) == (told.pid, told.started)] if facet else []
        if not found or facet is None or found[0].pid in facet.protected():
            return Outcome(note="not running any more")
        asked = end_processes(work.hands, action.number, f"what held files open ({line_of(found[0])})", found, WITHIN)
        return Outcome(items=1, note="closed by itself when asked" if asked else "ended")
