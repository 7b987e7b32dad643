"""Start-up against `python -c pass` and against a bare Typer program, paired in one run.

    python benchmarks/startup.py [ROUNDS]

Prints a Markdown table: median milliseconds, and median (min..max) of the paired ratios. Kleff is run from its installed console
script with byte code written, in a temporary folder with the demo's lab.
"""

from __future__ import annotations

import os
import platform
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from importlib.resources import files
from pathlib import Path

from kleff.workstation.lab.demo_workstation import build_demo_workstation

BARE = """
from pathlib import Path
from typing import Annotated
import typer
app = typer.Typer(pretty_exceptions_enable=False, rich_markup_mode=None)
@app.command()
def survey(procedure: Annotated[str, typer.Argument()], on: Annotated[str | None, typer.Option()] = None,
           library: Annotated[Path | None, typer.Option()] = None, json: Annotated[bool, typer.Option("--json")] = False) -> None:
    print(procedure)
@app.command()
def other() -> None: ...
app()
"""


def seconds(command: list[str]) -> float:
    environment = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    begun = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, check=True, env=environment)
    return time.perf_counter() - begun


def row(name: str, ours: list[str], peer_name: str, peer: list[str], rounds: int) -> str:
    seconds(ours)
    seconds(peer)
    pairs = [(seconds(ours), seconds(peer)) for _ in range(rounds)]
    ratios = [a / b for a, b in pairs]
    ms = statistics.median(a for a, _ in pairs) * 1000
    return f"| `{name}` | {peer_name} | {ms:.0f} | {statistics.median(ratios):.2f} ({min(ratios):.2f}..{max(ratios):.2f}) |"


def main(rounds: int) -> None:
    kleff = str(Path(sys.executable).parent / "kleff")
    with tempfile.TemporaryDirectory() as folder:
        top = Path(folder)
        build_demo_workstation(top / "lab")
        library = top / "library"
        library.mkdir()
        shutil.copy(str(files("kleff").joinpath("samples/tag-studio.toml")), library)
        (top / "bare.py").write_text(BARE)
        on = ["--on", f"lab:{top / 'lab'}"]
        nothing, bare = [sys.executable, "-c", "pass"], [sys.executable, str(top / "bare.py")]
        bare_command = [*bare, "survey", "x"]
        survey, listing = [kleff, "survey", str(library / "tag-studio.toml"), *on], [kleff, "list", "--library", str(library), *on]
        print(f"Python {platform.python_version()}, {os.cpu_count()} cores, {rounds} pairs, {time.strftime('%Y-%m-%d')}\n")
        print("| command | peer | median ms | ratio |\n|---|---|---|---|")
        print(row("kleff --version", [kleff, "--version"], "`python -c pass`", nothing, rounds))
        print(row("kleff --help", [kleff, "--help"], "`python -c pass`", nothing, rounds))
        print(row("kleff --help", [kleff, "--help"], "bare Typer `--help`", [*bare, "--help"], rounds))
        print(row("kleff list", listing, "`python -c pass`", nothing, rounds))
        print(row("kleff list", listing, "bare Typer command", bare_command, rounds))
        print(row("kleff survey", survey, "`python -c pass`", nothing, rounds))
        print(row("kleff survey", survey, "bare Typer command", bare_command, rounds))


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 15)
