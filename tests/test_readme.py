"""The tour of the README in its order, word for word, from the folder that its own first line leaves one in."""

from __future__ import annotations

import os
import re
import shlex
import subprocess
from pathlib import Path

from support import Kleff

README = Path(__file__).parent.parent / "README.md"
ASKS = ("kleff run ", "kleff undo ", "kleff restore ")


def test_the_tour_works_in_its_order(kleff: Kleff, tmp_path: Path) -> None:
    """Every command of it ends as it says; what asks is answered on the command line, and CASE is the case of the run."""
    tour = README.read_text("utf-8").partition("## A five-minute tour")[2].partition("\n## ")[0]
    lines = [line for block in re.findall(r"```sh\n(.*?)```", tour, re.DOTALL) for line in block.splitlines()]
    assert len(lines) > 8
    assert lines[0] == ". .venv/bin/activate"
    environment = {
        **os.environ,
        "PATH": f"{kleff.program.parent}:{os.environ['PATH']}",
        "HOME": str(tmp_path),
        "XDG_STATE_HOME": str(tmp_path),
    }
    cases = tmp_path / "cases"
    subprocess.run([kleff.program, "demo"], cwd=tmp_path, env=environment, check=True, capture_output=True)
    for line in lines[1:]:
        words = line.replace("CASE/bag", f"{_newest(cases)}/bag").replace("CASE", str(_newest(cases)))
        if line.startswith(ASKS) and "--dry-run" not in line:
            words += " --yes" if "--on" in line or line.startswith("kleff undo") else f" --yes --on lab:{tmp_path}/potting"
        if line.startswith(("kleff run ", "kleff cases", "kleff verify ", "kleff undo ", "kleff restore ")):
            words += f" --cases {cases}"
        done = subprocess.run(shlex.split(words), cwd=tmp_path, env=environment, capture_output=True, text=True)
        assert done.returncode == 0, f"{words} ended with {done.returncode}\n{done.stdout}\n{done.stderr}"


def _newest(cases: Path) -> Path:
    """The case of the run: that of a restore is none to be restored from."""
    found = [p for p in cases.glob("*") if (p / "bag/manifest-sha256.txt").exists()]
    return max(found, key=lambda p: p.stat().st_mtime, default=cases)
