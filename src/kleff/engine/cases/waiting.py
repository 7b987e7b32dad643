"""A case that needs a restart of the workstation: it waits, and goes on only after a real one."""

from __future__ import annotations

from kleff.case.effects.resume_arranged import arrange_resume
from kleff.case.hands import Hands
from kleff.case.record.folder import Case
from kleff.engine.cases.alone import words_of
from kleff.engine.cases.rows import rows
from kleff.engine.plan import REMOVING
from kleff.errors import Refused, RestartNeeded
from kleff.objects.base.action import DONE, WAITING
from kleff.objects.base.here import Here
from kleff.texts import now, typed
from kleff.workstation.boot import same_boot
from kleff.workstation.facets import Workstation


def restarts(here: Here) -> bool:
    """Whether the procedure lets it be restarted, and it can be."""
    return here.procedure.product.restart != "never" and here.workstation.boot != ""


def wait_for_restart(here: Here, case: Case, hands: Hands) -> None:
    """If one is needed and has not been: have the case wait.

    Raises:
        RestartNeeded: it waits.
    """
    if case.text("restart") and not restarts(here):
        hands.progress.say("     it asks for a restart, and the procedure wants none: restart when it suits")
    if not restarts(here) or case.text("restarted") == "yes":
        return
    found = rows(case)
    waiting = [r for r in found if r.state == WAITING]
    wanted = here.procedure.product.restart == "always" and any(r.state == DONE and r.action.phase in REMOVING for r in found)
    if not (wanted or case.text("restart") or waiting):
        return
    worked = hands.progress.worked() + float(case.text("worked") or 0)
    case.journal.set(waiting_boot=here.workstation.boot, worked=f"{worked:.1f}")
    case.enter(here.workstation, "waiting")
    if here.options.goes_on_alone:
        arrange_resume(hands, found[-1].action.number, words_of(case.folder))
    for row in waiting:
        hands.progress.say(f"     waits for the restart: {row.action.verb} {row.action.target}")
    in_use = any(not row.action.after_restart for row in waiting)
    why = "the uninstaller asks for it" if case.text("restart") else "what is in use goes only then" if in_use else "the procedure wants it"
    by_hand, by_itself = f"restart the workstation, then  kleff resume {case.folder}", "it goes on by itself then; see  kleff report"
    remedy = f"restart the workstation; {by_itself}" if here.options.goes_on_alone else by_hand
    raise RestartNeeded(f"a restart is needed to go on: {why}", where=here.workstation.name, remedy=remedy)


def undecided(workstation: Workstation, case: Case) -> bool:
    """Whether a case waits of which only a person knows if the workstation has been restarted since."""
    return case.state == "waiting" and same_boot(workstation, case.text("waiting_boot")) is None


def check_told(here: Here, case: Case) -> None:
    """Where it cannot be told whether the workstation was restarted, somebody has said so, or that it was not.

    Raises:
        Refused: nobody has.
    """
    if undecided(here.workstation, case) and here.options.restarted is None:
        raise Refused(
            "an earlier Kleff began this case, and its note of the boot moves with the clock: whether the workstation has been restarted "
            "since cannot be told", where=here.workstation.spec,
            remedy=f"if it has been:  kleff resume {typed(str(case.folder))} --restarted;  else restart it first, then say so",
        )  # fmt: skip


def after_restart(here: Here, case: Case) -> None:
    """A case that waits may go on.

    Raises:
        RestartNeeded: the workstation has not been restarted since. Shut down the fast way and switched on it is the same boot.
    """
    same = same_boot(here.workstation, case.text("waiting_boot"))
    if same or (same is None and not here.options.restarted):
        raise RestartNeeded(
            "the workstation has not been restarted since", where=here.workstation.spec,
            remedy=f"choose Restart, not Shut down; then  kleff resume {case.folder}",
        )  # fmt: skip
    case.journal.tell("the workstation was restarted")
    case.journal.set(restarted="yes", restarted_at=now())
