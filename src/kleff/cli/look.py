"""Commands that only look: check, list, survey, preview, verify."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from kleff.cli.options import (
    AnswerOption,
    CasesOption,
    ConfirmedOption,
    JsonOption,
    LibraryOption,
    OnOption,
    ProcedureArgument,
    SecretOption,
    SpareKind,
    SpareOption,
    WaiveOption,
)  # fmt: skip


def check(
    files: Annotated[list[Path] | None, typer.Argument(metavar="FILE...", help="Procedure files.", show_default=False)] = None,
    json: JsonOption = False,
    schema: Annotated[bool, typer.Option("--schema", help="Print the JSON Schema of the format, for editors.")] = False,
) -> None:
    """Is the procedure right? Errors and advice, with lines."""
    from kleff.cli.show import show
    from kleff.engine.advice import advice
    from kleff.engine.kinds import model_table
    from kleff.errors import ProcedureError, UsageError
    from kleff.procedure.load import load_procedure
    from kleff.report.documents import Advice, CheckDocument, CheckedFile, encode
    from kleff.report.lines import Page

    if schema:
        print(_schema())
        return
    if not files:
        raise UsageError("no file is named", remedy="kleff check FILE...")
    checked = []
    for file in files:
        try:
            procedure = load_procedure(file, model_table())
            notes = [Advice(text=text, line=line) for line, text in advice(procedure)]
            checked.append(CheckedFile(file=str(file), valid=True, errors=[], advice=notes))
        except ProcedureError as error:
            checked.append(CheckedFile(file=str(file), valid=False, errors=error.problems, advice=[]))
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

    from kleff.engine.kinds import model_table
    from kleff.procedure.schema import procedure_schema

    return dumps(procedure_schema(model_table()), indent=2)


def list_procedures(on: OnOption = None, library: LibraryOption = None, json: JsonOption = False) -> None:
    """The procedures of the library: which products are here?"""
    from kleff.cli.common import default_library
    from kleff.cli.listing import listed
    from kleff.cli.show import show
    from kleff.errors import UsageError
    from kleff.report.documents import ListDocument, encode, workstation_info
    from kleff.report.lines import Page
    from kleff.report.pages import workstation_line
    from kleff.workstation.open import open_workstation

    folder = library or default_library()
    if not folder.is_dir():
        raise UsageError("there is no such library", where=str(folder), remedy="put procedures there, or name another with --library")
    workstation = open_workstation(on or "this")
    found = [listed(file, workstation) for file in sorted(folder.glob("*.toml"))]
    if json:
        print(encode(ListDocument(kleff="list", library=str(folder), workstation=workstation_info(workstation), procedures=found)))
        return
    page = Page()
    page.row(("Procedures in ", "plain"), (str(folder), "head"), (f" on {workstation_line(workstation)}", "plain"))
    for one in found:
        state = "not valid" if not one.valid else "here" if one.present else "not here" if one.present is False else "could not be told"
        tone = {"here": "good", "not valid": "bad"}.get(state, "dim")
        versions = f"{', '.join(one.found)}" if one.found else ""
        page.row((f"  {state:<10} ", tone), (f"{one.id:<24} {one.name} {versions}", "plain"))  # type: ignore[arg-type]
    if not found:
        page.add("  none", "dim")
    show(page)


def survey(procedure: ProcedureArgument, on: OnOption = None, library: LibraryOption = None, json: JsonOption = False) -> None:
    """Is it here, which versions, where, who uses it?"""
    from kleff.cli.common import open_scene
    from kleff.cli.show import show
    from kleff.engine.survey import survey as look
    from kleff.report.pages import survey_page

    scene = open_scene(procedure, on, library)
    found = look(scene)
    if json:
        from kleff.report.documents import encode, survey_document

        print(encode(survey_document(scene.workstation, scene.procedure, found)))
    else:
        show(survey_page(scene, found))


def preview(
    procedure: ProcedureArgument,
    on: OnOption = None,
    library: LibraryOption = None,
    spare: SpareOption = SpareKind.links,
    answer: AnswerOption = None,
    waive: WaiveOption = None,
    confirmed: ConfirmedOption = None,
    secret_fd: SecretOption = None,
    json: JsonOption = False,
) -> None:
    """Every action, in order; nothing is touched."""
    from kleff.cli.common import Told, give_secrets, read_procedure
    from kleff.cli.planning import planned
    from kleff.cli.show import show
    from kleff.engine.readiness import check_names
    from kleff.errors import Refused
    from kleff.objects.secrets import Secrets
    from kleff.report.documents import PreviewDocument, action_info, encode, product_info, workstation_info
    from kleff.report.pages import preview_page
    from kleff.workstation.open import open_workstation

    loaded, workstation = read_procedure(procedure, library), open_workstation(on or "this")
    secrets = Secrets()
    give_secrets(secrets, secret_fd or [])
    told = Told(secrets=secrets, waived=frozenset(waive or []), confirmed=dict.fromkeys(confirmed or [], "confirmed"))
    check_names(loaded, told.waived, told.confirmed)
    made = planned(workstation, loaded, library, spare.value, answer or [], told)
    scene, plan = made.scene, made.plan
    if json:
        document = PreviewDocument(
            kleff="preview",
            workstation=workstation_info(scene.workstation),
            product=product_info(scene.procedure),
            actions=[action_info(a, scene.workstation) for a in plan.actions],
            choices=made.choices,
            holders=plan.holders,
            totals=plan.totals,
            no_return=plan.no_return,
            refused=bool(plan.refused),
        )
        print(encode(document))
    else:
        show(preview_page(scene, plan, made.choices))
    if plan.refused or plan.not_ready:
        raise typer.Exit(Refused.exit_code)


def verify(
    what: Annotated[str, typer.Argument(metavar="PROC|CASE", help="A procedure, or a case whose procedure and workstation are meant.")],
    on: OnOption = None,
    library: LibraryOption = None,
    cases: CasesOption = None,
    answer: AnswerOption = None,
    json: JsonOption = False,
) -> None:
    """Is it gone?"""
    from kleff.cli.common import Told, default_cases, read_procedure, scene_with
    from kleff.cli.show import show
    from kleff.engine.verify import verify as look
    from kleff.errors import NoSuchCase, NotClean
    from kleff.report.documents import encode, verify_document
    from kleff.report.pages import verify_page

    folder = None
    if not what.endswith(".toml"):
        from kleff.case.record.folder import find_case

        try:
            folder = find_case(what, cases or default_cases())
        except NoSuchCase:
            if Path(what).is_dir():
                raise
    if folder is not None:
        from kleff.cli.cases import case_scene
        from kleff.errors import UsageError

        if answer:
            raise UsageError("a case has its own answers", where=what, remedy="leave out  --answer")
        scene = case_scene(folder, on)
    else:
        from kleff.engine.choices import settle, with_found
        from kleff.workstation.open import open_workstation

        loaded = read_procedure(what, library)
        workstation = open_workstation(on or "this")
        loaded = with_found(loaded, scene_with(workstation, loaded, library))
        scene = scene_with(workstation, loaded, library, told=Told(answers=settle(loaded, answer or [])))
    result = look(scene)
    if json:
        print(encode(verify_document(scene.workstation, scene.procedure, result)))
    else:
        show(verify_page(scene.procedure.product.name, scene.workstation.name, result))
    if not result.clean:
        raise typer.Exit(NotClean.exit_code)
