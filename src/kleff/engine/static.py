"""What will be refused on every workstation: told before one is looked at."""

from __future__ import annotations

from pathlib import Path

from kleff.engine.context import look_only
from kleff.engine.systems import applies, meant_for
from kleff.objects.base.kind import Refuses, able, kind_of
from kleff.procedure.load import PHASES, Procedure
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
            told = [list(kind.always_refused(step, h)) if kind else [] for h in contexts if applies(step, h.workstation.system)]
            if told and all(told):
                found += [(step.line, text) for text in told[0]]
            if step.model.after_restart and procedure.product.restart == "never":
                found.append((step.line, 'after_restart, but [product] says  restart = "never"; take out one of the two'))
    return found


def _usual() -> list[Workstation]:
    """Workstations as they are usually set up, with one account and no product."""
    return [MemoryWindows(NOWHERE, ("someone",)).open(), MemoryLinux(NOWHERE, ("someone",)).open()]
