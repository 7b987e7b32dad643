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
) -> None:
    """Make a lab in a new folder."""
    from kleff.workstation.lab.demo_workstation import build_demo_workstation
    from kleff.workstation.lab.replacement import build_replacement

    lab = (build_demo_workstation if name == LabName.old else build_replacement)(folder, seed)
    print(f"{lab.file.name} is ready: use it as  --on lab:{folder}")


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
