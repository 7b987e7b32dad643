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
    import shlex
    import shutil
    import sys
    from importlib.resources import files

    from kleff.cli import case_commands, look, work
    from kleff.cli.lab import show_lab
    from kleff.cli.terminal import clock
    from kleff.cli.terminal.show import coloured, paint
    from kleff.errors import Refused
    from kleff.workstation.lab.demo_workstation import build_demo_workstation

    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise Refused(
            "something stands there already",
            where=str(folder),
            remedy=f"name another folder, or delete it:  rm -r {shlex.quote(str(folder))}",
        )
    folder = folder.absolute()
    folder.mkdir(parents=True, exist_ok=True)
    lab, procedure, cases = folder / "POTTING-02", folder / "tag-studio.toml", folder / "cases"
    procedure.write_bytes(files("kleff").joinpath("samples/tag-studio.toml").read_bytes())
    procedure.chmod(0o644)

    program = "kleff" if shutil.which("kleff") else shlex.quote(sys.argv[0])

    def step(text: str, command: str = "") -> None:
        line = f"\n=== {text}\n" + (f"$ kleff {command}\n" if command else "")
        print(paint(line, "head") if coloured(sys.stdout) else line, flush=True)
        clock.start()

    quoted, on = shlex.quote(str(procedure)), shlex.quote(f"lab:{lab}")
    step("A simulated workstation with three accounts, built in a folder", f"lab make {shlex.quote(str(lab))}")
    build_demo_workstation(lab)
    show_lab(lab)
    step("Is the product here, and who uses it?", f"survey {quoted} --on {on}")
    look.survey(str(procedure), f"lab:{lab}")
    step("Preview, run and verify", f"run {quoted} --on {on} --yes --ticket DEMO-1")
    work.run(str(procedure), f"lab:{lab}", yes=True, ticket="DEMO-1", cases=cases)
    case = next(iter(sorted(cases.iterdir())))
    step("The report for the ticket", f"report {shlex.quote(str(case))}")
    case_commands.report(str(case))
    step("Now try")
    for command, text in (
        (f"undo {shlex.quote(str(case))}", "take it all back, what the uninstallers removed too"),
        (f"verify {shlex.quote(str(case))}", "look again"),
        (f"lab reinstall {shlex.quote(str(lab))}", "install the product again, as its own setup would; then"),
        (f"restore {shlex.quote(str(case))} --dry-run", "what would be put back of what was saved"),
        (f"report {shlex.quote(str(case))} --format markdown", "the same report for a ticket system"),
    ):
        print(f"  {program} {command}\n      {text}")
