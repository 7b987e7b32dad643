"""Commands that remove: run and resume."""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from kleff.cli.options import (
    AccountsOption,
    AloneOption,
    AlongOption,
    AnswerOption,
    BecauseOption,
    CasesOption,
    ConfirmedOption,
    EvidenceOption,
    FullOption,
    HoldersOption,
    JsonOption,
    LibraryOption,
    OnOption,
    PassphraseOption,
    ProcedureArgument,
    QuietOption,
    RestartOption,
    SecretOption,
    ShowItemsOption,
    SpareKind,
    SpareOption,
    TechnicianOption,
    TicketOption,
    UnfinishedArgument,
    UninstallersOption,
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
    account: AccountsOption = None,
    came_along: AlongOption = None,
    show_items: ShowItemsOption = False,
    full: FullOption = False,
    without_evidence: EvidenceOption = False,
    secret_fd: SecretOption = None,
    passphrase: PassphraseOption = False,
    resume_after_restart: AloneOption = False,
    restart_now: RestartOption = False,
    without_uninstallers: UninstallersOption = False,
    quiet: QuietOption = False,
    json: JsonOption = False,
) -> None:
    """Preview, ask once, do; then look whether it is gone."""
    from kleff.cli.common import check_named, given_secrets, left_out, open_job
    from kleff.cli.manual import confirmation
    from kleff.cli.terminal.restarting import restarted_on_demand
    from kleff.objects.base.here import Options

    check_named(on, yes)
    said = {name: confirmation(technician) for name in confirmed or []}
    options = Options(
        spare.mode,
        frozenset(waive or []),
        said,
        frozenset(stop_holder or []),
        left_out(without_backup, because),
        frozenset(account or []),
        show_items,
        came_along.value if came_along else "",
        resume_after_restart,
        without_uninstallers,
        sys.stdin.isatty(),
    )
    job = open_job(procedure, on, library, options, given_secrets(secret_fd))
    job.library.check_sources(job.library.find(procedure), job.workstation)
    with restarted_on_demand(job.workstation, restart_now, yes):
        carry_out(
            job, answer or [], cases, yes, without_evidence=without_evidence, passphrase=passphrase, ticket=ticket, technician=technician,
            full=full, quiet=quiet, json=json,
        )  # fmt: skip


def carry_out(
    job: Job, answers: list[str], cases: Path | None, yes: bool, *, without_evidence: bool = False, passphrase: bool = False,
    ticket: str = "", technician: str = "", full: bool = False, quiet: bool = False, json: bool = False,
) -> None:  # fmt: skip
    """Show the plan, ask once, do it, and say what it came to."""
    from kleff.cli.common import default_cases
    from kleff.cli.manual import me
    from kleff.cli.terminal.progress import watching
    from kleff.engine.opening import Ticket

    job.check_begin()
    job.check_secrets()
    where = cases or default_cases()
    made = _agreed(job, answers, where, yes, without_evidence, passphrase, technician, full, quiet, json)
    if made is None:
        return
    key = _new_key(job.secrets) if passphrase else None
    with watching(quiet, full=full) as progress:
        folder, ended = job.run(made, where, Ticket(ticket, technician or me()), progress, key, saying(quiet))
    closing(job, folder, ended, json, quiet)


def _agreed(
    job: Job,
    answers: list[str],
    cases: Path,
    yes: bool,
    without_evidence: bool,
    passphrase: bool,
    technician: str,
    full: bool,
    quiet: bool,
    json: bool,
) -> Preview | None:
    """The plan, once it is shown and agreed on; None if there is nothing to do.

    Raises:
        Refused: it must not, or should not, begin.
    """
    from kleff.cli.common import ask_on_terminal
    from kleff.cli.look import plan_page
    from kleff.cli.terminal.show import show
    from kleff.engine.cases.alone import check_alone
    from kleff.engine.readiness import check_ready, refuse_if_refused, refuse_without_evidence

    asked = sys.stdin.isatty() and not yes
    made = replace(job, ask=ask_on_terminal if asked else None).preview(answers, compared=not json)
    if not (json or (quiet and yes)):
        show(plan_page(made, full))
    refuse_if_refused(made.plan)
    if not made.anything:
        _nothing_to_do(job, made.here, json)
        return None
    if yes and not without_evidence:
        refuse_without_evidence(made.here)
    if asked:
        made = _settled_on_terminal(_taken_along(job, made, full), technician)
    check_ready(made.here, made.plan, cases)
    if job.options.goes_on_alone:
        check_alone(job.workstation, job.procedure, made.plan, passphrase)
    _confirm(job, made, yes)
    return made


def _taken_along(job: Job, made: Preview, full: bool) -> Preview:
    """The plan with what came along, if it is to go too; shown again."""
    from kleff.cli.look import plan_page
    from kleff.cli.manual import takes_along
    from kleff.cli.terminal.show import show
    from kleff.engine.plan import make_plan

    if not takes_along(made.plan):
        return made
    here = replace(job, options=replace(job.options, came_along="these")).context(made.here.answers, made.here.procedure)
    made = replace(made, here=here, plan=make_plan(here))
    show(plan_page(made, full))
    return made


def _confirm(job: Job, made: Preview, yes: bool) -> None:
    """The one question, which names host and product."""
    from kleff.cli.common import confirm
    from kleff.engine.plan import REMOVING

    workstation, name = job.workstation, job.procedure.product.name
    whose = f" for {', '.join(sorted(job.options.accounts))} alone" if job.options.accounts else ""
    removes = any(a.phase in REMOVING for a in made.plan.actions)
    what = f"{name} will be removed{whose}." if removes else f"What {name} has will be saved{whose}; nothing is removed."
    question = f"\nDo this on {workstation.name} ({workstation.spec})? {what}"
    confirm(question, yes, "look at the preview, then run with  --yes --on " + workstation.spec)


def saying(quiet: bool) -> Callable[[Path], None]:
    """Says where the case is, before anything is done."""
    from kleff.cli.terminal.show import message

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
    from kleff.cli.terminal.show import message, tell_verified
    from kleff.engine.verify import verify

    message("\nNothing is to be removed; no case was made.")
    tell_verified(job, verify(here), json)


def closing(job: Opened, folder: Path, ended: Ended, json: bool, quiet: bool) -> None:
    """Say what it came to; when it is to be quiet, only what is not clean."""
    from kleff.case.record.folder import open_case
    from kleff.cli.terminal.show import show
    from kleff.engine.cases.within import told_after
    from kleff.errors import NotClean
    from kleff.report.case_report import report_document
    from kleff.report.documents import encode
    from kleff.report.pages import verify_page
    from kleff.report.restoring import restored_page
    from kleff.report.summary import closing_page

    verdict = verify_page(job.procedure.product.name, job.workstation.name, ended.verification)
    if not (json or (quiet and ended.clean) or ended.restores):
        print()
        show(verdict)
    with told_after(folder), open_case(folder) as case:
        if json:
            print(encode(report_document(case)))
        elif quiet and ended.clean:
            pass
        elif ended.restores:
            print()
            show(restored_page(case, ended))
        else:
            print()
            show(closing_page(case, ended))
    if ended.unclosed is not None:
        raise ended.unclosed
    if not ended.clean:
        raise typer.Exit(NotClean.exit_code)


def resume(
    case: UnfinishedArgument = None,
    cases: CasesOption = None,
    skip: Annotated[int, typer.Option("--skip", metavar="ACTION", help="Go past this action.", show_default=False)] = 0,
    because: Annotated[str, typer.Option("--because", metavar="TEXT", help="Why it is skipped.", show_default=False)] = "",
    confirmed: ConfirmedOption = None,
    secret_fd: SecretOption = None,
    resume_after_restart: AloneOption = False,
    restart_now: RestartOption = False,
    quiet: QuietOption = False,
    json: JsonOption = False,
) -> None:
    """Go on with a case that stopped or waits for a restart."""
    from kleff.case.record.folder import open_case
    from kleff.cli.common import given_secrets, meant_case
    from kleff.cli.manual import confirmation
    from kleff.cli.terminal.progress import watching
    from kleff.cli.terminal.restarting import restarted_on_demand
    from kleff.engine.cases.alone import check_alone
    from kleff.engine.job import Job
    from kleff.errors import UsageError

    if bool(skip) != bool(because.strip()):
        raise UsageError("--skip and --because belong together", remedy="kleff resume CASE --skip ACTION --because TEXT")
    job = Job.of_case(meant_case(case, cases))
    options = replace(
        job.options,
        confirmed={n: confirmation("") for n in confirmed or []},
        goes_on_alone=resume_after_restart,
        somebody=sys.stdin.isatty(),
    )
    if resume_after_restart:
        with open_case(job.folder()) as known:
            check_alone(job.workstation, job.procedure, None, bool(known.text("locked")))
    job = replace(job, options=options, secrets=given_secrets(secret_fd))
    with restarted_on_demand(job.workstation, restart_now, False), watching(quiet) as progress:
        ended = job.resume(skip, because, progress)
    closing(job, job.folder(), ended, json, quiet)
