"""Manual steps on a terminal: shown one by one, confirmed with who and when, or checked again where there is proof."""

from __future__ import annotations

import getpass
import sys
from datetime import datetime
from typing import TYPE_CHECKING

from kleff.cli.common import plain_lines
from kleff.cli.terminal.clock import answered

if TYPE_CHECKING:
    from kleff.engine.plan import Plan
    from kleff.objects.base.here import Here


def confirmation(technician: str) -> str:
    """Who says so, and when."""
    return f"confirmed by {technician or me()} at {datetime.now().astimezone():%Y-%m-%d %H:%M}"


def me() -> str:
    """The name of whoever runs Kleff, or ""."""
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return ""


def agree_to_synced(here: Here, plan: Plan) -> bool:
    """Whether what a sync program keeps in step may go, since it goes in the person's account elsewhere too; asked, if there is any."""
    from kleff.engine.readiness import SYNCED, synced

    found = [] if SYNCED in here.options.waived else synced(plan)
    if not found:
        return False
    for action in found:
        print(plain_lines(f"\n{action.target} is kept in step by {action.synced}"), file=sys.stderr)
    print("Delete these in the person's account there too? [y/N] ", end="", file=sys.stderr, flush=True)
    return answered().strip().lower() in ("y", "yes")


def takes_along(plan: Plan) -> bool:
    """Whether what came along with packages goes too, where nobody has said; asked, if there is any."""
    from kleff.objects.base.action import KEPT

    offered = [a for a in plan.actions if a.offers and a.state == KEPT]
    for action in offered:
        print(plain_lines(f"\n{action.offers.partition(';')[0]}, and nothing needs it then:\n  {action.target}"), file=sys.stderr)
    if not offered:
        return False
    print("Remove them too? [y/N] ", end="", file=sys.stderr, flush=True)
    return answered().strip().lower() in ("y", "yes")


def choose_holders(plan: Plan) -> set[str]:
    """Which of the programs that hold files open, and that no step stops, are to be ended: their numbers."""
    left = [h for h in plan.holders if not h.stopped]
    if not left:
        return set()
    print("\nStill open, and no step stops it:", file=sys.stderr)
    for place, holder in enumerate(left, 1):
        session = "" if holder.may_be_stopped else "  (the system's own; it is not ended)"
        print(plain_lines(f"  {place}  {holder.line}  holds {holder.path}{session}"), file=sys.stderr)
    free = [h for h in left if h.may_be_stopped]
    while free:
        question = "End which of them, before anything is removed? Places or names, with commas; Enter for none: "
        print(question, end="", file=sys.stderr, flush=True)
        words = {word.strip() for word in answered().split(",")} - {""}
        meant = {word: [h for n, h in enumerate(left, 1) if h in free and word.lower() in (str(n), h.name.lower())] for word in words}
        if all(meant.values()):
            return {str(h.number) for found in meant.values() for h in found}
        print(plain_lines(f"not one of them: {', '.join(sorted(w for w, found in meant.items() if not found))}"), file=sys.stderr)
    return set()


def confirm_manual(here: Here, plan: Plan, technician: str) -> None:
    """Ask for each manual step that must come first; what is confirmed is done in the plan.

    Raises:
        Refused: one is not done.
    """
    from kleff.engine.plan import plan_step
    from kleff.engine.readiness import unconfirmed
    from kleff.errors import Refused
    from kleff.objects.base.action import DONE

    steps = unconfirmed(plan)
    for number, action in enumerate(steps, 1):
        step = here.procedure.phase("before")[action.step]
        print(plain_lines(f"\nBy hand, {number} of {len(steps)}: {action.target}"), file=sys.stderr)
        while action.state != DONE:
            proof = step.model.has_proof
            print("  press Enter when it is done, n to stop: " if proof else "  done? [y/n] ", end="", file=sys.stderr, flush=True)
            answer = answered()
            if not answer or answer.strip().lower() in ("n", "no"):
                raise Refused(f"not done: {action.target}; nothing was changed", remedy="do it, then run again")
            if proof:
                now = plan_step(step, here)[0]
                action.state, action.reason = now.state, now.reason
                print(plain_lines(f"  {now.reason}"), file=sys.stderr)
            elif answer.strip().lower() in ("y", "yes"):
                action.state, action.reason = DONE, confirmation(technician)
