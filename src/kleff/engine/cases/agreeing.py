"""What is agreed on before a case is taken back, or saved data is put back: shown, asked once, done."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Protocol

from kleff.case.record.folder import Case, open_case
from kleff.case.undo import Undone, check_can_undo
from kleff.engine.cases.restore import check_room
from kleff.engine.cases.restoring import RestorePlan
from kleff.engine.cases.rows import rows
from kleff.engine.cases.run import Ended
from kleff.engine.job import Job
from kleff.engine.opening import Ticket
from kleff.engine.readiness import refuse_if_refused
from kleff.errors import UsageError
from kleff.progress import Progress


class BackFront(Protocol):
    """What a front end asks before a case is taken back."""

    def agree(self, case: Case, part: set[int] | None) -> None:
        """The one question, about all of it or the numbers of some actions.

        Raises:
            Refused: not agreed.
        """

    def watching(self) -> AbstractContextManager[Progress]:
        """Shows how far it has come."""


class RestoreFront(Protocol):
    """What a front end draws and asks before saved data is put back."""

    def draw(self, made: RestorePlan) -> None:
        """Show the plan."""

    def nothing(self, made: RestorePlan) -> None:
        """Say that there is nothing to put back."""

    def agree(self, made: RestorePlan) -> None:
        """The one question.

        Raises:
            Refused: not agreed.
        """

    def begun(self, case: Path) -> None:
        """Say where the case is."""

    def watching(self) -> AbstractContextManager[Progress]:
        """Shows how far it has come."""


def taken_back(job: Job, names: Sequence[str], front: BackFront, past: dict[int, str]) -> Undone:
    """Ask, then take the job's case back.

    Args:
        names: numbers or labels of the actions that are taken back; none for all.
        past: see `Job.undo`.

    Raises:
        UsageError: a name that means no action.
        Refused: it cannot be taken back, or it is not agreed on.
        Stopped, Interrupted: it is taken back in part; it can be called again.
    """
    with open_case(job.folder()) as case:
        check_can_undo(case)
        part = actions_named(case, names) if names else None
        job.workstation.release()
        front.agree(case, part)
    with front.watching() as progress:
        return job.undo(part, progress, past)


def put_back(made: RestorePlan, front: RestoreFront, cases: Path, ticket: Ticket, only_shown: bool) -> tuple[Path, Ended] | None:
    """Show the plan, ask, put it back; None if there is nothing to do, or it is only to be shown.

    Raises:
        Refused: it must not, or should not, begin; nothing was changed.
        Stopped, Interrupted: the case is open.
    """
    workstation = made.restoring.here.workstation
    workstation.release()
    front.draw(made)
    refuse_if_refused(made.plan)
    if only_shown:
        return None
    if not made.anything:
        front.nothing(made)
        return None
    check_room(made.restoring, made.plan)
    workstation.release()
    front.agree(made)
    with front.watching() as progress:
        return made.run(cases, ticket, progress, front.begun)


def actions_named(case: Case, names: Sequence[str]) -> set[int]:
    """The numbers of the actions that are meant by their number or their label.

    Raises:
        UsageError: a name that means none.
    """
    found = rows(case)
    numbers: set[int] = set()
    for name in names:
        meant = {r.action.number for r in found if name in (str(r.action.number), r.action.label) and r.action.phase != "verify"}
        if not meant:
            labels = sorted({r.action.label for r in found if r.action.label})
            raise UsageError(
                f"no action has the number or label {name!r}",
                remedy=f"labels are {', '.join(labels)}; kleff report {case.folder}  shows the numbers",
            )
        numbers |= meant
    return numbers
