"""System calls that fail: the case stays consistent, the message names thing and remedy, undo gives everything back."""

from __future__ import annotations

import os
import random
import shutil
from pathlib import Path

import pytest

from faulty import CODES, Fault
from killing import run_until
from support import IS_ROOT, differences, linux_tree, procedure, tree, write

STEPS = """
[keep]
paths = ['/opt/brindlewort/**/*.keep']
[[backup]]
label = "settings"
paths = ['/opt/brindlewort']
[[delete]]
paths = ['/opt/brindlewort', '/var/lib/brindlewort', '/home/mira/.brindlewort']
"""
EVERY = os.environ.get("KLEFF_ALL_FAULTS") == "1"
pytestmark = pytest.mark.skipif(not IS_ROOT, reason="needs root: as administrator an unreadable file is a fault, not a right")


def bench(top: Path) -> Path:
    linux_tree(top)
    for name in ("a/one", "a/two.keep", "b/three", "b/four"):
        write(top / "opt/brindlewort" / name, name * 100)
    write(top / "var/lib/brindlewort/state")
    write(top / "home/mira/.brindlewort/x")
    return top


def cases_of(call: str) -> list[tuple[str, int]]:
    """(error, which call) to try: all, or a seeded sample."""
    every = [(name, at) for name in CODES for at in range(1, {"stat": 60, "open": 60}.get(call, 14))]
    return every if EVERY else random.Random(call).sample(every, 9)


@pytest.mark.parametrize("call", ["rename", "mkdir", "fsync", "open", "read", "stat", "replace"])
def test_a_call_that_fails(tmp_path: Path, call: str) -> None:
    """On the workstation's files and on the case's: whatever happens, undo ends in the original state, or nothing was begun."""
    original = bench(tmp_path / "original")
    file, cases, log = procedure(tmp_path / "p.toml", STEPS), tmp_path / "cases", tmp_path / "log"
    for name, at in cases_of(call):
        for where in ("tree", "cases"):
            shutil.rmtree(tmp_path / "tree", ignore_errors=True)
            shutil.rmtree(cases, ignore_errors=True)
            log.unlink(missing_ok=True)
            shutil.copytree(original, tmp_path / "tree", symlinks=True)
            for path in ("home/mira", "home/tomas"):
                os.chown(tmp_path / "tree" / path, 1001 if "mira" in path else 1002, -1)
            before = tree(tmp_path / "tree")
            fault = Fault(call, at, CODES[name], tmp_path / where)
            words = ["run", str(file), "--on", f"root:{tmp_path / 'tree'}", "--yes", "--cases", str(cases)]
            code = run_until(words, 0, False, log, prepare=fault.arm)[0]
            said = log.read_text(errors="replace")
            what = f"{call} {at} {name} on {where}: ended with {code}\n{said[-1500:]}"
            assert "Traceback" not in said, what
            assert code in (0, 1, 2, 3, 4), what
            if code in (1, 2, 3):
                assert "What to do" in said, what
            case = next(iter(cases.iterdir()), None) if cases.exists() else None
            if case is not None and (case / "case.db").exists():
                again = run_until(["undo", str(case), "--yes", "--quiet"], 0, False, log)[0]
                assert again in (0, 1, 3), log.read_text(errors="replace")[-1500:]
            found = [d for d in differences(before, tree(tmp_path / "tree", skip=())) if "var/lib/kleff" not in d]
            assert found == [], what
