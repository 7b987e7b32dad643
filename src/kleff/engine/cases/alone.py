"""Whether a case can go on by itself after a restart, with nobody there to be asked."""

from __future__ import annotations

import sys
from pathlib import Path

import kleff
from kleff.engine.plan import Plan
from kleff.errors import Refused
from kleff.objects.base.action import MANUAL
from kleff.procedure.loaded import Procedure
from kleff.workstation.facets import Workstation
from kleff.workstation.this_machine import host

BY_HAND = "leave out --resume-after-restart, and resume by hand"


def check_alone(workstation: Workstation, procedure: Procedure, plan: Plan | None, locked: bool) -> None:
    """Before anything is begun.

    Args:
        plan: what will be done; None of a case that was begun.
        locked: the bag is, or will be, locked with a passphrase.

    Raises:
        Refused: it cannot, and why.
    """
    if workstation.after_restart is None or not workstation.admin:
        raise Refused("only an administrator can have a case go on by itself, on Windows, on a lab, or where systemd runs", remedy=BY_HAND)
    if locked:
        raise Refused("a bag that is locked cannot be gone on with alone: its passphrase is stored nowhere", remedy=BY_HAND)
    asked = [s for s in procedure.steps if s.model.needs_secret]
    if asked:
        raise Refused(f"the step at line {asked[0].line} needs {asked[0].model.needs_secret}, which is stored nowhere", remedy=BY_HAND)
    by_hand = [a for a in plan.actions if a.state == MANUAL and a.phase not in ("before", "after")] if plan else []
    if by_hand:
        raise Refused(f"{by_hand[0].target}: a person has to do that (step at line {by_hand[0].line})", remedy=BY_HAND)
    answered = [a for a in plan.actions if a.attended] if plan else []
    if answered:
        raise Refused(f"{answered[0].target}: a person has to answer its window (step at line {answered[0].line})", remedy=BY_HAND)
    for path in (Path(sys.executable), Path(kleff.__file__)):
        weak = host().weak_spot(path)
        if weak is not None:
            raise Refused(
                f"others than an administrator can change {weak}, from which Kleff would be started",
                remedy="install Kleff where only an administrator can write",
            )


def words_of(case: Path) -> list[str]:
    """How Kleff is started to go on with a case."""
    return [sys.executable, "-m", "kleff", "resume", str(case.absolute())]
