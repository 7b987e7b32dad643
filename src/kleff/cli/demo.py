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
    import sys
    from importlib.resources import files

    from kleff.cli import case_commands, look, work
    from kleff.cli.app import tell
    from kleff.cli.lab import restart, show_lab
    from kleff.cli.terminal import clock
    from kleff.cli.terminal.show import coloured, paint, program
    from kleff.errors import Refused, RestartNeeded
    from kleff.texts import typed
    from kleff.workstation.lab.demo_workstation import build_demo_workstation

    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise Refused(
            "something stands there already",
            where=str(folder),
            remedy=f"name another folder, or delete it:  rm -r {typed(str(folder))}",
        )
    folder = folder.absolute()
    folder.mkdir(parents=True, exist_ok=True)
    lab, procedure, cases = folder / "POTTING-02", folder / "tag-studio.toml", folder / "cases"
    procedure.write_bytes(files("kleff").joinpath("samples/tag-studio.toml").read_bytes())
    procedure.chmod(0o644)

    def step(text: str, command: str = "") -> None:
        line = f"\n=== {text}\n" + (f"$ kleff {command}\n" if command else "")
        print(paint(line, "head") if coloured(sys.stdout) else line, flush=True)
        clock.start()

    quoted, on = typed(str(procedure)), typed(f"lab:{lab}")
    step("A simulated workstation with three accounts, built in a folder", f"lab make {typed(str(lab))}")
    build_demo_workstation(lab, rich=True, held=True)
    show_lab(lab)
    step("Is the product here, and who uses it?", f"survey {quoted} --on {on}")
    look.survey(str(procedure), f"lab:{lab}")
    step("Preview, run and verify", f"run {quoted} --on {on} --yes --ticket DEMO-1")
    try:
        work.run(str(procedure), f"lab:{lab}", yes=True, ticket="DEMO-1", cases=cases)
    except RestartNeeded as error:
        tell(error)
        step("The restart that it waits for", f"lab restart {typed(str(lab))}")
        restart(lab)
        case = next(iter(sorted(cases.iterdir())))
        step("It goes on where it stopped", f"resume {typed(str(case))}")
        work.resume(case.name, cases=cases)
    case = next(iter(sorted(cases.iterdir())))
    step("The report for the ticket", f"report {typed(str(case))}")
    case_commands.report(str(case))
    step("Now try")
    for command, text in (
        (f"undo {typed(str(case))}", "take it all back, what the uninstallers removed too"),
        (f"verify {typed(str(case))}", "look again"),
        (f"lab reinstall {typed(str(lab))}", "install the product again, as its own setup would; then"),
        (f"restore {typed(str(case))} --dry-run", "what would be put back of what was saved"),
        (f"report {typed(str(case))} --format markdown", "the same report for a ticket system"),
    ):
        print(f"  {typed(program())} {command}\n      {text}")
