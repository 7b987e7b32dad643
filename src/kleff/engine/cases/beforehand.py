"""Looking, when a run begins, at what cannot be known any more once the product is removed."""

from __future__ import annotations

from kleff.case.record.beforehand import Beforehand, read_beforehand, stays_of
from kleff.case.record.folder import Case
from kleff.engine.context import going_steps
from kleff.objects.base.here import Here
from kleff.objects.base.kind import Notes, able
from kleff.objects.base.known import kind_of


def look_beforehand(here: Here) -> Beforehand:
    """Everything that the kinds know to note, and what has to stay. Nothing is changed."""
    workstation = here.workstation
    noted = Beforehand(numbers=workstation.accounts.numbers(), stays=stays_of(here.guard.kept, workstation.style))
    for step in going_steps(here, "stop", "uninstall", "purge", "delete"):
        kind = able(kind_of(step.kind), Notes)
        if kind is not None:
            kind.note(step, here, noted)
    return noted


def settle_beforehand(here: Here, case: Case) -> Beforehand:
    """What was noted when the case began; nothing if an earlier release began it. What had to stay then stays."""
    noted = read_beforehand(case)
    here.guard.kept.settle(noted.kept(here.workstation.style))
    return noted
