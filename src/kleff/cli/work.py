"""Commands that remove: run and resume."""

from __future__ import annotations

import sys
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
    RestartedOption,
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
    from kleff.cli.terminal.front import Spoken
    from kleff.engine.cases.run import Ended
    from kleff.engine.dialogue import Dialogue
    from kleff.engine.opening import Opened, Ticket


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
    from kleff.cli.common import check_named, confirmation, given_secrets, left_out, me, open_job
    from kleff.cli.terminal.front import Spoken, Terminal
    from kleff.engine.cases.restarting import restarted_on_demand
    from kleff.engine.dialogue import Dialogue
    from kleff.engine.opening import Ticket
    from kleff.objects.base.here import Options

    check_named(on, yes)
    who = confirmation(technician)
    options = Options(
        spare.mode,
        frozenset(waive or []),
        dict.fromkeys(confirmed or [], who),
        frozenset(stop_holder or []),
        left_out(without_backup, because),
        frozenset(account or []),
        show_items,
        came_along.value if came_along else "",
        resume_after_restart,
        without_uninstallers,
        sys.stdin.isatty(),
    )
    job = open_job(procedure, on, library, options, given_secrets(secret_fd), trusted=True)
    front = Terminal(job, Spoken(yes, full, quiet, json))
    dialogue = Dialogue(job, front, compared=not json, unseen=yes and not without_evidence, locked=passphrase, who=who)
    with restarted_on_demand(job.workstation, restart_now, front.spoken):
        carry_out(dialogue, front.spoken, answer or [], cases, Ticket(ticket, technician or me()))


def carry_out(dialogue: Dialogue, spoken: Spoken, given: list[str], cases: Path | None, ticket: Ticket) -> None:
    """Show the plan, ask once, do it, and say what it came to."""
    from kleff.cli.common import default_cases

    done = dialogue.run(given, cases or default_cases(), ticket)
    if done is not None:
        closing(dialogue.job, *done, spoken)


def closing(job: Opened, folder: Path, ended: Ended, spoken: Spoken) -> None:
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

    json, quiet = spoken.json, spoken.quiet
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
    restarted: RestartedOption = False,
    quiet: QuietOption = False,
    json: JsonOption = False,
) -> None:
    """Go on with a case that stopped or waits for a restart."""
    from kleff.case.record.folder import open_case
    from kleff.cli.common import confirmation, given_secrets, meant_case
    from kleff.cli.terminal.asking import yes_or_no
    from kleff.cli.terminal.front import Spoken
    from kleff.engine.cases.alone import check_alone
    from kleff.engine.cases.restarting import restarted_on_demand
    from kleff.engine.cases.waiting import undecided
    from kleff.engine.job import Job
    from kleff.errors import UsageError

    if bool(skip) != bool(because.strip()):
        raise UsageError("--skip and --because belong together", remedy="kleff resume CASE --skip ACTION --because TEXT")
    job = Job.of_case(meant_case(case, cases))
    somebody = sys.stdin.isatty()
    with open_case(job.folder()) as known:
        if resume_after_restart:
            check_alone(job.workstation, job.procedure, None, bool(known.text("locked")))
        asked = somebody and not restarted and undecided(job.workstation, known)
    options = replace(
        job.options,
        confirmed={n: confirmation("") for n in confirmed or []},
        goes_on_alone=resume_after_restart,
        somebody=somebody,
        restarted=yes_or_no(f"Was {job.workstation.name} restarted since the case waits?") if asked else restarted or None,
    )
    job = replace(job, options=options, secrets=given_secrets(secret_fd))
    spoken = Spoken(quiet=quiet, json=json)
    with restarted_on_demand(job.workstation, restart_now, spoken), spoken.watching() as progress:
        ended = job.resume(skip, because, progress)
    closing(job, job.folder(), ended, spoken)
