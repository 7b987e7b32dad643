"""Labs: simulated workstations in a folder."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from kleff.cli.options import JsonOption


class LabName(StrEnum):
    """Which lab is made."""

    old = "POTTING-02"
    new = "POTTING-03"


app = typer.Typer(help="Make a simulated workstation, show it, restart it.", no_args_is_help=True, rich_markup_mode=None)
FolderArgument = Annotated[Path, typer.Argument(metavar="FOLDER", help="The lab's folder.")]


@app.command("make")
def make(
    folder: FolderArgument,
    seed: Annotated[int, typer.Option("--seed", help="Another seed draws another potting shed.")] = 20261123,
    name: Annotated[LabName, typer.Option("--name", help="POTTING-02, or the new workstation that replaces it.")] = LabName.old,
    from_: Annotated[
        Path | None, typer.Option("--from", metavar="PROC", help="A plain one on which every step of a procedure has something to do.")
    ] = None,
    plain: Annotated[bool, typer.Option("--plain", help="A plain one with no product, for  kleff lab add.")] = False,
) -> None:
    """Make a lab in a new folder."""
    from kleff.errors import UsageError

    if from_ is not None and plain:
        raise UsageError("--from puts a product on a plain lab, --plain none", remedy="give one of them")
    if from_ is not None:
        _make_from(folder, from_)
        return
    if plain:
        from kleff.workstation.lab.making.plain import build_plain

        print(f"{build_plain(folder).file.name} is ready: use it as  --on lab:{folder}")
        return
    from kleff.workstation.lab.demo_workstation import build_demo_workstation
    from kleff.workstation.lab.replacement import build_replacement

    lab = build_demo_workstation(folder, seed, rich=True) if name == LabName.old else build_replacement(folder, seed)
    print(f"{lab.file.name} is ready: use it as  --on lab:{folder}")


def _make_from(folder: Path, procedure: Path) -> None:
    import msgspec

    from kleff.engine.job import Job
    from kleff.engine.library import load
    from kleff.engine.rehearsal.staging import nothing_to_do, staged
    from kleff.engine.systems import meant_for
    from kleff.errors import Refused
    from kleff.texts import typed
    from kleff.workstation.lab.making.adding import Adding
    from kleff.workstation.lab.making.plain import build_plain
    from kleff.workstation.lab.making.spec import LabSpec

    loaded = load(procedure)
    if "windows" not in (meant_for(loaded) or {"windows"}):
        raise Refused(
            "labs are Windows workstations, and it is written for another system", where=loaded.name, remedy="name another procedure"
        )
    build_plain(folder)
    on = f"lab:{folder}"
    Adding(folder, procedure.parent).add(msgspec.convert(staged(Job.open(procedure, on)), LabSpec))
    print(f"POTTING-05 is ready, with {loaded.product.name} on it: use it as  --on {on}")
    print(f"  kleff preview {typed(str(procedure))} --on {typed(on)}")
    try:
        missing = nothing_to_do(Job.open(procedure, on))
    except Refused as error:  # a question that has no answer yet
        print(f"  what each step finds there, the preview tells: {error.what}")
        return
    if missing:
        lines = ", ".join(map(str, missing))
        print(f"  nothing could be made for the steps at line {lines}: add it with  kleff lab add {typed(str(folder))} SPEC")


@app.command("add")
def add(
    folder: FolderArgument,
    spec: Annotated[Path, typer.Argument(metavar="SPEC", help="A short description: products, files, keys, programs and their manners.")],
) -> None:
    """Put a product, or anything else, on a lab."""
    from kleff.workstation.lab.making.adding import Adding
    from kleff.workstation.lab.making.spec import read_spec

    adding = Adding(folder, spec.parent)
    adding.add(read_spec(spec))
    print(f"{adding.lab.file.name}: what {spec.name} says is on it")


@app.command("show")
def show_lab(folder: FolderArgument, json: JsonOption = False) -> None:
    """What is on a lab and what runs."""
    from kleff.cli.lab_page import lab_document, lab_page
    from kleff.cli.terminal.show import show
    from kleff.report.documents import encode

    document = lab_document(folder)
    if json:
        print(encode(document))
    else:
        show(lab_page(document))


@app.command("reinstall")
def reinstall(folder: FolderArgument) -> None:
    """Put Tag Studio on POTTING-02 again, as its own setup would: the program, its service and keys, nobody's data."""
    from kleff.workstation.lab.replacement import reinstall

    print(f"Tag Studio is installed again: {reinstall(folder)} files")


@app.command("restart")
def restart(folder: FolderArgument) -> None:
    """Restart a lab, with its start-up programs and services, and what it was told to do then."""
    from kleff.workstation.lab.lab import Lab
    from kleff.workstation.lab.workstation import at_start

    lab = Lab(folder)
    state = lab.restart(at_start(lab), wait=True)
    print(f"{lab.file.name} was restarted: boot {state.boot}")


@app.command("shutdown")
def shutdown(folder: FolderArgument) -> None:
    """Shut a lab down the fast way and switch it on again: its programs are new, its boot is not."""
    from kleff.workstation.lab.lab import Lab

    lab = Lab(folder)
    lab.shut_down()
    print(f"{lab.file.name} was shut down and switched on: still boot {lab.state().boot}")


@app.command("sign-in")
def sign_in(folder: FolderArgument, account: Annotated[str, typer.Argument(help="Who.")]) -> None:
    """Somebody signs in; whoever has that account's settings open then has spoiled the session."""
    from kleff.workstation.lab.lab import Lab
    from kleff.workstation.lab.registry import LabRegistry

    own = LabRegistry(Lab(folder)).sign_in(account)
    print(f"{account} is signed in" if own else f"{account} got a profile that is thrown away: something has the settings open")
    if not own:
        raise typer.Exit(4)


@app.command("clock")
def clock(folder: FolderArgument, seconds: Annotated[int, typer.Argument(help="By how many seconds it is set; below 0 back.")]) -> None:
    """Set a lab's clock, as its time service would."""
    from kleff.workstation.lab.lab import Lab

    Lab(folder).set_clock(seconds)
    print(f"the clock of {Lab(folder).file.name} was set by {seconds} s")


@app.command("answer")
def answer(
    folder: FolderArgument,
    window: Annotated[str, typer.Argument(metavar="TITLE", help="The window's title.")],
    no: Annotated[bool, typer.Option("--no", help="Close it instead.")] = False,
) -> None:
    """Answer a window of a lab's program, as a person in front of it would."""
    from kleff.workstation.lab.lab import Lab

    Lab(folder).answer(window, not no)
    print(f"{window}: {'closed' if no else 'answered'}")
