"""Commands that take back and that delete for good: undo and discard."""

from __future__ import annotations

from typing import Annotated

import typer

from kleff.cli.options import CaseArgument, CasesOption, QuietOption, YesCaseOption


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
    from kleff.case.folder import check_unmarked, find_case, open_case
    from kleff.case.marks import lock
    from kleff.case.undo import undo_case
    from kleff.cli.cases import case_workstation
    from kleff.cli.common import confirm, default_cases
    from kleff.cli.progress import watching
    from kleff.cli.show import show
    from kleff.errors import NotClean, Refused
    from kleff.report.summary import actions_named, undo_question, undone_page

    folder = find_case(case, cases or default_cases())
    with open_case(folder) as looked:
        workstation = case_workstation(looked)
        if looked.state == "undone" and not any(e.state == "stays" and e.kind == "moved" for e in looked.journal.effects()):
            raise Refused("the case is taken back already", where=str(folder), remedy=f"kleff report {folder}")
        part = actions_named(looked, only) if only else None
        confirm(undo_question(looked, part), yes, f"kleff undo {folder} --yes")
    with lock(workstation, f"taking back {folder.name}"), open_case(folder, writable=True) as opened:
        check_unmarked(workstation, opened.id)
        from kleff.case.guard import Guard

        with watching(quiet) as progress:
            result = undo_case(Hands(workstation, opened, Guard(workstation), progress), part)
        show(undone_page(opened, result))
        if result.stays:
            raise typer.Exit(NotClean.exit_code)


def discard(case: CaseArgument, cases: CasesOption = None, yes: YesCaseOption = False, quiet: QuietOption = False) -> None:
    """Delete for good what a case set aside."""
    from kleff.case.discard import discard_case, held
    from kleff.case.effects import Hands
    from kleff.case.folder import find_case, open_case
    from kleff.case.guard import Guard
    from kleff.case.marks import lock
    from kleff.cli.cases import case_workstation
    from kleff.cli.common import confirm, default_cases
    from kleff.cli.progress import watching
    from kleff.cli.show import message
    from kleff.progress import Silent
    from kleff.texts import plural, size

    folder = find_case(case, cases or default_cases())
    with open_case(folder) as looked:
        workstation = case_workstation(looked)
    with lock(workstation, f"discarding {folder.name}"), open_case(folder, writable=True) as opened:
        total = held(Hands(workstation, opened, Guard(workstation), Silent()))
        if not quiet:
            message(f"Case {opened.id}: {plural(total.places, 'place')} set aside, {plural(total.items, 'item')}, {size(total.size)}")
        question = "Delete this for good? It cannot be taken back after that. The bag stays."
        if not total.places:
            print(f"Nothing is set aside any more. The bag and the report stay in {folder}")
            return
        confirm(question, yes, f"kleff discard {folder} --yes")
        with watching(quiet) as progress:
            done = discard_case(Hands(workstation, opened, Guard(workstation), progress))
        print(f"Discarded: {plural(done.items, 'item')}, {size(done.size)} freed. The bag and the report stay in {folder}")
