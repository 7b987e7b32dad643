"""Programs that hold the product's files open and that no step stops: told before, and ended if a technician chooses them."""

from __future__ import annotations

import msgspec

from kleff.errors import UsageError
from kleff.objects.base.action import Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.holders import Holder, found_holders
from kleff.objects.base.kind import Kind, Words
from kleff.objects.base.own import refuse
from kleff.procedure.globs import fold
from kleff.procedure.loaded import LoadedStep
from kleff.workstation.identity import NameId
from kleff.workstation.things import Process, line_of

WITHIN = 10.0  # seconds that a program may take to close by itself


class Holding(msgspec.Struct, kw_only=True):
    """The very process: its number, and when it was started."""

    pid: int
    started: float


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
        found = found_holders(here, planned) if here.options.stop_holders else []
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


KINDS = (HolderKind(),)
