"""The command that puts saved data back: restore."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from kleff.cli.options import (
    CasesOption,
    JsonOption,
    LibraryOption,
    OnOption,
    QuietOption,
    SecretOption,
    TechnicianOption,
    TicketOption,
    YesOption,
)

if TYPE_CHECKING:
    from kleff.case.bag.opened import SavedBag, Unlock
    from kleff.case.record.folder import Case
    from kleff.engine.preview import Plan
    from kleff.objects.giving import Giving
    from kleff.objects.secrets import Secrets
    from kleff.procedure.load import Procedure
    from kleff.progress import Progress
    from kleff.workstation.facets import Workstation


SavedArgument = Annotated[str, typer.Argument(metavar="CASE|BAG", help="A case, or the folder of a bag that was carried here.")]
LabelOption = Annotated[
    list[str] | None, typer.Option("--only", metavar="LABEL", help="Only what was saved under this label; may be given more than once.")
]
AccountOption = Annotated[
    list[str] | None, typer.Option("--account", metavar="NAME", help="Only what was saved of this account; may be given more than once.")
]
ToOption = Annotated[
    list[str] | None,
    typer.Option("--to-account", metavar="[OLD=]NEW", help="Give it to another account of this workstation; may be given more than once."),
]
OwnProcedureOption = Annotated[
    str | None,
    typer.Option(
        "--procedure", metavar="PROC", help="Your own procedure, for a bag (default: the library's, by its id).", show_default=False
    ),
]


def restore(
    saved: SavedArgument,
    only: LabelOption = None,
    account: AccountOption = None,
    to_account: ToOption = None,
    replace: Annotated[bool, typer.Option("--replace", help="Set aside first what stands in the way.")] = False,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Show what would be done, and do nothing.")] = False,
    procedure: OwnProcedureOption = None,
    on: OnOption = None,
    yes: YesOption = False,
    ticket: TicketOption = "",
    technician: TechnicianOption = "",
    cases: CasesOption = None,
    library: LibraryOption = None,
    secret_fd: SecretOption = None,
    quiet: QuietOption = False,
    json: JsonOption = False,
) -> None:
    """Put saved data back, after a reinstall or on another workstation. What is there stays."""
    from kleff.case.record.unfinished import lock
    from kleff.cli.common import confirm, default_cases
    from kleff.cli.show import message, show
    from kleff.engine.restore import Wanted, check_room, check_wanted, plan_restore
    from kleff.engine.run import refuse_if_refused
    from kleff.errors import NotClean
    from kleff.objects.base import MANUAL, TO_DO
    from kleff.report.documents import encode
    from kleff.report.giving import restore_document, restore_page

    where = cases or default_cases()
    to = dict(_pair(text) for text in to_account or [])
    wanted = Wanted(tuple(only or ()), tuple(account or ()))
    giving = _giving(saved, where, on, yes, procedure, library, secret_fd or [], to, replace, quiet)
    check_wanted(giving.bag, wanted, to, giving.scene)
    plan = plan_restore(giving, wanted)
    if json and dry_run:
        print(encode(restore_document(giving, plan)))
    elif not json:
        show(restore_page(giving, plan))
    refuse_if_refused(plan)
    if dry_run:
        return
    if not any(a.state == TO_DO for a in plan.actions):
        message("\nNothing is to be put back; no case was made.")
        if any(a.state == MANUAL for a in plan.actions):
            raise typer.Exit(NotClean.exit_code)
        return
    check_room(giving, plan)
    workstation = giving.scene.workstation
    remedy = f"look at it with  --dry-run,  then add  --yes --on {workstation.spec}"
    confirm(f"\nPut this back on {workstation.name} ({workstation.spec})?", yes, remedy)
    what = f"restoring {giving.bag.folder.name}"
    with lock(workstation, what), _new_case(giving, plan, where, ticket, technician, library) as case:
        if not quiet:
            message(f"\nCase {case.folder}")
        give_back(giving, case, quiet, json)


def _giving(
    saved: str, cases: Path, on: str | None, yes: bool, procedure: str | None, library: Path | None, secret_fd: list[str],
    to: dict[str, str], replace: bool, quiet: bool,
) -> Giving:  # fmt: skip
    """The bag verified, the procedure loaded, on a workstation where something may be put."""
    from kleff.case.record.folder import check_unmarked
    from kleff.cli.common import Told, check_rights, give_secrets, scene_with
    from kleff.objects.giving import Giving
    from kleff.objects.secrets import Secrets

    secrets = Secrets()
    give_secrets(secrets, secret_fd)
    workstation, bag, loaded, own = _opened(saved, cases, on, yes, procedure, library, secrets, quiet)
    check_rights(workstation)
    check_unmarked(workstation)
    scene = scene_with(workstation, loaded, library, told=Told(secrets=secrets))
    return Giving(scene, bag, own, to, replace)


def _pair(text: str) -> tuple[str, str]:
    old, equals, new = text.partition("=")
    return (old.strip(), new.strip()) if equals else ("", text.strip())


def _opened(
    saved: str, cases: Path, on: str | None, yes: bool, procedure: str | None, library: Path | None, secrets: Secrets, quiet: bool
) -> tuple[Workstation, SavedBag, Procedure, bool]:
    """The workstation, the bag verified whole, the technician's own procedure, and whether the bag was made right here."""
    from kleff.case.bag.opened import check_harmless
    from kleff.cli.common import check_named, check_sources, read_procedure
    from kleff.cli.progress import watching
    from kleff.errors import Refused
    from kleff.workstation.open import open_workstation

    folder = Path(saved)
    if (folder / "bagit.txt").is_file():
        check_named(on, yes)
        workstation = open_workstation(on or "this")
        with watching(quiet) as progress:
            progress.start("verifying the bag")
            bag = _verified(folder.absolute(), progress, secrets)
            check_harmless(bag)
        name = procedure or bag.info.get("Product-Id", "")
        loaded = read_procedure(name, library)
        check_sources(name, library, workstation)
        if loaded.product.id != bag.info.get("Product-Id"):
            raise Refused(
                f"the bag was saved of {bag.info.get('Product-Id', '')!r}, the procedure is for {loaded.product.id!r}", where=loaded.name,
                remedy="name the procedure of that product with --procedure",
            )  # fmt: skip
        if bag.info.get("System") != workstation.system:
            raise Refused(
                f"the bag was saved on a {bag.info.get('System')} workstation; this is {workstation.system}", where=str(folder),
                remedy="put it back by hand; docs/bag.md says how to open it",
            )  # fmt: skip
        return workstation, bag, loaded, False
    return _opened_case(saved, cases, on, procedure, library, secrets, quiet)


def _opened_case(
    saved: str, cases: Path, on: str | None, procedure: str | None, library: Path | None, secrets: Secrets, quiet: bool
) -> tuple[Workstation, SavedBag, Procedure, bool]:
    from kleff.case.record.folder import find_case, open_case
    from kleff.cli.cases import case_workstation
    from kleff.cli.common import check_sources, read_procedure
    from kleff.cli.progress import watching
    from kleff.engine.kinds import model_table
    from kleff.errors import Refused
    from kleff.procedure.load import parse_procedure

    folder = find_case(saved, cases)
    with open_case(folder) as case:
        workstation = case_workstation(case, on)
        if case.text("bag") != "sealed" or not (folder / "bag").is_dir():
            raise Refused("the case holds no finished bag", where=str(folder), remedy="kleff cases  shows what each holds")
        if procedure:
            check_sources(procedure, library, workstation)
            loaded = read_procedure(procedure, library)
        else:
            loaded = parse_procedure(case.journal.get("procedure"), case.text("procedure_name"), model_table())
    with watching(quiet) as progress:
        progress.start("verifying the bag")
        return workstation, _verified(folder / "bag", progress, secrets, contents=False), loaded, True


def unlock_with(secrets: Secrets) -> Unlock:
    """Opens a locked bag with the passphrase that is given, or asked for."""
    from kleff.case.bag.encryption import PASSPHRASE, open_key

    return lambda file: open_key(file, secrets.get(PASSPHRASE))


def _verified(folder: Path, progress: Progress, secrets: Secrets, contents: bool = True) -> SavedBag:
    """The bag, verified whole.

    Raises:
        DamagedBag: nothing of it is used.
    """
    from kleff.case.bag.opened import open_bag
    from kleff.errors import DamagedBag, DamagedCase

    try:
        return open_bag(folder, progress, contents, unlock_with(secrets))
    except DamagedCase as error:
        raise DamagedBag(error.what, where=error.where, remedy="use an undamaged copy of the bag; nothing was changed") from None


def _new_case(giving: Giving, plan: Plan, cases: Path, ticket: str, technician: str, library: Path | None) -> Case:
    from kleff.cli.work import new_case
    from kleff.engine.restore import agreed

    return new_case(giving.scene, plan, cases, ticket, technician, library, **agreed(giving))


def give_back(giving: Giving, case: Case, quiet: bool, json: bool, skip: int = 0, because: str = "", again: bool = False) -> None:
    """Do the agreed plan, and say what it came to."""
    from kleff.cli.progress import watching
    from kleff.cli.show import show
    from kleff.engine.restore import Restorer
    from kleff.errors import NotClean
    from kleff.report.case_report import report_document
    from kleff.report.documents import encode
    from kleff.report.giving import restored_page

    with watching(quiet) as progress:
        giving.scene.progress = progress
        restorer = Restorer(giving, case)
        ended = restorer.resume(skip, because) if again else restorer.run()
    if json:
        print(encode(report_document(case)))
    else:
        print()
        show(restored_page(case, ended))
    if not ended.clean:
        raise typer.Exit(NotClean.exit_code)
