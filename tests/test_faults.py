"""System calls that fail: the case stays consistent, the message names thing and remedy, undo gives everything back."""

from __future__ import annotations

import os
import random
import re
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from faulty import CODES, Event, Fault
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
FITS = {"ENOSPC": "room", "EROFS": "writable|read-only", "EBUSY": "close", "ETXTBSY": "end the program", "EIO": "disk|volume",
        "EACCES": "administrator|rights"}  # fmt: skip
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
    return every if EVERY else random.Random(call).sample(every, 7)


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
            if code in (1, 3) and name in FITS and os.strerror(CODES[name]) in said:
                assert re.search(f"{FITS[name]}|--cases", said.rpartition("What to do")[2]), what
            case = next(iter(cases.iterdir()), None) if cases.exists() else None
            if case is not None and (case / "case.db").exists():
                again = run_until(["undo", str(case), "--yes", "--quiet"], 0, False, log)[0]
                assert again in (0, 1, 3), log.read_text(errors="replace")[-1500:]
            found = [d for d in differences(before, tree(tmp_path / "tree", skip=())) if "var/lib/kleff" not in d]
            assert found == [], what


def appears(top: Path) -> None:
    write(top / "opt/brindlewort/a/appeared", "new")


def vanishes(top: Path) -> None:
    for path in (top / "opt/brindlewort/b/three", top / "opt/brindlewort/a/one"):
        path.unlink(missing_ok=True)


def becomes_a_folder(top: Path) -> None:
    path = top / "opt/brindlewort/b/three"
    if path.is_file():
        path.unlink()
        write(path / "inside", "new")


def becomes_a_file(top: Path) -> None:
    path = top / "opt/brindlewort/b"
    if path.is_dir():
        shutil.move(path, top / "srv-b")
        write(path, "a file now")


@pytest.mark.parametrize("happen", [appears, vanishes, becomes_a_folder, becomes_a_file], ids=lambda f: f.__name__)
def test_something_happens_in_between(tmp_path: Path, happen: Callable[[Path], None]) -> None:
    """At any instant of a run: what another program has made or taken since is neither lost nor passed off as ours."""
    original = bench(tmp_path / "original")
    file, cases, log, top = procedure(tmp_path / "p.toml", STEPS), tmp_path / "cases", tmp_path / "log", tmp_path / "tree"
    every = [(call, at) for call in ("open", "stat", "rename", "fsync") for at in range(1, {"rename": 6, "fsync": 12}.get(call, 120))]
    seen = 0
    wanted = every if EVERY else random.Random(happen.__name__).sample(every, 12)
    for call, at in wanted:
        for folder in (top, cases):
            shutil.rmtree(folder, ignore_errors=True)
        log.unlink(missing_ok=True)
        shutil.copytree(original, top, symlinks=True)
        for name, uid in (("mira", 1001), ("tomas", 1002)):
            os.chown(top / "home" / name, uid, -1)
        before = contents(top)
        event = Event(call, at, top, lambda: happen(top))
        words = ["run", str(file), "--on", f"root:{top}", "--yes", "--cases", str(cases)]
        code = run_until(words, 0, False, log, prepare=event.arm)[0]
        what = f"{happen.__name__} at {call} {at}: ended with {code}\n{log.read_text(errors='replace')[-1500:]}"
        assert "Traceback" not in what, what
        assert code in (0, 1, 3, 4), what
        now = contents(top)
        case = next(iter(cases.iterdir()), None) if cases.exists() else None
        if case is not None and (case / "case.db").exists():
            run_until(["undo", str(case), "--yes", "--quiet"], 0, False, log)
        after = contents(top)
        seen += now != before
        gone = set(before) - set(after) - ({"three" * 100, "b/three" * 100, "a/one" * 100} if happen is vanishes else set())
        replaced = {"b/three" * 100} if happen is becomes_a_folder else set()
        assert gone <= replaced, (what, gone)
        assert set(now) - set(before) <= set(after), f"{what}: what had appeared is lost"
    assert seen, "it never happened"


def contents(top: Path) -> set[str]:
    """The content of every file of the tree, set aside or in its place."""
    return {p.read_text() for p in top.rglob("*") if p.is_file() and not p.is_symlink() and "var/lib/kleff" not in str(p)}
