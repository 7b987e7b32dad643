"""Commands that take back and that delete for good: undo and discard."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from kleff.cli.options import CaseArgument, CasesOption, QuietOption, YesCaseOption

if TYPE_CHECKING:
    from kleff.case.effects import Hands
    from kleff.case.record.folder import Case


def undo(
    case: CaseArgument,
    only: Annotated[
        list[str] | None, typer.Option("--only", metavar="LABEL|ACTION", help="Only this part; may be given more than once.")
    ] = None,
    cases: CasesOption = None,
    yes: YesCaseOption = False,
    quiet: QuietOption = False,
) -> None:
    """Take a case back, or a part of it."""
    from kleff.case.effects import Hands
    from kleff.case.record.folder import check_unmarked, find_case, open_case
    from kleff.case.record.unfinished import lock
    from kleff.case.undo import can_be_tried_again, undo_case
    from kleff.cli.cases import case_workstation
    from kleff.cli.common import confirm, default_cases
    from kleff.cli.progress import watching
    from kleff.cli.show import show
    from kleff.errors import NotClean, Refused
    from kleff.report.summary import actions_named, undo_question, undone_page

    folder = find_case(case, cases or default_cases())
    with open_case(folder) as looked:
        workstation = case_workstation(looked)
        if looked.state == "undone" and not any(map(can_be_tried_again, looked.journal.effects())):
            raise Refused("the case is taken back already", where=str(folder), remedy=f"kleff report {folder}")
        part = actions_named(looked, only) if only else None
        confirm(undo_question(looked, part), yes, f"kleff undo {folder} --yes")
    with lock(workstation, f"taking back {folder.name}"), open_case(folder, writable=True) as opened:
        check_unmarked(workstation, opened.id)
        from kleff.case.guard.guard import Guard

        with watching(quiet) as progress:
            result = undo_case(Hands(workstation, opened, Guard(workstation), progress), part)
        show(undone_page(opened, result))
        if result.stays:
            raise typer.Exit(NotClean.exit_code)


def discard(
    case: CaseArgument,
    bag: Annotated[bool, typer.Option("--bag", help="Also what the case saved, asked apart.")] = False,
    cases: CasesOption = None,
    yes: YesCaseOption = False,
    quiet: QuietOption = False,
) -> None:
    """Delete for good what a case set aside."""
    from kleff.case.discard import discard_bag
    from kleff.case.effects import Hands
    from kleff.case.guard.guard import Guard
    from kleff.case.record.folder import find_case, open_case
    from kleff.case.record.unfinished import lock
    from kleff.cli.cases import case_workstation
    from kleff.cli.common import default_cases
    from kleff.cli.progress import watching

    folder = find_case(case, cases or default_cases())
    with open_case(folder) as looked:
        workstation = case_workstation(looked)
    with lock(workstation, f"discarding {folder.name}"), open_case(folder, writable=True) as opened:
        with watching(quiet) as progress:
            hands = Hands(workstation, opened, Guard(workstation), progress)
            _discard_aside(hands, yes, quiet, "" if bag else f" The bag and the report stay in {folder}")
        if bag and _bag_confirmed(opened, yes, quiet):
            discard_bag(opened)
            print(f"The saved data is deleted too. The report stays in {folder}")


def _discard_aside(hands: Hands, yes: bool, quiet: bool, stays: str) -> None:
    """What is set aside, after showing how much it is, and asking."""
    from kleff.case.discard import discard_case, held
    from kleff.cli.common import confirm
    from kleff.cli.show import message
    from kleff.texts import plural, size

    case, total = hands.case, held(hands)
    if not total.anything:
        discard_case(hands)  # nothing goes; a finished case is marked, and an unfinished one refused
        print(f"Nothing is set aside any more.{stays}")
        return
    if not quiet:
        spare = f"; {size(total.spares)} in spares" if total.spares else ""
        message(f"Case {case.id}: {plural(total.places, 'place')} set aside, {plural(total.items, 'item')}, {size(total.size)}{spare}")
    confirm("Delete this for good? It cannot be taken back after that. The bag stays.", yes, f"kleff discard {case.folder} --yes")
    done = discard_case(hands)
    print(f"Discarded: {plural(done.items, 'item')}, {size(done.size + done.spares)} freed.{stays}")


def _bag_confirmed(case: Case, yes: bool, quiet: bool) -> bool:
    """The bag has a question of its own; one that may hold a licence is never answered by `--yes`."""
    from kleff.case.bag.opened import saved_size
    from kleff.case.discard import may_hold_licence
    from kleff.cli.common import confirm
    from kleff.cli.show import message
    from kleff.report.case_report import bag_labels, saved_kinds
    from kleff.texts import size

    labels = bag_labels(case)
    if not labels and not (case.folder / "bag").exists():
        print("There is no saved data any more.")
        return False
    licence = may_hold_licence(saved_kinds(case))
    if not quiet:
        message(f"The bag holds {', '.join(labels)}: {size(saved_size(case.folder / 'bag'))} in {case.folder / 'bag'}")
    what = "It may hold the only licence, and there may be no other copy." if licence else "There may be no other copy."
    confirm(f"Delete the saved data for good? {what}", yes and not licence, "answer on a terminal; --yes is not enough for this")
    return True
