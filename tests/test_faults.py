"""System calls that fail: the case stays consistent, the message names thing and remedy, undo gives everything back."""

from __future__ import annotations

import contextlib
import json
import os
import random
import re
import shutil
import sqlite3
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


CALLS = ("rename", "mkdir", "fsync", "open", "read", "write", "stat", "replace", "link", "unlink")
AT_MOST = {"stat": 60, "open": 60, "unlink": 8, "link": 4}  # of how many calls one is drawn
Draw = tuple[str, int, str, str, bool]  # error, which call, the command, whose files, whether for good


def draws(call: str) -> list[Draw]:
    """All, or a seeded sample."""
    every = [
        (name, at, verb, where, for_good)
        for name in CODES for at in range(1, AT_MOST.get(call, 14)) for verb in ("run", "resume", "undo")
        for where in ("tree", "cases") for for_good in (False, True)
    ]  # fmt: skip
    return random.Random(call).sample(every, int(os.environ.get("KLEFF_DRAWS", "300" if EVERY else "9")))


def mounted_anew(case: Path) -> None:
    """As a restart does it: what was not flushed lies on a volume that was mounted at another time."""
    with contextlib.closing(sqlite3.connect(case / "case.db")) as db:
        found = db.execute("SELECT value FROM meta WHERE key='unflushed'").fetchone()
        if found and found[0]:
            told = {**json.loads(found[0]), "volume": "another mount"}
            db.execute("UPDATE meta SET value=? WHERE key='unflushed'", (json.dumps(told),))
            db.commit()


@pytest.mark.parametrize("call", CALLS)
def test_a_call_that_fails(tmp_path: Path, call: str) -> None:
    """On the workstation's files and on the case's, in a run, a resume, an undo: "nothing was changed" is true where it is said; what stays
    open names its case and the way on; and that way ends in the original state.
    """
    original = bench(tmp_path / "original")
    file, cases, log, top = procedure(tmp_path / "p.toml", STEPS), tmp_path / "cases", tmp_path / "log", tmp_path / "tree"
    run = ["run", str(file), "--on", f"root:{top}", "--yes", "--cases", str(cases)]

    def held() -> dict[str, object]:
        return {name: what for name, what in tree(top, skip=()).items() if "var/lib/kleff" not in name}

    for name, at, verb, where, for_good in draws(call):
        for folder in (top, cases):
            shutil.rmtree(folder, ignore_errors=True)
        log.unlink(missing_ok=True)
        shutil.copytree(original, top, symlinks=True)
        for path in ("home/mira", "home/tomas"):
            os.chown(top / path, 1001 if "mira" in path else 1002, -1)
        before = tree(top)
        if verb != "run":
            run_until(run, 30 if verb == "resume" else 0, True, log)
        case = next(iter(cases.iterdir()), None) if cases.exists() else None
        words = run if verb == "run" else [verb, str(case), *(["--yes"] if verb == "undo" else [])]
        at_first = held()
        code = run_until(words, 0, False, log, prepare=Fault(call, at, CODES[name], tmp_path / where, for_good).arm)[0]
        said = log.read_text(errors="replace")
        what = f"{verb}: {call} {at} {name} on {where}, {for_good=}: ended with {code}\n{said[-1500:]}"
        assert "Traceback" not in said, what
        assert code in (0, 1, 3, 4), what
        case = case or (next(iter(cases.iterdir()), None) if cases.exists() else None)
        if code == 3:
            assert held() == at_first, what
        if code in (1, 3):
            assert "What to do" in said, what
            assert "the system: " not in said, what
        if code == 1 and case is not None:
            assert f"kleff undo {case}" in said, what
        if code in (1, 3) and name in FITS and f": {os.strerror(CODES[name])}" in said.rpartition("kleff: ")[2].partition("What to do")[0]:
            assert re.search(f"{FITS[name]}|--cases", said.rpartition("What to do")[2]), what
        if case is not None and (case / "case.db").exists():
            mounted_anew(case)
            again = run_until(["undo", str(case), "--yes", "--quiet"], 0, False, log)[0]
            assert again in (0, 3), f"{what}\nundone with {again}: {log.read_text(errors='replace')[-1500:]}"
        found = [d for d in differences(before, tree(top, skip=())) if "var/lib/kleff" not in d]
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
