"""Commands that remove: run and resume."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from kleff.cli.options import (
    AnswerOption,
    CaseArgument,
    CasesOption,
    ConfirmedOption,
    HoldersOption,
    JsonOption,
    LibraryOption,
    OnOption,
    PassphraseOption,
    ProcedureArgument,
    QuietOption,
    SecretOption,
    SpareKind,
    SpareOption,
    TechnicianOption,
    TicketOption,
    WaiveOption,
    YesOption,
)  # fmt: skip

if TYPE_CHECKING:
    from kleff.case.record.folder import Case
    from kleff.cli.common import Told
    from kleff.engine.preview import Plan
    from kleff.engine.run import Ended
    from kleff.objects.base import Scene
    from kleff.procedure.load import Procedure
    from kleff.workstation.facets import Workstation


def run(
    procedure: ProcedureArgument,
    on: OnOption = None,
    yes: YesOption = False,
    ticket: TicketOption = "",
    technician: TechnicianOption = "",
    cases: CasesOption = None,
    library: LibraryOption = None,
    spare: SpareOption = SpareKind.links,
    answer: AnswerOption = None,
    waive: WaiveOption = None,
    confirmed: ConfirmedOption = None,
    stop_holders: HoldersOption = False,
    secret_fd: SecretOption = None,
    passphrase: PassphraseOption = False,
    quiet: QuietOption = False,
    json: JsonOption = False,
) -> None:
    """Preview, ask once, do; then look whether it is gone."""
    from kleff.case.bag.encryption import make_key
    from kleff.case.record.unfinished import lock
    from kleff.cli.common import confirm, default_cases, new_passphrase
    from kleff.cli.planning import planned
    from kleff.cli.show import message, show
    from kleff.engine.readiness import check_ready
    from kleff.engine.run import refuse_if_refused
    from kleff.report.pages import preview_page

    loaded, workstation = _opened(procedure, on, yes, library)
    told = _told(loaded, workstation, waive or [], confirmed or [], technician, secret_fd or [])
    asked = sys.stdin.isatty() and not yes
    made = planned(workstation, loaded, library, spare.value, answer or [], told, asked, compared=not json)
    scene, plan = made.scene, made.plan
    if not json:
        show(preview_page(scene, plan, made.choices))
    refuse_if_refused(plan)
    if not _anything(plan):
        _nothing_to_do(scene, json)
        return
    scene.stop_holders = stop_holders
    if asked:
        _settle_on_terminal(scene, plan, technician)
    check_ready(scene, plan, cases or default_cases())
    if passphrase:
        scene.bag_key = make_key(new_passphrase(scene.secrets))
    question = f"\nDo this on {workstation.name} ({workstation.spec})? {loaded.product.name} will be removed."
    confirm(question, yes, "look at the preview, then run with  --yes --on " + workstation.spec)
    with (
        lock(workstation, f"running {loaded.product.id}"),
        new_case(scene, plan, cases or default_cases(), ticket, technician, library) as case,
    ):
        if not quiet:
            message(f"\nCase {case.folder}")
        _work(scene, case, quiet, json)


def _opened(procedure: str, on: str | None, yes: bool, library: Path | None) -> tuple[Procedure, Workstation]:
    """The procedure and the workstation, if it may be run there at all.

    Raises:
        UsageError, ProcedureError, Refused.
    """
    from kleff.case.record.folder import check_unmarked
    from kleff.cli.common import check_named, check_rights, check_sources, read_procedure
    from kleff.workstation.open import open_workstation

    check_named(on, yes)
    loaded, workstation = read_procedure(procedure, library), open_workstation(on or "this")
    check_sources(procedure, library, workstation)
    check_rights(workstation)
    check_unmarked(workstation)
    return loaded, workstation


def _told(
    procedure: Procedure, workstation: Workstation, waive: list[str], confirmed: list[str], technician: str, secret_fd: list[str]
) -> Told:
    """What the technician has told on the command line; every secret that is needed is there then.

    Raises:
        UsageError, Refused.
    """
    from kleff.cli.common import Told, give_secrets
    from kleff.cli.manual import confirmation
    from kleff.engine.readiness import check_names
    from kleff.engine.scene import secrets_needed
    from kleff.objects.secrets import Secrets

    secrets = Secrets()
    give_secrets(secrets, secret_fd)
    for name in secrets_needed(procedure, workstation.system):
        secrets.get(name)
    check_names(procedure, waive, confirmed)
    return Told(secrets=secrets, waived=frozenset(waive), confirmed={name: confirmation(technician) for name in confirmed})


def _settle_on_terminal(scene: Scene, plan: Plan, technician: str) -> None:
    """Manual steps, what a sync program watches, what still has files open: asked one after the other.

    Raises:
        Refused: a manual step is not done.
    """
    from kleff.cli.manual import agree_to_synced, confirm_manual, offer_to_stop

    confirm_manual(scene, plan, technician)
    agree_to_synced(scene, plan)
    scene.stop_holders = scene.stop_holders or offer_to_stop(plan)


def _anything(plan: Plan) -> bool:
    """Whether there is something to stop or remove; a procedure that only saves has always something to do."""
    aside = ("before", "backup", "verify", "after")
    if all(a.phase in aside for a in plan.actions):
        return any(a.phase == "backup" for a in plan.actions)
    return any(a.state in ("to do", "manual", "unreadable") for a in plan.actions if a.phase not in aside)


def _nothing_to_do(scene: Scene, json: bool) -> None:
    from kleff.cli.show import message, show
    from kleff.engine.verify import verify
    from kleff.errors import NotClean
    from kleff.report.documents import encode, verify_document
    from kleff.report.pages import verify_page

    result = verify(scene)
    message("\nNothing is to be removed; no case was made.")
    if json:
        print(encode(verify_document(scene.workstation, scene.procedure, result)))
    else:
        show(verify_page(scene.procedure.product.name, scene.workstation.name, result))
    if not result.clean:
        raise typer.Exit(NotClean.exit_code)


def new_case(scene: Scene, plan: Plan, cases: Path, ticket: str, technician: str, library: Path | None, **facts: str) -> Case:
    """A new case with the agreed plan.

    Raises:
        Refused: others could change it.
    """
    import msgspec

    from kleff.case.record.folder import check_trusted, create_case
    from kleff.cli.manual import me
    from kleff.engine.run import record_plan
    from kleff.objects.base import DONE, SKIPPED

    answers = msgspec.json.encode(scene.answers).decode()
    product = scene.procedure.product
    technician = technician or me()
    case = create_case(
        cases, scene.workstation, scene.procedure.raw, product.id,
        product=product.name, procedure_name=scene.procedure.name, ticket=ticket, technician=technician,
        library=str(library.absolute()) if library else "", spare=scene.spare,
        answers=answers, locked="yes" if scene.bag_key else "", **facts,
    )  # fmt: skip
    try:
        check_trusted(case.folder, "the case", scene.workstation)
        record_plan(case, plan)
        for action in plan.actions:
            if action.phase == "before" and action.state in (DONE, SKIPPED):
                case.journal.tell(f"{action.target}: {action.reason}")
    except BaseException:
        case.close()
        raise
    return case


def _work(scene: Scene, case: Case, quiet: bool, json: bool, skip: int = 0, because: str = "", again: bool = False) -> None:
    from kleff.cli.progress import watching
    from kleff.engine.run import Runner
    from kleff.errors import NotClean

    with watching(quiet) as progress:
        scene.progress = progress
        runner = Runner(scene, case)
        ended = runner.resume(skip, because) if again else runner.run()
    _closing(scene, case, ended, json)
    if not ended.clean:
        raise typer.Exit(NotClean.exit_code)


def _closing(scene: Scene, case: Case, ended: Ended, json: bool) -> None:
    from kleff.cli.show import show
    from kleff.report.case_report import report_document
    from kleff.report.documents import encode
    from kleff.report.pages import verify_page
    from kleff.report.summary import closing_page

    if json:
        print(encode(report_document(case)))
        return
    print()
    show(verify_page(scene.procedure.product.name, scene.workstation.name, ended.verification))
    print()
    show(closing_page(case, ended))


def resume(
    case: CaseArgument,
    cases: CasesOption = None,
    skip: Annotated[int, typer.Option("--skip", metavar="ACTION", help="Go past this action.", show_default=False)] = 0,
    because: Annotated[str, typer.Option("--because", metavar="TEXT", help="Why it is skipped.", show_default=False)] = "",
    confirmed: ConfirmedOption = None,
    stop_holders: HoldersOption = False,
    secret_fd: SecretOption = None,
    quiet: QuietOption = False,
    json: JsonOption = False,
) -> None:
    """Go on with a case that stopped or waits for a restart."""
    from kleff.case.bag.encryption import KEY_FILE, PASSPHRASE, make_key, open_key
    from kleff.case.record.folder import check_unmarked, find_case, open_case
    from kleff.case.record.unfinished import lock
    from kleff.cli.cases import case_workstation, scene_of
    from kleff.cli.common import check_rights, default_cases, give_secrets
    from kleff.cli.giving import give_back, unlock_with
    from kleff.cli.manual import confirmation
    from kleff.engine.restore import giving_of
    from kleff.errors import Refused, UsageError

    if bool(skip) != bool(because.strip()):
        raise UsageError("--skip and --because belong together", remedy="kleff resume CASE --skip ACTION --because TEXT")
    folder = find_case(case, cases or default_cases())
    with open_case(folder) as looked:
        workstation = case_workstation(looked)
        check_rights(workstation)
    with lock(workstation, f"resuming {folder.name}"), open_case(folder, writable=True) as opened:
        check_unmarked(workstation, opened.id)
        if opened.state not in ("new", "open", "waiting"):
            raise Refused(f"the case is {opened.state}; there is nothing to resume", where=str(folder), remedy=f"kleff report {folder}")
        if not opened.journal.actions():
            raise Refused("the case was cut off before its plan was agreed", where=str(folder), remedy="run the procedure again")
        scene = scene_of(opened, workstation)
        give_secrets(scene.secrets, secret_fd or [])
        scene.stop_holders = stop_holders
        if opened.text("locked") and opened.text("bag") != "sealed":
            file, given = folder / "bag" / KEY_FILE, scene.secrets.get(PASSPHRASE)
            scene.bag_key = open_key(file, given) if file.exists() else make_key(given)
        scene.confirmed = {name: confirmation("") for name in confirmed or []}
        if opened.text("task") == "restore":
            give_back(giving_of(opened, scene, unlock_with(scene.secrets)), opened, quiet, json, skip, because, again=True)
        else:
            _work(scene, opened, quiet, json, skip, because, again=True)
