"""The demo: a lab in a folder, a whole example on it, and what to try next."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer


def demo(
    folder: Annotated[Path, typer.Argument(metavar="FOLDER", help="A new folder for the lab, the procedure and the case.")] = Path(
        "kleff-demo"
    ),
) -> None:
    """Build a lab, run a whole example on it, say what to try next."""
    from importlib.resources import files

    from kleff.errors import Refused
    from kleff.texts import typed

    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise Refused(
            "something stands there already",
            where=str(folder),
            remedy=f"name another folder, or delete it:  rm -r {typed(str(folder))}",
        )
    folder = folder.absolute()
    folder.mkdir(parents=True, exist_ok=True)
    procedure = folder / "tag-studio.toml"
    procedure.write_bytes(files("kleff").joinpath("samples/tag-studio.toml").read_bytes())
    procedure.chmod(0o644)
    _looked_at(folder / "POTTING-02", procedure)
    case = _carried_out(folder / "POTTING-02", procedure, folder / "cases")
    _what_next(case, folder / "POTTING-02")


def _step(text: str, command: str = "") -> None:
    """A heading, and the command that does what follows."""
    import sys

    from kleff.cli.terminal import clock
    from kleff.cli.terminal.show import coloured, paint

    line = f"\n=== {text}\n" + (f"$ kleff {command}\n" if command else "")
    print(paint(line, "head") if coloured(sys.stdout) else line, flush=True)
    clock.start()


def _looked_at(lab: Path, procedure: Path) -> None:
    """The lab is made, and the product looked for on it."""
    from kleff.cli import look
    from kleff.cli.lab import show_lab
    from kleff.texts import typed
    from kleff.workstation.lab.demo_workstation import build_demo_workstation

    _step("A simulated workstation with three accounts, built in a folder", f"lab make {typed(str(lab))}")
    build_demo_workstation(lab, rich=True, held=True)
    show_lab(lab)
    _step("Is the product here, and who uses it?", f"survey {typed(str(procedure))} --on {typed(f'lab:{lab}')}")
    look.survey(str(procedure), f"lab:{lab}")


def _carried_out(lab: Path, procedure: Path, cases: Path) -> Path:
    """It is removed, with the restart that a file in use waits for. Returns the case."""
    from kleff.cli import work
    from kleff.cli.lab import restart
    from kleff.cli.terminal.errors import tell
    from kleff.errors import RestartNeeded
    from kleff.texts import typed

    _step("Preview, run and verify", f"run {typed(str(procedure))} --on {typed(f'lab:{lab}')} --yes --ticket DEMO-1")
    try:
        work.run(str(procedure), f"lab:{lab}", yes=True, ticket="DEMO-1", cases=cases)
    except RestartNeeded as error:
        tell(error)
        _step("The restart that it waits for", f"lab restart {typed(str(lab))}")
        restart(lab)
        case = next(iter(sorted(cases.iterdir())))
        _step("It goes on where it stopped", f"resume {typed(str(case))}")
        work.resume(case.name, cases=cases)
    return next(iter(sorted(cases.iterdir())))


def _what_next(case: Path, lab: Path) -> None:
    """The report, and what to try."""
    from kleff.cli import case_commands
    from kleff.cli.terminal.show import program
    from kleff.texts import typed

    _step("The report for the ticket", f"report {typed(str(case))}")
    case_commands.report(str(case))
    _step("Now try")
    for command, text in (
        (f"undo {typed(str(case))}", "take it all back, what the uninstallers removed too"),
        (f"verify {typed(str(case))}", "look again"),
        (f"lab reinstall {typed(str(lab))}", "install the product again, as its own setup would; then"),
        (f"restore {typed(str(case))} --dry-run", "what would be put back of what was saved"),
        (f"report {typed(str(case))} --format markdown", "the same report for a ticket system"),
    ):
        print(f"  {typed(program())} {command}\n      {text}")
