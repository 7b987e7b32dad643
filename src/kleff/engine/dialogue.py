"""The dialogue before a run: what is shown, what is asked, and what has to be agreed on, over one plan.

A front end hands in what draws and what asks. The order of the questions, and what follows from an answer, is the same for all.
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from kleff.engine.cases.alone import check_alone
from kleff.engine.job import Job, Preview
from kleff.engine.opening import Ticket
from kleff.engine.plan import plan_step
from kleff.engine.readiness import SYNCED, check_ready, refuse_if_refused, refuse_without_evidence, synced, unconfirmed
from kleff.errors import Refused
from kleff.objects.base.action import DONE, KEPT, Action
from kleff.objects.base.holders import Holder
from kleff.procedure.model import Ask
from kleff.progress import Progress

if TYPE_CHECKING:  # what only a run needs is not loaded for a look
    from kleff.case.bag.encryption import BagKey
    from kleff.engine.cases.run import Ended


class Front(Protocol):
    """What a front end draws, and how it asks. Nothing here is called while anything is being changed."""

    @property
    def asks(self) -> bool:
        """Somebody is there who answers; else only `agree` is called, and every other answer is the one that changes nothing."""

    def draw(self, made: Preview) -> None:
        """Show the plan."""

    def nothing(self, made: Preview) -> None:
        """Say that there is nothing to do."""

    def answer(self, question: Ask) -> str:
        """The answer to a question of the procedure; "" for its default."""

    def along(self, offered: Sequence[Action]) -> bool:
        """Whether what came along with packages goes too."""

    def holders(self, left: Sequence[Holder]) -> set[str]:
        """The numbers of the programs to be ended."""

    def by_hand(self, action: Action, number: int, count: int, proof: bool, again: bool) -> bool:
        """Whether a manual step, one of `count`, is done now; with a proof it is looked at then, and asked `again` if it is not so."""

    def looked(self, action: Action) -> None:
        """Say what the look at a proof has shown."""

    def synced(self, found: Sequence[Action]) -> bool:
        """Whether what a sync program keeps in step may go in the person's account elsewhere too."""

    def agree(self, made: Preview) -> None:
        """The one question before anything is done.

        Raises:
            Refused: not agreed.
        """

    def key(self) -> BagKey:
        """What locks the bag."""

    def begun(self, case: Path) -> None:
        """Say where the case is, before anything is done."""

    def watching(self) -> AbstractContextManager[Progress]:
        """Shows how far it has come."""


@dataclass(frozen=True)
class Dialogue:
    """What is said about one job until it is done.

    Attributes:
        compared: tell what other answers would change; unseen: nobody looks at the plan, so it must show the product.
        locked: the bag gets a passphrase.
        who: confirms manual steps, as it is kept in the case.
    """

    job: Job
    front: Front
    compared: bool = True
    unseen: bool = False
    locked: bool = False
    who: str = ""

    @property
    def asking(self) -> Front:
        """The front end; nothing is held while somebody reads or thinks."""
        self.job.workstation.release()
        return self.front

    def run(self, given: Sequence[str], cases: Path, ticket: Ticket) -> tuple[Path, Ended] | None:
        """Show the plan, ask, do it. None if there is nothing to do, or not any more.

        Raises:
            Refused, UsageError, Blocked: it must not, or should not, begin; nothing was changed.
            Stopped, Interrupted, RestartNeeded: the case is open.
        """
        self.job.check_begin()
        self.job.check_secrets()
        made = self.agreed(given, cases)
        if made is None:
            return None
        key = self.asking.key() if self.locked else None
        with self.front.watching() as progress:
            return self.job.run(made, cases, ticket, progress, key, self.front.begun)

    def agreed(self, given: Sequence[str], cases: Path) -> Preview | None:
        """The plan, once it is shown and agreed on; None if there is nothing to do.

        Raises:
            Refused, UsageError: it must not, or should not, begin.
        """
        job = replace(self.job, ask=lambda question: self.asking.answer(question)) if self.front.asks else self.job
        made = job.preview(given, self.compared)
        self.asking.draw(made)
        refuse_if_refused(made.plan)
        if not made.anything:
            self.asking.nothing(made)
            return None
        if self.unseen:
            refuse_without_evidence(made.here)
        if self.front.asks:
            made = self._synced(self._by_hand(self._holders(self._along(job, made))))
        check_ready(made.here, made.plan, cases)
        if job.options.goes_on_alone:
            check_alone(job.workstation, job.procedure, made.plan, self.locked)
        self.asking.agree(made)
        return made

    def _along(self, job: Job, made: Preview) -> Preview:
        """With what came along, if it is to go too; shown again."""
        offered = [a for a in made.plan.actions if a.offers and a.state == KEPT]
        if not offered or not self.asking.along(offered):
            return made
        job = job.with_options(replace(job.options, came_along="these"))
        made = made.planned_again(job.context(made.here.answers, made.here.procedure, made.here.programs.again()))
        self.asking.draw(made)
        return made

    def _holders(self, made: Preview) -> Preview:
        """With the programs ended that still have files open, if they are chosen."""
        left = [] if made.here.options.stop_holders else [h for h in made.plan.holders if not h.stopped]
        chosen = self.asking.holders(left) if left else set()
        return made.planned_again(made.here.with_options(stop_holders=frozenset(chosen))) if chosen else made

    def _by_hand(self, made: Preview) -> Preview:
        """With each manual step that must come first: what is confirmed is done in the plan.

        Raises:
            Refused: one is not done.
        """
        steps, here = unconfirmed(made.plan), made.here
        for number, action in enumerate(steps, 1):
            step = here.procedure.phase("before")[action.step]
            proof, again = step.model.has_proof, False
            while action.state != DONE:
                if not self.asking.by_hand(action, number, len(steps), proof, again):
                    raise Refused(f"not done: {action.target}; nothing was changed", remedy="do it, then run again")
                if proof:
                    now = plan_step(step, here)[0]
                    action.state, action.reason, again = now.state, now.reason, True
                    self.asking.looked(action)
                else:
                    action.state, action.reason = DONE, self.who
        return made

    def _synced(self, made: Preview) -> Preview:
        """Agreed that what a sync program keeps in step goes elsewhere too, if it is."""
        waived = made.here.options.waived
        found = [] if SYNCED in waived else synced(made.plan)
        return made.agreed_with(waived=waived | {SYNCED}) if found and self.asking.synced(found) else made
