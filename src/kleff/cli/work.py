"""Commands that remove: run and resume."""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from kleff.cli.options import (
    AnswerOption,
    BecauseOption,
    CasesOption,
    ConfirmedOption,
    EvidenceOption,
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
    UnfinishedArgument,
    WaiveOption,
    WithoutOption,
    YesOption,
)  # fmt: skip

if TYPE_CHECKING:
    from kleff.case.bag.encryption import BagKey
    from kleff.engine.cases.run import Ended
    from kleff.engine.job import Job, Preview
    from kleff.engine.opening import Opened
    from kleff.objects.base.here import Here
    from kleff.objects.base.secrets import Secrets


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
    without_backup: WithoutOption = None,
    because: BecauseOption = "",
    confirmed: ConfirmedOption = None,
    stop_holder: HoldersOption = None,
    without_evidence: EvidenceOption = False,
    secret_fd: SecretOption = None,
    passphrase: PassphraseOption = False,
    quiet: QuietOption = False,
    json: JsonOption = False,
) -> None:
    """Preview, ask once, do; then look whether it is gone."""
    from kleff.cli.common import ask_on_terminal, check_named, confirm, default_cases, given_secrets, left_out, open_job
    from kleff.cli.manual import confirmation, me
    from kleff.cli.progress import watching
    from kleff.cli.show import show
    from kleff.engine.opening import Ticket
    from kleff.engine.readiness import check_ready, refuse_if_refused, refuse_without_evidence
    from kleff.objects.base.here import Options
    from kleff.report.pages import preview_page

    check_named(on, yes)
    said = {name: confirmation(technician) for name in confirmed or []}
    options = Options(spare.mode, frozenset(waive or []), said, frozenset(stop_holder or []), left_out(without_backup, because))
    job = open_job(procedure, on, library, options, given_secrets(secret_fd))
    job.library.check_sources(job.library.find(procedure), job.workstation)
    job.check_begin()
    job.check_secrets()
    asked = sys.stdin.isatty() and not yes
    where = cases or default_cases()
    made = replace(job, ask=ask_on_terminal if asked else None).preview(answer or [], compared=not json)
    if not json:
        show(preview_page(made.here, made.plan, made.choices))
    refuse_if_refused(made.plan)
    if not made.anything:
        _nothing_to_do(job, made.here, json)
        return
    if yes and not without_evidence:
        refuse_without_evidence(made.here)
    if asked:
        made = _settled_on_terminal(made, technician)
    check_ready(made.here, made.plan, where)
    workstation = job.workstation
    question = f"\nDo this on {workstation.name} ({workstation.spec})? {job.procedure.product.name} will be removed."
    confirm(question, yes, "look at the preview, then run with  --yes --on " + workstation.spec)
    key = _new_key(job.secrets) if passphrase else None

    with watching(quiet) as progress:
        folder, ended = job.run(made, where, Ticket(ticket, technician or me()), progress, key, saying(quiet))
    closing(job, folder, ended, json)


def saying(quiet: bool) -> Callable[[Path], None]:
    """Says where the case is, before anything is done."""
    from kleff.cli.show import message

    return lambda folder: None if quiet else message(f"\nCase {folder}")


def _new_key(secrets: Secrets) -> BagKey:
    from kleff.case.bag.encryption import make_key
    from kleff.cli.common import new_passphrase

    passphrase = new_passphrase(secrets)
    return make_key(passphrase)


def _settled_on_terminal(made: Preview, technician: str) -> Preview:
    """Manual steps, what a sync program watches, what still has files open: asked one after the other.

    Raises:
        Refused: a manual step is not done.
    """
    from kleff.cli.manual import agree_to_synced, choose_holders, confirm_manual
    from kleff.engine.plan import make_plan
    from kleff.engine.readiness import SYNCED

    here = made.here
    chosen = set() if here.options.stop_holders else choose_holders(made.plan)
    if chosen:
        here = here.with_options(stop_holders=frozenset(chosen))
        made = replace(made, here=here, plan=make_plan(here))
    confirm_manual(here, made.plan, technician)
    if agree_to_synced(here, made.plan):
        here = here.with_options(waived=here.options.waived | {SYNCED})
    return replace(made, here=here)


def _nothing_to_do(job: Job, here: Here, json: bool) -> None:
    from kleff.cli.show import message, tell_verified
    from kleff.engine.verify import verify

    message("\nNothing is to be removed; no case was made.")
    tell_verified(job, verify(here), json)


def closing(job: Opened, folder: Path, ended: Ended, json: bool) -> None:
    """Say what it came to."""
    from kleff.case.record.folder import open_case
    from kleff.cli.show import show
    from kleff.errors import NotClean
    from kleff.report.case_facts import restores
    from kleff.report.case_report import report_document
    from kleff.report.documents import encode
    from kleff.report.pages import verify_page
    from kleff.report.restoring import restored_page
    from kleff.report.summary import closing_page

    with open_case(folder) as case:
        if json:
            print(encode(report_document(case)))
        elif restores(case):
            print()
            show(restored_page(case, ended))
        else:
            print()
            show(verify_page(job.procedure.product.name, job.workstation.name, ended.verification))
            print()
            show(closing_page(case, ended))
    if not ended.clean:
        raise typer.Exit(NotClean.exit_code)


def resume(
    case: UnfinishedArgument = None,
    cases: CasesOption = None,
    skip: Annotated[int, typer.Option("--skip", metavar="ACTION", help="Go past this action.", show_default=False)] = 0,
    because: Annotated[str, typer.Option("--because", metavar="TEXT", help="Why it is skipped.", show_default=False)] = "",
    confirmed: ConfirmedOption = None,
    secret_fd: SecretOption = None,
    quiet: QuietOption = False,
    json: JsonOption = False,
) -> None:
    """Go on with a case that stopped or waits for a restart."""
    from kleff.cli.common import given_secrets, meant_case
    from kleff.cli.manual import confirmation
    from kleff.cli.progress import watching
    from kleff.engine.job import Job
    from kleff.errors import UsageError

    if bool(skip) != bool(because.strip()):
        raise UsageError("--skip and --because belong together", remedy="kleff resume CASE --skip ACTION --because TEXT")
    job = Job.of_case(meant_case(case, cases))
    options = replace(job.options, confirmed={name: confirmation("") for name in confirmed or []})
    job = replace(job, options=options, secrets=given_secrets(secret_fd))
    with watching(quiet) as progress:
        ended = job.resume(skip, because, progress)
    closing(job, job.folder(), ended, json)
