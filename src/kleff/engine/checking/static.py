"""What will be refused on every workstation: told before one is looked at."""

from __future__ import annotations

from pathlib import Path

from kleff.engine.context import look_only
from kleff.engine.systems import applies, meant_for
from kleff.objects.base.here import Here
from kleff.objects.base.kind import Refuses, able
from kleff.objects.base.known import kind_of
from kleff.procedure.loaded import PHASES, LoadedStep, Procedure
from kleff.workstation.facets import Workstation
from kleff.workstation.memory.workstation import MemoryLinux, MemoryWindows

NOWHERE = Path("/nonexistent")


def always_refused(procedure: Procedure) -> list[tuple[int, str]]:
    """(line, why and what to write instead) of each step that the guard refuses wherever it is run."""
    systems = meant_for(procedure)
    contexts = [look_only(w, procedure) for w in _usual() if not systems or w.system in systems]
    found: list[tuple[int, str]] = []
    for phase in PHASES:
        for step in procedure.phase(phase):
            kind = able(kind_of(step.kind), Refuses)
            if kind:
                found += [(step.line, text) for text in _everywhere(kind, step, contexts)]
            if step.model.after_restart and procedure.product.restart == "never":
                found.append((step.line, 'after_restart, but [product] says  restart = "never"; take out one of the two'))
    return found


def _everywhere(kind: Refuses, step: LoadedStep, contexts: list[Here]) -> list[str]:
    """What the first says of a step that all of them refuse; after one that does not, no other is asked."""
    first: list[str] = []
    for here in contexts:
        if applies(step, here.workstation.system):
            told = list(kind.always_refused(step, here))
            if not told:
                return []
            first = first or told
    return first


def _usual() -> list[Workstation]:
    """Workstations as they are usually set up, with one account and no product."""
    return [MemoryWindows(NOWHERE, ("someone",)).open(), MemoryLinux(NOWHERE, ("someone",)).open()]
