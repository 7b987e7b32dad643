"""Commands that only look: check, list, survey, preview, verify."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from kleff.cli.options import (
    AccountsOption,
    AlongOption,
    AnswerOption,
    BecauseOption,
    CasesOption,
    ConfirmedOption,
    FullOption,
    JsonOption,
    LibraryOption,
    OfLabelOption,
    OfLineOption,
    OfStateOption,
    OnOption,
    ProcedureArgument,
    SecretOption,
    ShowItemsOption,
    SpareKind,
    SpareOption,
    WaiveOption,
    WithoutOption,
)  # fmt: skip

if TYPE_CHECKING:
    from kleff.engine.job import Job
    from kleff.report.documents import ListedProcedure


def check(
    files: Annotated[list[Path] | None, typer.Argument(metavar="FILE...", help="Procedure files.", show_default=False)] = None,
    json: JsonOption = False,
    schema: Annotated[bool, typer.Option("--schema", help="Print the JSON Schema of the format, for editors.")] = False,
) -> None:
    """Is the procedure right? Errors and advice, with lines."""
    from kleff.cli.terminal.show import show
    from kleff.engine.checking.advice import advice
    from kleff.engine.checking.static import always_refused
    from kleff.engine.library import load
    from kleff.errors import Located, ProcedureError, UsageError
    from kleff.report.documents import Advice, CheckDocument, CheckedFile, CheckedProblem, encode
    from kleff.report.lines import Page

    if schema:
        print(_schema())
        return
    if not files:
        raise UsageError("no file is named", remedy="kleff check FILE...")
    checked = []
    for file in files:
        try:
            procedure = load(file)
            refused = [Located(str(file), line, 1, "always-refused", f"always refused: {text}") for line, text in always_refused(procedure)]
            if refused:
                raise ProcedureError(refused)
            notes = [Advice(text=text, line=line) for line, text in advice(procedure)]
            checked.append(CheckedFile(file=str(file), valid=True, errors=[], advice=notes))
        except ProcedureError as error:
            parts = [
                CheckedProblem(file=p.file, line=p.line, column=p.column, code=p.code, message=p.message)
                for p in error.problems if isinstance(p, Located)
            ]  # fmt: skip
            checked.append(CheckedFile(file=str(file), valid=False, errors=[str(p) for p in error.problems], problems=parts, advice=[]))
    if json:
        print(encode(CheckDocument(kleff="check", files=checked)))
    else:
        page = Page()
        for one in checked:
            for text in one.errors:
                page.add(text, "bad")
            for note in one.advice:
                page.row((f"{one.file}:{note.line}: ", "dim"), (f"advice: {note.text}", "warn"))
            if one.valid:
                page.row((f"{one.file}: ", "plain"), ("valid", "good"))
        show(page)
    if not all(one.valid for one in checked):
        raise typer.Exit(ProcedureError.exit_code)


def _schema() -> str:
    from json import dumps

    import kleff.engine.library  # noqa: F401  makes the kinds known
    from kleff.objects.base.known import model_table
    from kleff.procedure.schema import procedure_schema

    return dumps(procedure_schema(model_table()), indent=2)


def list_procedures(on: OnOption = None, library: LibraryOption = None, account: AccountsOption = None, json: JsonOption = False) -> None:
    """The procedures of the library: which products are here?"""
    from kleff.cli.common import library_of
    from kleff.cli.listing import listed
    from kleff.cli.terminal.show import show
    from kleff.engine.accounts import named
    from kleff.engine.opening import opened_workstation
    from kleff.errors import UsageError
    from kleff.objects.base.here import Options
    from kleff.report.documents import ListDocument, encode
    from kleff.report.lines import Page
    from kleff.report.making import workstation_info
    from kleff.report.pages import workstation_line

    shelf = library_of(library)
    folder = shelf.folder
    if not folder.is_dir():
        raise UsageError("there is no such library", where=str(folder), remedy="put procedures there, or name another with --library")
    workstation = opened_workstation(on or "this")
    options = named(workstation, Options(accounts=frozenset(account or [])))
    found = [listed(file, workstation, options) for file in shelf.files()]
    if json:
        print(encode(ListDocument(kleff="list", library=str(folder), workstation=workstation_info(workstation), procedures=found)))
        return
    page = Page()
    page.row(("Procedures in ", "plain"), (str(folder), "head"), (f" on {workstation_line(workstation)}", "plain"))
    for one in found:
        state = _state_of(one)
        tone = {"here": "good", "not valid": "bad"}.get(state, "dim")
        versions = f"{', '.join(one.found)}" if one.found else ""
        page.row((f"  {state:<12} ", tone), (f"{one.id:<24} {one.name} {versions}", "plain"))  # type: ignore[arg-type]
    if not found:
        page.add("  none", "dim")
    show(page)


def _state_of(one: ListedProcedure) -> str:
    if not one.valid:
        return "not valid"
    if one.other_system:
        return "other system"
    return "could not be told" if one.present is None else "here" if one.present else "not here"


def survey(
    procedure: ProcedureArgument,
    on: OnOption = None,
    library: LibraryOption = None,
    account: AccountsOption = None,
    json: JsonOption = False,
) -> None:
    """Is it here, which versions, where, who uses it?"""
    from kleff.cli.common import open_job
    from kleff.cli.terminal.show import show
    from kleff.objects.base.here import Options
    from kleff.report.pages import survey_page

    job = open_job(procedure, on, library, Options(accounts=frozenset(account or [])))
    found = job.survey()
    if json:
        from kleff.report.documents import encode
        from kleff.report.making import survey_document

        print(encode(survey_document(job.workstation, job.procedure, found)))
    else:
        show(survey_page(job.workstation, job.procedure, found))


def preview(
    procedure: ProcedureArgument,
    on: OnOption = None,
    library: LibraryOption = None,
    spare: SpareOption = SpareKind.links,
    answer: AnswerOption = None,
    waive: WaiveOption = None,
    without_backup: WithoutOption = None,
    because: BecauseOption = "",
    confirmed: ConfirmedOption = None,
    account: AccountsOption = None,
    came_along: AlongOption = None,
    show_items: ShowItemsOption = False,
    full: FullOption = False,
    label: OfLabelOption = None,
    line: OfLineOption = None,
    state: OfStateOption = None,
    secret_fd: SecretOption = None,
    json: JsonOption = False,
) -> None:
    """What would be done, a line for each step; nothing is touched."""
    from kleff.cli.common import given_secrets, left_out, open_job
    from kleff.cli.terminal.plans import plan_page
    from kleff.cli.terminal.show import show
    from kleff.errors import Refused
    from kleff.objects.base.here import Options

    confirmed_by = dict.fromkeys(confirmed or [], "confirmed")
    without, accounts = left_out(without_backup, because), frozenset(account or [])
    options = Options(
        spare.mode, frozenset(waive or []), confirmed_by, without_backup=without, accounts=accounts, show_items=show_items,
        came_along=came_along.value if came_along else "",
    )  # fmt: skip
    job = open_job(procedure, on, library, options, given_secrets(secret_fd))
    made = job.preview(answer or [])
    if json:
        from kleff.report.documents import encode
        from kleff.report.making import preview_document

        print(encode(preview_document(made.here, made.plan, made.choices)))
    else:
        show(plan_page(made, full, label or [], line or [], state or []), paged=True)
    if made.plan.refused or made.plan.not_ready:
        raise typer.Exit(Refused.exit_code)


def verify(
    what: Annotated[str, typer.Argument(metavar="PROC|CASE", help="A procedure, or a case whose procedure and workstation are meant.")],
    on: OnOption = None,
    library: LibraryOption = None,
    cases: CasesOption = None,
    answer: AnswerOption = None,
    account: AccountsOption = None,
    json: JsonOption = False,
) -> None:
    """Is it gone?"""
    from kleff.cli.common import default_cases, open_job
    from kleff.cli.terminal.show import tell_verified
    from kleff.errors import UsageError
    from kleff.objects.base.here import Options

    job = _job_of_case(what, on, cases)
    if job is not None and (answer or account):
        raise UsageError("a case has its own answers and accounts", where=what, remedy="leave out  --answer  and  --account")
    job = job or open_job(what, on, library, Options(accounts=frozenset(account or [])))
    tell_verified(job, job.verify(answer or [], cases or default_cases()), json)


def _job_of_case(what: str, on: str | None, cases: Path | None) -> Job | None:
    """The job of a case, if one is meant."""
    from kleff.cli.common import default_cases
    from kleff.engine.job import Job
    from kleff.errors import NoSuchCase

    if what.endswith(".toml"):
        return None
    from kleff.case.record.folder import find_case

    try:
        return Job.of_case(find_case(what, cases or default_cases()), on)
    except NoSuchCase:
        if Path(what).is_dir():
            raise
        return None
