"""Opening a bag for restoring: a case's own, or one that was carried here; and restoring it as a case of its own."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, replace
from pathlib import Path

from kleff.case.bag import carried
from kleff.case.bag.harmless import check_harmless
from kleff.case.bag.opened import SavedBag, open_bag
from kleff.case.record.folder import open_case
from kleff.engine.cases.case_job import procedure_of, unlock_with, workstation_of
from kleff.engine.cases.restore import Restorer, Wanted, agreed, changed_since, check_room, check_wanted, plan_restore
from kleff.engine.cases.run import Ended
from kleff.engine.library import Library, load
from kleff.engine.opening import Opened, Ticket
from kleff.engine.plan import Plan
from kleff.engine.readiness import refuse_if_refused
from kleff.errors import DamagedBag, DamagedCase, Refused
from kleff.objects.base.action import TO_DO
from kleff.objects.base.restoring import Restoring
from kleff.objects.base.secrets import Secrets
from kleff.progress import Progress, Silent
from kleff.workstation.facets import Workstation


@dataclass(frozen=True)
class RestorePlan:
    """What restoring would do."""

    job: Opened
    restoring: Restoring
    plan: Plan

    @property
    def anything(self) -> bool:
        return any(a.state == TO_DO for a in self.plan.actions)

    def run(
        self, cases: Path, ticket: Ticket | None = None, progress: Progress | None = None, begun: Callable[[Path], None] | None = None
    ) -> tuple[Path, Ended]:
        """Do it, as a case of its own; see `Job.run`.

        Raises:
            Refused: something in the plan is refused, or there is no room; nothing was changed.
            Stopped, Interrupted: the case is open.
        """
        refuse_if_refused(self.plan)
        check_room(self.restoring, self.plan)
        bag = self.restoring.bag.original or self.restoring.bag.folder
        purpose = f"restoring {bag.parent.name if bag.name == 'bag' else bag.name}"
        with self.job.begin(self.restoring.here, self.plan, cases, ticket or Ticket(), purpose, facts=agreed(self.restoring)) as case:
            if self.restoring.bag.original:
                self.restoring.bag.folder = carried.take_over(self.restoring.bag.folder, case.folder)
            if begun is not None:
                begun(case.folder)
            return case.folder, Restorer(self.restoring, case, progress or Silent()).run()


def opened_case(folder: Path, on: str | None, procedure: str | None, library: Library, secrets: Secrets) -> Opened:
    """What restores what a case of this very workstation has saved.

    Args:
        procedure: another one than the case's own copy.

    Raises:
        Refused: it holds no finished bag.
    """
    with open_case(folder) as case:
        workstation = workstation_of(case, on)
        if case.text("bag") != "sealed" or not (folder / "bag").is_dir():
            raise Refused("the case holds no finished bag", where=str(folder), remedy="kleff cases  shows what each holds")
        if procedure:
            file = library.find(procedure)
            library.check_sources(file, workstation)
            loaded = load(file)
        else:
            loaded = procedure_of(case)
    return Opened(workstation, loaded, library, secrets=secrets, case=folder)


@contextmanager
def carried_bag(folder: Path, workstation: Workstation, cases: Path, progress: Progress, secrets: Secrets) -> Iterator[SavedBag]:
    """A bag which was carried here, verified whole, where nobody can exchange it meanwhile.

    Args:
        cases: where it is copied to, if it must be.

    Raises:
        DamagedBag: nothing of it is used.
        Refused: something in it could do harm, or it cannot be copied.
    """
    with ExitStack() as stack:
        with _said_damaged():
            place = stack.enter_context(carried.in_safety(folder, cases, workstation, progress))
        bag = verified(place, progress, secrets, own=False)
        bag.original = folder if place != folder else None
        yield bag


def opened_bag(bag: SavedBag, workstation: Workstation, procedure: str | None, library: Library, secrets: Secrets) -> Opened:
    """What restores a bag which was carried here, by the technician's own procedure.

    Raises:
        Refused: the bag is of another product or system, or others could have written the procedure.
    """
    file = library.find(procedure or bag.info.get("Product-Id", ""))
    loaded = load(file)
    library.check_sources(file, workstation)
    if loaded.product.id != bag.info.get("Product-Id"):
        raise Refused(
            f"the bag was saved of {bag.info.get('Product-Id', '')!r}, the procedure is for {loaded.product.id!r}", where=loaded.name,
            remedy="name the procedure of that product with --procedure",
        )  # fmt: skip
    if bag.info.get("System") != workstation.system:
        raise Refused(
            f"the bag was saved on a {bag.info.get('System')} workstation; this is {workstation.system}", where=str(bag.folder),
            remedy="put it back by hand; docs/bag.md says how to open it",
        )  # fmt: skip
    return Opened(workstation, loaded, library, secrets=secrets)


def verified(folder: Path, progress: Progress, secrets: Secrets, own: bool) -> SavedBag:
    """A bag, verified whole.

    Args:
        own: it was made on this very workstation, and nobody else could have changed it.

    Raises:
        DamagedBag: nothing of it is used.
        Refused: something in it could do harm.
    """
    progress.start("verifying the bag")
    with _said_damaged():
        bag = open_bag(folder, progress, not own, unlock_with(secrets))
    if not own:
        check_harmless(bag)
    return bag


@contextmanager
def _said_damaged() -> Iterator[None]:
    try:
        yield
    except DamagedCase as error:
        raise DamagedBag(error.what, where=error.where, remedy="use an undamaged copy of the bag; nothing was changed") from None


def make_restore_plan(job: Opened, bag: SavedBag, own: bool, wanted: Wanted, to: dict[str, str], replacing: bool) -> RestorePlan:
    """What restoring a bag would do. Nothing is changed.

    Raises:
        UsageError, Refused: what is wanted is not in the bag, or an account is not here.
    """
    job.check_begin()
    here = replace(job, answers=None).context({})
    check_wanted(bag, wanted, to, here)
    restoring = Restoring(here, bag, own, to, replacing, changed_since(bag, own, here))
    return RestorePlan(job, restoring, plan_restore(restoring, wanted))


def restore_case(job: Opened, wanted: Wanted | None, progress: Progress) -> tuple[Path, Ended] | None:
    """See `Job.restore`."""
    folder = job.folder()
    own = opened_case(folder, job.workstation.spec, None, job.library, job.secrets)
    bag = verified(folder / "bag", progress, job.secrets, own=True)
    made = make_restore_plan(own, bag, True, wanted or Wanted(), {}, False)
    refuse_if_refused(made.plan)
    return made.run(folder.parent, progress=progress) if made.anything else None
