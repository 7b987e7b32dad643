"""What a job is opened with, and a new case for it."""

from __future__ import annotations

import contextlib
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from kleff.engine.context import make_context
from kleff.engine.library import Library
from kleff.engine.plan import Plan
from kleff.errors import Blocked, KleffError, Refused, Stopped, remedy_for
from kleff.objects.base.action import DONE, SKIPPED
from kleff.objects.base.here import Here, Options, Programs
from kleff.objects.base.secrets import Secrets
from kleff.procedure.conditions import Answer
from kleff.procedure.loaded import RULES, Procedure
from kleff.procedure.model import Ask
from kleff.progress import Silent
from kleff.workstation.facets import Workstation
from kleff.workstation.open import open_workstation

if TYPE_CHECKING:  # what only a run needs is not loaded for a look
    from kleff.case.bag.encryption import BagKey
    from kleff.case.hands import Hands
    from kleff.case.record.folder import Case

NOWHERE = Library(Path("/nonexistent"))


@dataclass(frozen=True)
class Ticket:
    """What a case is done for, and by whom."""

    number: str = ""
    technician: str = ""


@dataclass(frozen=True)
class Opened:
    """One procedure on one workstation.

    Attributes:
        library: the procedures beside it; what they claim stays while their product is present.
        options: how a run is to be done.
        secrets: what commands of the procedure need to be told.
        ask: puts one of the procedure's questions to a person; "" for its default. None if nobody is there.
        case: the folder of the case it is about, if it has been begun; answers: that were given then.
    """

    workstation: Workstation
    procedure: Procedure
    library: Library = NOWHERE
    options: Options = field(default_factory=Options)
    secrets: Secrets = field(default_factory=Secrets)
    ask: Callable[[Ask], str] | None = None
    case: Path | None = None
    answers: dict[str, Answer] | None = None

    def context(
        self, answers: dict[str, Answer] | None = None, procedure: Procedure | None = None, programs: Programs | None = None
    ) -> Here:
        """The context everything is planned in."""
        procedure = procedure or self.procedure
        answers = self.answers if answers is None else answers
        return make_context(self.workstation, procedure, self.library.others(procedure), answers, self.options, self.secrets, programs)

    def folder(self) -> Path:
        """The folder of the case it is about.

        Raises:
            Refused: it is about none.
        """
        if self.case is None:
            raise Refused("there is no case yet", remedy="run the procedure first")
        return self.case

    def check_begin(self) -> None:
        """Whether anything may be begun on the workstation.

        Raises:
            Refused: it needs an administrator.
            Blocked: another Kleff is at work there, or a case is unfinished.
        """
        from kleff.case.record.folder import check_unmarked
        from kleff.case.record.unfinished import check_free

        check_rights(self.workstation)
        check_free(self.workstation)
        check_unmarked(self.workstation)

    @contextmanager
    def begin(
        self,
        here: Here,
        plan: Plan,
        cases: Path,
        ticket: Ticket,
        purpose: str,
        key: BagKey | None = None,
        facts: dict[str, str] | None = None,
        removes: bool = False,
    ) -> Iterator[Case]:
        """A new case with the agreed plan, the only one at work on the workstation.

        Args:
            cases: the folder in which its folder is made.
            purpose: what others are told who find the workstation in use.
            facts: what else the case keeps.
            removes: it will remove something, so that what can only be known before is noted.

        Raises:
            Blocked: another Kleff is at work, or a case is unfinished.
            Refused: the folder cannot be made, others could change it, or another Kleff has worked here since the plan was made.
        """
        from kleff.case.hands import Hands
        from kleff.case.record.effect import dump
        from kleff.case.record.folder import create_case
        from kleff.case.record.trust import check_trusted
        from kleff.case.record.unfinished import lock
        from kleff.engine.cases.beforehand import look_beforehand
        from kleff.engine.cases.rows import record_plan
        from kleff.engine.room import make_room

        product = here.procedure.product
        with lock(self.workstation, purpose) as last:
            if last != here.since:
                raise Refused(
                    "another Kleff has been at work on it since this plan was made", where=self.workstation.spec,
                    remedy="give the command again, and look at the plan as it is now",
                )  # fmt: skip
            case = create_case(
                cases, self.workstation, here.procedure.raw, product.id,
                product=product.name, procedure_name=here.procedure.name, ticket=ticket.number, technician=ticket.technician,
                library=str(self.library.folder.absolute()) if self.library is not NOWHERE else "", spare=self.options.spare,
                without_uninstallers="yes" if self.options.without_uninstallers else "",
                answers=dump(here.answers), accounts=dump(sorted(self.options.accounts)), locked="yes" if key else "", rules=str(RULES),
                **(facts or {}),
            )  # fmt: skip
            with case:
                check_trusted(case.folder, "the case", self.workstation)
                hands = Hands(self.workstation, case, here.guard, Silent())
                with _nothing_left(hands):
                    record_plan(case, plan, look_beforehand(here) if removes else None)
                    make_room(hands, plan.actions)
                    case.enter(self.workstation, "open")
                for action in plan.actions:
                    if action.phase == "before" and action.state in (DONE, SKIPPED):
                        case.journal.tell(f"{action.target}: {action.reason}")
                    elif action.phase == "backup" and action.state == SKIPPED:
                        case.journal.tell(f"{action.target} was not saved: {action.reason}")
                yield case


@contextmanager
def _nothing_left(hands: Hands) -> Iterator[None]:
    """A case that cannot be begun is as if it had never been."""
    from kleff.case.record.unfinished import clear_mark

    try:
        yield
    except (Refused, Stopped, OSError) as error:
        case = hands.case
        with contextlib.suppress(KleffError, OSError):  # what cannot be taken away is empty, and nobody's case
            clear_mark(hands.workstation, case.folder.name, case.folder)
            hands.area.clear(hands.areas())
        shutil.rmtree(case.folder)
        if isinstance(error, OSError):
            what, where = error.strerror or str(error), str(error.filename or case.folder.parent)
            raise Refused(f"the case cannot be begun: {what}", where=where, remedy=remedy_for(error, "run again")) from None
        raise Refused(error.what, where=error.where, remedy=error.remedy.replace("; then resume", "; then run again")) from None


def opened_workstation(spec: str) -> Workstation:
    """A workstation, without what a Kleff that was killed may have put on it for its own work.

    Raises:
        NoSuchWorkstation: there is none.
    """
    workstation = open_workstation(spec)
    packages = workstation.packages if workstation.admin else None
    if packages is not None and packages.left_over():
        from kleff.case.effects.packages.package_removed import clear_up
        from kleff.case.record.unfinished import lock

        with contextlib.suppress(Blocked, Refused), lock(workstation, "clearing up"):  # whoever is at work there needs it still
            clear_up(workstation)
    return workstation


def check_rights(workstation: Workstation) -> None:
    """Working in another tree needs an administrator.

    Raises:
        Refused.
    """
    if workstation.needs_admin and not workstation.admin:
        raise Refused("working in another tree needs an administrator", where=workstation.spec, remedy="run Kleff as root")
