"""A job: one procedure on one workstation, from the first look to the last. What every front end opens.

Questions are put and progress is told through what is handed in; nothing here asks, prints or ends the process.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self

from kleff.engine.accounts import named
from kleff.engine.choices import Choice, choices, settle, with_found
from kleff.engine.context import make_context, secrets_needed
from kleff.engine.finding import Verification
from kleff.engine.library import Library, load
from kleff.engine.opening import NOWHERE, Opened, Ticket, opened_workstation
from kleff.engine.plan import REMOVING, Plan, Planning
from kleff.engine.readiness import check_names, check_ready, refuse_if_refused
from kleff.engine.survey import Survey, survey
from kleff.engine.systems import check_meant_for
from kleff.engine.verify import verify
from kleff.objects.base.here import Here, Options, Programs
from kleff.procedure.conditions import Answer
from kleff.procedure.loaded import Procedure
from kleff.progress import Progress, Silent

if TYPE_CHECKING:  # what only a run needs is not loaded for a look
    from kleff.case.bag.encryption import BagKey
    from kleff.case.discard import Holds
    from kleff.case.undo import Undone
    from kleff.engine.cases.case_job import CaseRecord
    from kleff.engine.cases.restore import Wanted
    from kleff.engine.cases.run import Ended

ASIDE = ("before", "backup", "verify", "after")


@dataclass(frozen=True)
class Preview:
    """A plan in its context, and the questions with what their other answers would change."""

    planning: Planning
    plan: Plan
    choices: list[Choice] = field(default_factory=list)

    @property
    def here(self) -> Here:
        return self.planning.here

    @property
    def removes(self) -> bool:
        """Whether it is about removing; else about saving alone."""
        return any(a.phase in REMOVING for a in self.plan.actions)

    def planned_again(self, here: Here) -> Preview:
        """The same with other options; only what they concern is looked at anew."""
        planning = self.planning.again(here)
        return replace(self, planning=planning, plan=planning.plan())

    def agreed_with(self, **options: Any) -> Preview:
        """The same plan, with options that change nothing in it."""
        return replace(self, planning=replace(self.planning, here=self.here.with_options(**options)))

    @property
    def anything(self) -> bool:
        """Whether there is something to stop or remove; a procedure that only saves has always something to do."""
        actions = self.plan.actions
        if all(a.phase in ASIDE for a in actions):
            return any(a.phase == "backup" for a in actions)
        return any(a.state in ("to do", "manual", "unreadable") for a in actions if a.phase not in ASIDE)


@dataclass(frozen=True)
class Job(Opened):
    """One procedure on one workstation, with all that can be done with it.

    A job is about a case from the beginning (`of_case`), or makes one (`run`).
    """

    @classmethod
    def open(cls, procedure: str | Path, on: str = "this", library: Library = NOWHERE, options: Options | None = None) -> Self:
        """Open a job.

        Args:
            procedure: a file, or the id of one in the library.
            on: `this`, `root:FOLDER` or `lab:FOLDER`.

        Raises:
            ProcedureError: there is no such procedure, or it is not valid.
            NoSuchWorkstation: there is no such workstation.
            UsageError: an account that is named is not here.
            Refused: the procedure is for another system.
        """
        loaded = load(library.find(str(procedure)))
        workstation = opened_workstation(on)
        check_meant_for(loaded, workstation)
        return cls(workstation, loaded, library, named(workstation, options or Options()))

    @classmethod
    def of_case(cls, folder: Path, on: str | None = None) -> Self:
        """The job of a case: its own copy of the procedure, on the workstation it was made on, with the answers of that time.

        Raises:
            NoSuchCase, DamagedCase: it cannot be opened.
            Refused: the workstation is another, or others could have changed the case.
        """
        from kleff.case.record.folder import open_case
        from kleff.engine.cases.case_job import accounts_of, answers_of, procedure_of, spare_of, without_uninstallers, workstation_of

        with open_case(folder) as case:
            procedure = procedure_of(case)
            library = Library(Path(case.text("library"))) if case.text("library") else NOWHERE
            workstation = workstation_of(case, on)
            options = Options(
                spare=spare_of(case), accounts=frozenset(accounts_of(case)), without_uninstallers=without_uninstallers(case)
            )  # fmt: skip
            return cls(workstation, procedure, library, options, case=folder, answers=answers_of(case))

    def with_options(self, options: Options) -> Self:
        """The same job, to be done otherwise."""
        return replace(self, options=options)

    # -- looking ----------------------------------------------------------------------------------------------

    def survey(self) -> Survey:
        """Is the product here, which versions, who uses it?"""
        with self._looking():
            return survey(make_context(self.workstation, self.procedure, (), self.answers, self.options, self.secrets, planning=False))

    @contextmanager
    def _looking(self) -> Iterator[None]:
        """Nothing is held once it has been looked."""
        try:
            yield
        finally:
            self.workstation.release()

    def settled(self, given: Iterable[str] = ()) -> tuple[Procedure, dict[str, Answer]]:
        """The procedure with the choices that depend on what is found here, and an answer to every question.

        Args:
            given: answers as `ID=VALUE`.

        Raises:
            UsageError: an answer that no question knows.
            Refused: a question without an answer.
        """
        procedure, answers, _ = self._settled(given)
        return procedure, answers

    def _settled(self, given: Iterable[str]) -> tuple[Procedure, dict[str, Answer], Programs]:
        """The same, and what programs have said meanwhile: none is run again for the plan of the same moment."""
        programs = Programs()
        procedure = with_found(self.procedure, lambda: self.context(programs=programs))
        return procedure, settle(procedure, given, self.ask), programs.again()

    def preview(self, given: Sequence[str] = (), compared: bool = True) -> Preview:
        """What would be done. Nothing is touched.

        Args:
            given: answers as `ID=VALUE`.
            compared: also tell what other answers would change.

        Raises:
            UsageError: an answer that no question knows, or a name that cannot be waived or confirmed.
            Refused: a question without an answer.
        """
        check_names(self.procedure, self.options)
        with self._looking():
            return self._previewed(given, compared)

    def _previewed(self, given: Sequence[str], compared: bool) -> Preview:
        procedure, answers, programs = self._settled(given)
        planning = Planning.whole(self.context(answers, procedure, programs))
        plan = planning.plan()

        def again(other: dict[str, Answer]) -> Plan:
            return planning.again(self.context(other, procedure, planning.here.programs.again())).plan()

        said = [f"{name}=" for name in answers] if self.ask else given
        return Preview(planning, plan, choices(procedure, answers, said, plan, again) if compared else [])

    def verify(self, given: Sequence[str] = (), cases: Path | None = None) -> Verification:
        """Is it gone?

        Args:
            cases: where the cases are; the newest of the product that was not taken back tells what was answered, and what was there.
        """
        with self._looking():
            if self.case is not None:
                from kleff.engine.cases.case_job import verify_case

                return verify_case(self)
            unread: list[str] = []
            if cases is not None and cases.is_dir():
                from kleff.engine.cases.newest import newest_case, verify_after

                folder, unread = newest_case(self, cases)
                if folder is not None:
                    return verify_after(self, folder, given, unread)
            procedure, answers = self.settled(given)
            result = verify(self.context(answers, procedure))
            result.not_known += unread
            return result

    # -- doing ------------------------------------------------------------------------------------------------

    def check_secrets(self) -> None:
        """Have every secret at hand that a step needs.

        Raises:
            Refused: nobody gives one.
        """
        for name in secrets_needed(self.procedure, self.workstation.system):
            self.secrets.get(name)

    def run(
        self, preview: Preview, cases: Path, ticket: Ticket | None = None, progress: Progress | None = None, key: BagKey | None = None,
        begun: Callable[[Path], None] | None = None,
    ) -> tuple[Path, Ended]:  # fmt: skip
        """Do what was agreed, as a new case, and look whether the product is gone.

        Args:
            cases: the folder in which the case's folder is made.
            key: locks the bag.
            begun: is told the case's folder before anything is done.

        Returns:
            The case's folder, and how it ended.

        Raises:
            Refused: something in the plan is refused, or it should not begin now; nothing was changed.
            Stopped, Interrupted, RestartNeeded: the case is open.
        """
        from kleff.engine.cases.run import Runner

        refuse_if_refused(preview.plan)
        check_ready(preview.here, preview.plan, cases)
        purpose = f"running {self.procedure.product.id}"
        with self.begin(preview.here, preview.plan, cases, ticket or Ticket(), purpose, key, removes=True) as case:
            if begun is not None:
                begun(case.folder)
            return case.folder, Runner(preview.here, case, progress or Silent(), key).run()

    # -- a case that was begun --------------------------------------------------------------------------------

    def resume(self, skip: int = 0, because: str = "", progress: Progress | None = None) -> Ended:
        """Go on with a case that stopped, was killed or waits for a restart.

        Args:
            skip: the number of an action to go past; because: why.

        Raises:
            Refused: there is nothing to go on with.
            Stopped, Interrupted, RestartNeeded: the case is open.
        """
        from kleff.engine.cases.case_job import resume

        return resume(self, skip, because, progress or Silent())

    def undo(self, only: set[int] | None = None, progress: Progress | None = None, past: dict[int, str] | None = None) -> Undone:
        """Take the case back.

        Args:
            only: the numbers of the actions whose effects are taken back.
            past: the numbers of actions that are left as they are if taking them back fails, and why.

        Raises:
            Refused: it cannot be taken back.
            Stopped, Interrupted: it is taken back in part; it can be called again.
        """
        from kleff.engine.cases.case_job import undo

        return undo(self, only, progress or Silent(), past)

    def discard(self, agreed: Callable[[Holds], None] | None = None, progress: Progress | None = None) -> Holds:
        """Delete for good what the case set aside.

        Args:
            agreed: is told how much that is before anything is deleted, and raises what stops it.

        Raises:
            Refused: the case is not finished.
        """
        from kleff.engine.cases.case_job import discard

        return discard(self, agreed, progress or Silent())

    def restore(self, wanted: Wanted | None = None, progress: Progress | None = None) -> tuple[Path, Ended] | None:
        """Restore what the case has saved, as a case of its own beside it; what is there stays.

        Returns:
            The new case's folder and how it ended; None if all of it is in place.

        Raises:
            Refused: the case holds no finished bag, or something in it may not be put where it belongs.
        """
        from kleff.engine.cases.restoring import restore_case

        return restore_case(self, wanted, progress or Silent())

    def record(self) -> CaseRecord:
        """What the case knows: its facts, its plan with what became of it, its effects, how it was verified."""
        from kleff.engine.cases.case_job import record

        return record(self)

    @staticmethod
    def cases(folder: Path) -> list[Path]:
        """The case folders below a folder, in order."""
        from kleff.case.record.folder import all_cases

        return list(all_cases(folder))
