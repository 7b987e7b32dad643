"""What can be done with a case that was begun: going on, taking back, discarding, telling."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import dataclass
from typing import get_args

import msgspec

from kleff.case.bag import carried
from kleff.case.bag.encryption import KEY_FILE, PASSPHRASE, BagKey, make_key, open_key
from kleff.case.bag.opened import Unlock
from kleff.case.discard import Holds, discard_case, holds
from kleff.case.effects.base import check_all_known
from kleff.case.guard.guard import Guard
from kleff.case.hands import Hands
from kleff.case.record.effect import Journaled, load
from kleff.case.record.folder import Case, check_belongs, check_unmarked, open_case
from kleff.case.record.unfinished import lock
from kleff.case.undo import Undone, check_can_undo, undo_case
from kleff.engine.cases.beforehand import settle_beforehand
from kleff.engine.cases.judging import verification_of
from kleff.engine.cases.known import known_of
from kleff.engine.cases.restore import Restorer, restoring_of
from kleff.engine.cases.rows import Row, rows
from kleff.engine.cases.run import Ended, Runner
from kleff.engine.cases.within import within
from kleff.engine.finding import Verification
from kleff.engine.library import parse
from kleff.engine.opening import Opened, check_rights, opened_workstation
from kleff.engine.verify import verify
from kleff.errors import DamagedCase, NewerCase, ProcedureError, Refused, UsageError
from kleff.objects.base.here import SpareMode
from kleff.objects.base.secrets import Secrets
from kleff.procedure.conditions import Answer
from kleff.procedure.loaded import RULES, Procedure
from kleff.progress import Progress
from kleff.workstation.facets import Workstation


@dataclass(frozen=True)
class CaseRecord:
    """What a case knows.

    Attributes:
        state: as `Case.state`.
        verification: what was found when it was looked last; None if it never was.
        events: (when, text) of its diary.
    """

    id: str
    state: str
    rows: list[Row]
    effects: list[Journaled]
    verification: Verification | None
    events: list[tuple[str, str]]


def workstation_of(case: Case, on: str | None = None) -> Workstation:
    """The workstation of a case.

    Raises:
        Refused: it is not the one the case was made on.
    """
    workstation = opened_workstation(on or case.text("workstation"))
    check_belongs(case, workstation)
    return workstation


def procedure_of(case: Case) -> Procedure:
    """The case's own copy of its procedure, read by the rules it was begun under.

    Raises:
        NewerCase: this Kleff does not know these rules, or a kind of step that it names.
    """
    try:
        rules = int(case.text("rules") or 1)
    except ValueError:
        rules = 0
    if rules > RULES:
        raise NewerCase(f"the case was begun under rules that this Kleff does not know ({rules})", where=str(case.folder))
    try:
        return parse(case.journal.get("procedure"), case.text("procedure_name"), rules)
    except ProcedureError as error:  # it was valid when the case was begun
        check_all_known(case)
        raise NewerCase(
            f"made by another Kleff, whose procedures say what this one does not know ({error.problems[0]}); nothing of it is lost",
            where=str(case.folder),
        ) from None


def answers_of(case: Case) -> dict[str, Answer]:
    """What was answered when the case was begun.

    Raises:
        DamagedCase: it cannot be read.
    """
    try:
        return load(case.text("answers") or "{}", dict[str, bool | str | list[str]])
    except (msgspec.MsgspecError, ValueError) as error:
        raise DamagedCase(
            f"the answers cannot be read: {error}", where=str(case.folder), remedy="restore the case folder from a copy"
        ) from None


def accounts_of(case: Case) -> list[str]:
    """The accounts it is done for alone; none for all.

    Raises:
        DamagedCase: they cannot be read.
    """
    try:
        return load(case.text("accounts") or "[]", list[str])
    except (msgspec.MsgspecError, ValueError) as error:
        raise DamagedCase(
            f"the accounts cannot be read: {error}", where=str(case.folder), remedy="restore the case folder from a copy"
        ) from None


def spare_of(case: Case) -> SpareMode:
    """How its spares are taken."""
    wanted = case.text("spare") or "links"
    return next((mode for mode in get_args(SpareMode) if mode == wanted), "links")


def without_uninstallers(case: Case) -> bool:
    """Whether its registered products are removed without their uninstallers."""
    return case.text("without_uninstallers") == "yes"


def record(job: Opened) -> CaseRecord:
    """Everything it tells."""
    folder = job.folder()
    with open_case(folder) as case:
        journal = case.journal
        return CaseRecord(case.id, case.state, rows(case), journal.effects(), verification_of(case), journal.events())


def verify_case(job: Opened) -> Verification:
    """Look again, with what the case knows."""
    here = job.context()
    with open_case(job.folder()) as case:
        settle_beforehand(here, case)
        known = known_of(case, here)
    return verify(here, known)


# -- going on ---------------------------------------------------------------------------------------------------


def resume(job: Opened, skip: int, because: str, progress: Progress) -> Ended:
    """Go on with an open case; see `Job.resume`."""
    folder = job.folder()
    if bool(skip) != bool(because.strip()):
        raise UsageError("--skip and --because belong together", remedy="kleff resume CASE --skip ACTION --because TEXT")
    check_rights(job.workstation)
    with lock(job.workstation, f"resuming {folder.name}"), open_case(folder, writable=True) as case:
        check_unmarked(job.workstation, case)
        if case.state not in ("new", "open", "waiting"):
            raise Refused(
                f"the case is {case.state}; there is nothing to resume", where=str(case.folder), remedy=f"kleff report {case.folder}"
            )
        if not case.journal.actions():
            raise Refused("the case was cut off before its plan was agreed", where=str(case.folder), remedy="run the procedure again")
        check_all_known(case)
        key = _key_of(case, job.secrets)
        return _runner(job, case, progress, key).resume(skip, because)


def _runner(job: Opened, case: Case, progress: Progress, key: BagKey | None) -> Runner:
    here = job.context()
    if case.text("task") == "restore":
        return Restorer(restoring_of(case, here, unlock_with(job.secrets)), case, progress, key)
    return Runner(here, case, progress, key)


def _key_of(case: Case, secrets: Secrets) -> BagKey | None:
    """The key of a bag that is locked and not finished."""
    if not case.text("locked") or case.text("bag") == "sealed":
        return None
    file, given = case.folder / "bag" / KEY_FILE, secrets.get(PASSPHRASE)
    return open_key(file, given) if file.exists() else make_key(given)


def unlock_with(secrets: Secrets) -> Unlock:
    """Opens a locked bag with the passphrase that is given, or asked for."""
    return lambda file: open_key(file, secrets.get(PASSPHRASE))


# -- taking back ------------------------------------------------------------------------------------------------


def undo(job: Opened, only: set[int] | None, progress: Progress, past: dict[int, str] | None = None) -> Undone:
    """Take a case back; see `Job.undo`."""
    folder = job.folder()
    with lock(job.workstation, f"taking back {folder.name}"), open_case(folder, writable=True) as case:
        check_can_undo(case, only)
        check_unmarked(job.workstation, case)
        with within(case, undoing=True):
            undone = undo_case(_hands(job, case, progress), only, past)
            if case.state == "undone":
                carried.drop(folder)
            return undone


def discard(job: Opened, agreed: Callable[[Holds], None] | None, progress: Progress) -> Holds:
    """Delete what is set aside; see `Job.discard`."""
    folder = job.folder()
    with ExitStack() as stack:
        stack.enter_context(lock(job.workstation, f"discarding {folder.name}"))
        case = stack.enter_context(open_case(folder, writable=True))
        check_all_known(case)
        hands = _hands(job, case, progress)
        total = holds(hands)
        if total.anything and agreed is not None:
            agreed(total)
        return discard_case(hands)


def _hands(job: Opened, case: Case, progress: Progress) -> Hands:
    return Hands(job.workstation, case, Guard(job.workstation), progress)
