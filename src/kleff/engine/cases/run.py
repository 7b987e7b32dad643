"""Running a plan: action by action, journaled; stopped, resumed, waiting for a restart, verified in the end."""

from __future__ import annotations

from contextlib import nullcontext
from dataclasses import dataclass, field
from itertools import takewhile

from kleff.case.bag.bag import Bag
from kleff.case.bag.encryption import BagKey
from kleff.case.effects.base import reconcile
from kleff.case.effects.packages.package_removed import clear_up
from kleff.case.effects.resume_arranged import forget_resume
from kleff.case.hands import Hands
from kleff.case.record.folder import Case
from kleff.engine.cases.again import late_actions, look_again
from kleff.engine.cases.beforehand import settle_beforehand
from kleff.engine.cases.judging import agreed_and_back, judged, release
from kleff.engine.cases.known import known_of
from kleff.engine.cases.rows import SAVING, Row, rows
from kleff.engine.cases.telling import Telling
from kleff.engine.cases.waiting import after_restart, check_told, restarts, wait_for_restart
from kleff.engine.cases.within import ways_on, within
from kleff.engine.finding import Verification
from kleff.engine.plan import REMOVING
from kleff.engine.verify import verify
from kleff.errors import ActionFailed, DamagedCase, Interrupted, KleffError, Stopped, UsageError, remedy_for
from kleff.objects.base.action import (
    ABSENT,
    DONE,
    FAILED,
    KEPT,
    MANUAL,
    SKIPPED,
    TO_DO,
    UNDONE,
    UNKNOWN,
    UNREADABLE,
    WAITING,
    Action,
    Outcome,
    for_vendor,
)  # fmt: skip
from kleff.objects.base.here import Here, Work
from kleff.objects.base.holders import told_open
from kleff.objects.base.kind import Does, Joins, able
from kleff.objects.base.known import kind_of
from kleff.procedure.loaded import PHASES, LoadedStep
from kleff.procedure.model import Step
from kleff.progress import Progress

PASSES = 3
TOGETHER = 100  # actions that may share their flushes


@dataclass
class Ended:
    """How a run ended.

    Attributes:
        failed: what was not done though it should have been.
        restores: it put saved data back.
        unclosed: why the case could not be ended, though all of it is done.
    """

    verification: Verification
    rows: list[Row]
    elapsed: float
    failed: list[Row] = field(default_factory=list)
    restores: bool = False
    unclosed: Stopped | None = None

    @property
    def clean(self) -> bool:
        return self.verification.clean and not self.failed


class Runner:
    """Does the agreed plan of a case."""

    def __init__(self, here: Here, case: Case, progress: Progress, key: BagKey | None = None) -> None:
        self.here, self.case, self.progress = here, case, progress
        self.hands = Hands(here.workstation, case, here.guard, progress)
        self.work = Work(here, self.hands, Bag(case, key))
        self._looked_for_holders, self._phase = False, ""
        self._telling = Telling(progress, ())

    def run(self) -> Ended:
        """Do what is to do, and verify.

        Raises:
            Stopped: an action failed; the case is open.
            Interrupted: asked to stop; the case is open.
            RestartNeeded: the case waits.
        """
        boots = self.here.workstation.boots
        with within(self.case), boots.awake() if boots is not None else nullcontext():
            return self._run()

    def _run(self) -> Ended:
        self.case.enter(self.here.workstation, "open")
        self._clear_ways()
        self.work.beforehand = settle_beforehand(self.here, self.case)
        reconcile(self.hands)
        verdict = judged(self.case)
        pending = [row for row in rows(self.case) if self._pending(row)] if verdict is None else []
        self._telling = Telling(self.progress, (row.action for row in pending))
        self.progress.begin(len(pending))
        while pending:
            count = self._joined(pending)
            if count > 1:
                done = self._together(pending[:count])
                pending = [row for row in pending if row.action.number not in done]
            if count == 1 or not done:
                self._one(pending.pop(0))
        wait_for_restart(self.here, self.case, self.hands)
        self._after(verdict)
        wait_for_restart(self.here, self.case, self.hands)  # which one of these may ask for
        return self._finish()

    def _after(self, verdict: Verification | None) -> None:
        """What comes after the work may set the product up anew: the verdict is given before."""
        left = [row for row in rows(self.case) if row.action.phase == "after" and row.state in (TO_DO, FAILED)]
        if left and verdict is None:
            release(self.case, self.hands)
            self.case.keep(verification=self._verified(), judged="yes")
        for row in left:
            self._one(row)

    def resume(self, skip: int = 0, because: str = "") -> Ended:
        """Go on with a case that stopped, was killed or waits.

        Raises:
            RestartNeeded: it waits and the workstation has not been restarted. Refused: that cannot be told.
        """
        check_told(self.here, self.case)
        if skip:
            self._skip(skip, because)
        with within(self.case):
            forget_resume(self.hands)
            if self.case.state == "waiting":
                after_restart(self.here, self.case)
        return self.run()

    def _pending(self, row: Row) -> bool:
        if row.action.phase in ("before", "verify", "after") or row.state in (DONE, SKIPPED, UNDONE):
            return False
        if row.state == ABSENT:  # it may be there only now
            return row.action.after_restart and self.case.text("restarted") == "yes"
        if row.state == KEPT:
            return row.action.later
        if row.state in (TO_DO, FAILED, MANUAL, UNREADABLE):
            return True
        return row.state == WAITING and self.case.text("restarted") == "yes"

    def _joined(self, pending: list[Row]) -> int:
        """How many of the next actions can be done together: removals of one kind, none of which waits for another."""
        name = pending[0].action.kind
        joining = able(kind_of(name), Joins)
        if joining is None:
            return 1

        def joins(row: Row) -> bool:
            action = row.action
            return (
                action.kind == name and action.phase in REMOVING and row.state in (TO_DO, FAILED) and not action.after_restart
                and joining.joins(self._step(action))
            )  # fmt: skip

        return max(1, sum(1 for _ in takewhile(joins, pending[:TOGETHER])))

    def _together(self, group: list[Row]) -> set[int]:
        """Do several actions that share their flushes. Returns the numbers of those that are done."""
        self._between(group[0].action)
        self._seal(group[0].action)
        self._tell_holders(group[0].action)
        joining = able(kind_of(group[0].action.kind), Joins)
        outcomes = joining.together([(r.action, self._step(r.action)) for r in group], self.work) if joining else {}
        if len(outcomes) < len(group):
            reconcile(self.hands)
        for row in group:
            if row.action.number in outcomes:
                self._telling.tell(row.action)
        self.case.journal.end_actions([(n, o.state, o.note, o.items, o.size) for n, o in outcomes.items()])
        return set(outcomes)

    def _between(self, action: Action) -> None:
        """Before an action: whoever wants it stopped is heard, and what one phase has held the next does not."""
        if action.phase != self._phase:
            self.here.workstation.release()
        self._phase = action.phase
        if self.progress.should_stop():
            raise Interrupted("stopped as asked, after the action in hand", where=str(self.case.folder), remedy=self._ways())

    def _one(self, row: Row) -> None:
        action = row.action
        self._between(action)
        if action.after_restart and restarts(self.here) and self.case.text("restarted") != "yes":
            self.case.journal.end_action(action.number, WAITING, "after the restart")
            return
        if action.phase in REMOVING:
            self._seal(action)
            self._tell_holders(action)
        self._telling.tell(action, again=row.state == KEPT)
        try:
            outcome = self._done(row)
        except Interrupted:
            raise
        except (Stopped, DamagedCase) as error:
            raise Stopped(error.what, where=error.where, remedy=f"{error.remedy}; {self._ways()}", said=error.said) from None
        except (ActionFailed, KleffError) as error:
            self._failed(action, error)
            return
        if outcome.state != DONE:
            self.progress.say(f"     {outcome.state}: {action.target}: {outcome.note}")
        if outcome.restart:
            self.case.journal.set(restart="asked for")
        self.case.journal.end_action(action.number, outcome.state, outcome.note, outcome.items, outcome.size)

    def _done(self, row: Row) -> Outcome:
        try:
            return self._do(row)
        except OSError as error:  # what no kind of object has put into words
            what = f"{error.filename or row.action.target}: {error.strerror or error}"
            raise ActionFailed(what, remedy=remedy_for(error)) from None

    def _do(self, row: Row) -> Outcome:
        action, step = row.action, self._step(row.action)
        if row.state == ABSENT:
            return self._late(row, step)
        if action.phase in SAVING and self.work.bag.holds(action.number):
            return Outcome(note="saved before the run was cut off", items=action.items, size=action.size)
        if row.state in (FAILED, MANUAL) or action.state in (MANUAL, UNREADABLE):
            now = look_again(row, step, self.here, self.case)
            if isinstance(now, Outcome):
                return now
            action = now
        kind = able(kind_of(action.kind), Does)
        if kind is None:
            raise ActionFailed(f"this Kleff cannot do it ({action.kind})", remedy="use the Kleff that made the case")
        return kind.do(action, step, self.work)

    def _late(self, row: Row, step: LoadedStep) -> Outcome:
        """What a step after the restart names and was not there at the preview."""
        kind, outcome = able(kind_of(row.action.kind), Does), Outcome(state=ABSENT, note="not there")
        for action in late_actions(row, step, self.here) if kind is not None else []:
            done = kind.do(action, step, self.work) if kind is not None else Outcome()
            outcome = Outcome(items=outcome.items + done.items, size=outcome.size + done.size, note="was not there before the restart")
        return outcome

    def _step(self, action: Action) -> LoadedStep:
        if action.phase not in PHASES:  # planned by a kind itself, not by a step
            return LoadedStep(action.phase, action.kind, 0, 0, Step())
        return self.here.procedure.phase(action.phase)[action.step]

    def _failed(self, action: Action, error: KleffError) -> None:
        reconcile(self.hands)
        self.case.journal.end_action(action.number, FAILED, error.what)
        self.case.journal.tell(f"action {action.number} failed: {error.what}")
        odd = action.state == UNREADABLE and action.account and action.phase in ("stop", "delete")  # in one account: others need not wait
        if action.optional or odd:
            self.progress.say(f"     {'failed, but optional' if action.optional else 'left, and the rest goes on'}: {error.what}")
            return
        where = f"{self.here.procedure.name}:{action.line}" if action.line else self.here.procedure.name
        raise Stopped(
            f"action {action.number} ({action.verb} {action.target}) failed: {error.what}", where=where,
            remedy=f"{error.remedy or 'look at it'}; {self._ways()}", said=error.said,
        )  # fmt: skip

    def _ways(self) -> str:
        return ways_on(self.case.folder)

    def _seal(self, action: Action) -> None:
        """Nothing that removes runs before the bag is complete, flushed and read back."""
        if self.work.bag.sealed:
            return
        missing = [r for r in rows(self.case) if r.action.phase == "backup" and r.state == FAILED and not r.action.optional]
        if missing:
            raise Stopped(f"{missing[0].action.target} could not be saved", where=str(self.case.folder), remedy=self._ways())
        if self.case.journal.bag_items():
            self.progress.say("     checking what was saved against its checksums")
        self.work.bag.seal()
        self.case.journal.tell("the bag was sealed and read back")

    def _tell_holders(self, action: Action) -> None:
        """Before the first thing is removed: what still has something of the product open is named, and left."""
        if self._looked_for_holders:
            return
        self._looked_for_holders = True
        for text in told_open(self.here, [r.action for r in rows(self.case)]):
            self.progress.say(f"     {text}")
            self.case.journal.tell(text)

    def _skip(self, number: int, because: str) -> None:
        found = [r for r in rows(self.case) if r.action.number == number]
        if not found or found[0].state in (DONE, SKIPPED, ABSENT):
            raise UsageError(
                f"action {number} is not one that could be skipped", remedy=f"kleff report {self.case.folder}  shows the numbers"
            )
        if found[0].action.phase == "backup" and not because.strip():
            raise UsageError("skipping needs a reason", remedy="add  --because TEXT")
        owed = self._step(found[0].action).model.owed
        self.case.journal.end_action(number, SKIPPED, for_vendor(owed, because) if owed else because)
        self.case.journal.tell(f"action {number} skipped by the technician: {because}")

    def _clear_ways(self) -> None:
        """Take away what a killed run may have left besides effects."""
        cut_off = {row.action.number for row in rows(self.case) if row.action.phase in SAVING and row.state in (TO_DO, FAILED)}
        self.work.bag.drop_unrecorded(cut_off)
        clear_up(self.here.workstation)

    def _finish(self) -> Ended:
        release(self.case, self.hands)
        result = judged(self.case) or self._verified()
        self.hands.area.clear(self.hands.areas())  # those in which nothing lies
        found = rows(self.case)
        elapsed = self.progress.worked() + float(self.case.text("worked") or 0)  # before a restart
        ended = Ended(result, found, elapsed, [r for r in found if r.state in (FAILED, UNKNOWN)], self.case.text("task") == "restore")
        try:
            with within(self.case):
                self.case.keep(verification=result, elapsed=f"{elapsed:.1f}")
                self.case.enter(self.here.workstation, "finished")
        except Stopped as error:  # everything is done and looked at; only the book is not closed
            ended.unclosed = error
        return ended

    def _verified(self) -> Verification:
        """Verify; what the agreed plan names and is there again goes too, in a few passes."""
        if not self.work.bag.sealed:
            self.work.bag.seal()  # a procedure that only saves
        self.progress.say("     looking whether it is gone")
        result = self._verdict()
        for _ in range(PASSES):
            again = agreed_and_back(result, self.case, self.here.workstation.style)
            if not again:
                break
            for row in again:
                why = "there again, done again" if row.state == DONE else "empty now, so it goes too"
                self.case.journal.tell(f"{why}: {row.action.target}")
                self._one(row)
            result = self._verdict()
        return result

    def _verdict(self) -> Verification:
        return verify(self.here, known_of(self.case, self.here))
