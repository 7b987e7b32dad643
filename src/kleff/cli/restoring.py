"""The command that puts saved data back: restore."""

from __future__ import annotations

import dataclasses
from contextlib import AbstractContextManager, ExitStack
from dataclasses import dataclass
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
    ShowItemsOption,
    TechnicianOption,
    TicketOption,
    YesOption,
)

if TYPE_CHECKING:
    from kleff.case.bag.opened import SavedBag
    from kleff.cli.terminal.front import Spoken
    from kleff.engine.cases.restoring import RestorePlan
    from kleff.engine.opening import Opened
    from kleff.objects.base.secrets import Secrets
    from kleff.progress import Progress


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
    show_items: ShowItemsOption = False,
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
    from kleff.cli.common import default_cases, given_secrets, me
    from kleff.cli.terminal.front import Spoken
    from kleff.cli.work import closing
    from kleff.engine.cases.agreeing import put_back
    from kleff.engine.cases.restore import Wanted
    from kleff.engine.cases.restoring import make_restore_plan
    from kleff.engine.opening import Ticket
    from kleff.objects.base.here import Options

    where = cases or default_cases()
    to = dict(_pair(text) for text in to_account or [])
    with ExitStack() as stack:
        job, bag, own = _opened(stack, saved, where, on, yes, procedure, library, given_secrets(secret_fd), quiet)
        job = dataclasses.replace(job, options=Options(show_items=show_items))
        made = make_restore_plan(job, bag, own, Wanted(tuple(only or ()), tuple(account or ())), to, replace)
        spoken = Spoken(yes, quiet=quiet, json=json)
        done = put_back(made, RestoreTerminal(spoken, dry_run), where, Ticket(ticket, technician or me()), dry_run)
        if done is not None:
            closing(job, *done, spoken)


@dataclass(frozen=True)
class RestoreTerminal:
    """Implements `RestoreFront`."""

    spoken: Spoken
    only_shown: bool

    def draw(self, made: RestorePlan) -> None:
        from kleff.cli.terminal.show import show
        from kleff.report.documents import encode
        from kleff.report.restoring import restore_document, restore_page

        if self.spoken.json and self.only_shown:
            print(encode(restore_document(made.restoring, made.plan)))
        elif not self.spoken.json:
            show(restore_page(made.restoring, made.plan))

    def nothing(self, made: RestorePlan) -> None:
        from kleff.cli.terminal.show import message
        from kleff.errors import NotClean
        from kleff.objects.base.action import MANUAL

        message("\nNothing is to be put back; no case was made.")
        if any(a.state == MANUAL for a in made.plan.actions):
            raise typer.Exit(NotClean.exit_code)

    def agree(self, made: RestorePlan) -> None:
        from kleff.cli.terminal.asking import confirm

        workstation = made.job.workstation
        remedy = f"look at it with  --dry-run,  then add  --yes --on {workstation.spec}"
        confirm(f"\nPut this back on {workstation.name} ({workstation.spec})?", self.spoken.yes, remedy)

    def begun(self, case: Path) -> None:
        self.spoken.begun(case)

    def watching(self) -> AbstractContextManager[Progress]:
        return self.spoken.watching()


def _pair(text: str) -> tuple[str, str]:
    old, equals, new = text.partition("=")
    return (old.strip(), new.strip()) if equals else ("", text.strip())


def _opened(
    stack: ExitStack,
    saved: str,
    cases: Path,
    on: str | None,
    yes: bool,
    procedure: str | None,
    library: Path | None,
    secrets: Secrets,
    quiet: bool,
) -> tuple[Opened, SavedBag, bool]:
    """The technician's own procedure on the workstation, the bag verified whole, and whether it was made right here."""
    from kleff.case.record.folder import find_case
    from kleff.cli.common import check_named, library_of
    from kleff.cli.terminal.progress import watching
    from kleff.engine.cases.restoring import carried_bag, opened_bag, opened_case, verified
    from kleff.engine.opening import opened_workstation

    # A case's bag is found by the case's id too, as every case is.
    places, shelf = (Path(saved), cases / saved), library_of(library)
    tags = (place / "bagit.txt" for place in places)
    folder = next((tag.parent for tag in tags if tag.exists() or tag.is_symlink()), None)
    if folder is not None:
        check_named(on, yes)
        workstation = opened_workstation(on or "this")
        with watching(quiet, at_work=False) as progress:
            bag = stack.enter_context(carried_bag(folder.resolve(), workstation, cases, progress, secrets))
        return opened_bag(bag, workstation, procedure, shelf, secrets), bag, False
    folder = find_case(saved, cases)
    job = opened_case(folder, on, procedure, shelf, secrets)
    with watching(quiet, at_work=False) as progress:
        return job, verified(folder / "bag", progress, secrets, own=True), True
