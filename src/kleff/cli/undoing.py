"""Commands that take back and that delete for good: undo and discard."""

from __future__ import annotations

from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated

import typer

from kleff.cli.options import CaseArgument, CasesOption, QuietOption, UnfinishedArgument, YesCaseOption

if TYPE_CHECKING:
    from kleff.case.record.folder import Case
    from kleff.cli.terminal.front import Spoken
    from kleff.progress import Progress


def undo(
    case: UnfinishedArgument = None,
    only: Annotated[
        list[str] | None, typer.Option("--only", metavar="LABEL|ACTION", help="Only this part; may be given more than once.")
    ] = None,
    past: Annotated[
        list[int] | None,
        typer.Option("--past", metavar="ACTION", help="Leave this action if taking it back fails; with --because. May be given again."),
    ] = None,
    because: Annotated[str, typer.Option("--because", metavar="TEXT", help="Why it is left.", show_default=False)] = "",
    cases: CasesOption = None,
    yes: YesCaseOption = False,
    quiet: QuietOption = False,
) -> None:
    """Take a case back, or a part of it."""
    from kleff.case.record.folder import open_case
    from kleff.cli.common import meant_case
    from kleff.cli.terminal.front import Spoken
    from kleff.cli.terminal.show import show
    from kleff.engine.cases.agreeing import taken_back
    from kleff.engine.cases.within import told_after
    from kleff.engine.job import Job
    from kleff.errors import NotClean, Stopped, UsageError
    from kleff.report.summary import undone_page
    from kleff.texts import plural, typed

    if bool(past) != bool(because.strip()):
        raise UsageError("--past and --because belong together", remedy="kleff undo CASE --past ACTION --because TEXT")
    folder = meant_case(case, cases)
    job = Job.of_case(folder)
    front = BackTerminal(Spoken(yes, quiet=quiet))
    result = taken_back(job, only or [], front, dict.fromkeys(past or [], because))
    with told_after(folder), open_case(folder) as looked:
        if not quiet or result.stays or result.failed:
            show(undone_page(looked, result))
    if result.failed and not only:
        left = plural(len(result.failed.keys() | result.waits.keys()), "action")
        raise Stopped(
            f"{left} could not be taken back; the case stays open", where=str(folder),
            remedy=f"mend what stands above, then give  kleff undo {typed(str(folder))}  again; or leave an action as it is:  "
            f"--past {min(result.failed)} --because TEXT",
        )  # fmt: skip
    if result.stays or result.failed:
        raise typer.Exit(NotClean.exit_code)


@dataclass(frozen=True)
class BackTerminal:
    """Implements `BackFront`."""

    spoken: Spoken

    def agree(self, case: Case, part: set[int] | None) -> None:
        from kleff.cli.terminal.asking import confirm
        from kleff.report.summary import undo_question

        confirm(undo_question(case, part), self.spoken.yes, f"kleff undo {case.folder} --yes")

    def watching(self) -> AbstractContextManager[Progress]:
        return self.spoken.watching()


def discard(
    case: CaseArgument,
    bag: Annotated[bool, typer.Option("--bag", help="Also what the case saved, asked apart.")] = False,
    cases: CasesOption = None,
    yes: YesCaseOption = False,
    quiet: QuietOption = False,
) -> None:
    """Delete for good what a case set aside."""
    from kleff.case.discard import Holds, discard_bag
    from kleff.case.record.folder import find_case, open_case
    from kleff.case.record.unfinished import lock
    from kleff.cli.common import default_cases
    from kleff.cli.terminal.asking import confirm
    from kleff.cli.terminal.progress import watching
    from kleff.cli.terminal.show import message
    from kleff.engine.job import Job
    from kleff.texts import plural, size

    folder = find_case(case, cases or default_cases())
    job = Job.of_case(folder)
    stays = "" if bag else f" The bag and the report stay in {folder}"

    def agreed(total: Holds) -> None:
        if not quiet:
            spare = f"; {size(total.spares)} in spares" if total.spares else ""
            places = f"{plural(total.places, 'place')} set aside, {plural(total.items, 'item')}, {size(total.size)}"
            message(f"Case {folder.name}: {places}{spare}")
        confirm("Delete this for good? It cannot be taken back after that. The bag stays.", yes, f"kleff discard {folder} --yes")

    delete_bag = False
    if bag:  # every question before the first deletion
        with open_case(folder) as looked:
            delete_bag = _bag_confirmed(looked, yes, quiet)
    with watching(quiet) as progress:
        done = job.discard(agreed, progress)
    if quiet:
        pass
    elif done.anything:
        print(f"Discarded: {plural(done.items, 'item')}, {size(done.size + done.spares)} freed.{stays}")
    else:
        print(f"Nothing is set aside any more.{stays}")
    if delete_bag:
        with lock(job.workstation, f"discarding {folder.name}"), open_case(folder, writable=True) as opened:
            discard_bag(opened)
        if not quiet:
            print(f"The saved data is deleted too. The report stays in {folder}")


def _bag_confirmed(case: Case, yes: bool, quiet: bool) -> bool:
    """The bag has a question of its own; one that may hold a licence is never answered by `--yes`."""
    from kleff.case.bag.manifests import saved_size
    from kleff.case.discard import may_hold_licence
    from kleff.cli.terminal.asking import confirm
    from kleff.cli.terminal.show import message
    from kleff.report.case_facts import bag_labels, saved_kinds
    from kleff.texts import size

    labels = bag_labels(case)
    if not labels and not (case.folder / "bag").exists():
        if not quiet:
            print("There is no saved data any more.")
        return False
    licence = may_hold_licence(saved_kinds(case))
    if not quiet:
        message(f"The bag holds {', '.join(labels)}: {size(saved_size(case.folder / 'bag'))} in {case.folder / 'bag'}")
    what = "It may hold the only licence, and there may be no other copy." if licence else "There may be no other copy."
    confirm(f"Delete the saved data for good? {what}", yes and not licence, "answer on a terminal; --yes is not enough for this")
    return True
