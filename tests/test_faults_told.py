"""What faults have taught: marks of two case folders, full volumes, lost journal entries, failed flushes, two runs at once, read errors."""

from __future__ import annotations

import contextlib
import errno
import os
import shutil
import sqlite3
import subprocess
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import kleff.workstation.posix.calls as calls
from killing import run_until
from kleff.case.record.folder import open_case
from kleff.case.record.unfinished import lock
from kleff.engine.job import Job
from kleff.errors import Refused
from kleff.workstation.open import open_workstation
from kleff.workstation.posix.calls import write_atomic
from support import IS_ROOT, Kleff, differences, linux_tree, procedure, tree, write

STEPS = "[[delete]]\npaths = ['/opt/brindlewort', '/var/lib/brindlewort']\n"
pytestmark = pytest.mark.skipif(not IS_ROOT, reason="needs root: works on a tree")


@pytest.fixture
def top(tmp_path: Path) -> Path:
    top = linux_tree(tmp_path / "tree")
    for name in ("opt/brindlewort/a/one", "opt/brindlewort/b/two", "var/lib/brindlewort/state"):
        write(top / name, name * 100)
    return top


def held(top: Path) -> dict[str, Any]:
    return {name: what for name, what in tree(top, skip=()).items() if "var/lib/kleff" not in name}


def cut_off(kleff: Kleff, top: Path, file: Path, cases: Path, write_at: int = 9) -> Path:
    """A case that was killed in the middle."""
    words = ["run", str(file), "--on", f"root:{top}", "--yes", "--quiet", "--cases", str(cases)]
    code, _ = run_until(words, write_at, True, kleff.folder / "log")
    assert code == -9, (kleff.folder / "log").read_text()
    return next(iter(cases.iterdir()))


def test_two_folders_of_cases(kleff: Kleff, top: Path, tmp_path: Path) -> None:
    """Cases of one name in two folders: undo of the one leaves the other's mark, so the next run is blocked as it was."""
    file = procedure(tmp_path / "p.toml", STEPS)
    kleff("run", file, "--on", f"root:{top}", "--yes", code=None)
    ended = kleff.case()
    kleff("undo", ended, "--yes")
    kleff("run", file, "--on", f"root:{top}", "--yes", code=None)
    second = max(kleff.cases.iterdir(), key=lambda p: p.name)
    kleff("undo", second, "--yes")
    other = tmp_path / "elsewhere"
    unfinished = cut_off(kleff, top, file, other)
    assert unfinished.name == ended.name
    kleff("undo", ended, "--yes", code=3)
    kleff("run", file, "--on", f"root:{top}", "--yes", code=3)
    kleff("undo", unfinished, "--yes", cases=False)
    kleff("run", file, "--on", f"root:{top}", "--yes", code=None)


@pytest.fixture
def small(tmp_path: Path) -> Iterator[Path]:
    """A volume of its own with little room."""
    image, point = tmp_path / "volume.img", tmp_path / "volume"
    point.mkdir()
    with image.open("wb") as out:
        out.truncate(24 << 20)
    subprocess.run(["mkfs.ext4", "-q", "-F", image], check=True)
    if subprocess.run(["mount", "-o", "loop", image, point], capture_output=True).returncode:
        pytest.skip("no loop device can be mounted here")
    yield point
    subprocess.run(["umount", "-l", point], check=True)


def fill(volume: Path) -> None:
    """To the last byte, as an ordinary program does it, and what root could have besides."""
    with contextlib.suppress(OSError), (volume / "filler").open("wb") as out:
        while True:
            out.write(bytes(1 << 16))
            out.flush()
    with contextlib.suppress(OSError), (volume / "filler2").open("wb") as out:
        while True:
            out.write(b"x")
            out.flush()


@pytest.mark.parametrize("verb", ["resume", "undo", "undo finished"])
def test_on_a_full_workstation(kleff: Kleff, top: Path, small: Path, tmp_path: Path, verb: str) -> None:
    """Workstation and cases on one volume that is full to the last byte: moving back needs no room, so it is done."""
    shutil.copytree(top, small / "tree", symlinks=True)
    before = tree(small / "tree")
    file, cases = procedure(tmp_path / "p.toml", STEPS), small / "cases"
    if verb == "undo finished":
        kleff("run", file, "--on", f"root:{small / 'tree'}", "--yes", "--cases", cases, cases=False, code=None)
        case = next(iter(cases.iterdir()))
    else:
        case = cut_off(kleff, small / "tree", file, cases)
    fill(small)
    assert os.statvfs(small).f_bavail == 0
    words = [verb.split()[0], case, *(["--yes"] if verb != "resume" else [])]
    kleff(*words, cases=False, code=None if verb == "resume" else 0)
    if verb == "resume":
        kleff("undo", case, "--yes", cases=False)
    assert [d for d in differences(before, tree(small / "tree")) if "var/lib/kleff" not in d] == []


def test_entries_that_were_lost(kleff: Kleff, top: Path, tmp_path: Path) -> None:
    """A journal that lost its last entries: what lies in the case's own area and is in none is told, and nothing is called taken back."""
    case = cut_off(kleff, top, procedure(tmp_path / "p.toml", STEPS), kleff.cases)
    assert any(path.name.isdigit() for path in (top / ".kleff").rglob("*"))
    with contextlib.closing(sqlite3.connect(case / "case.db")) as db:
        db.execute("DELETE FROM effects")
        db.commit()
    said = kleff("undo", case, "--yes", code=4)
    assert "still lies aside, and the journal does not know any more where it came from" in said.out
    assert f"/.kleff/{case.name}/0001" in said.out


def test_what_was_not_flushed_is_not_done(kleff: Kleff, top: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """After a flush that failed nothing that the same mount shows is believed: neither by the run, nor by the next command, until the
    volume was mounted anew. Then the disk is looked at.
    """
    before, flush, fails = held(top), os.fsync, [True]

    def failing(fd: int) -> None:
        if fails[0] and calls.host_path(fd) == str(top / "opt"):
            raise OSError(errno.EIO, os.strerror(errno.EIO))
        flush(fd)

    monkeypatch.setattr(os, "fsync", failing)
    file = procedure(tmp_path / "p.toml", STEPS)
    said = kleff("run", file, "--on", f"root:{top}", "--yes", code=1)
    case = kleff.case()
    assert f"{top}/opt: what was done cannot be brought to the disk: Input/output error" in said.err
    assert f"kleff undo {case}" in said.err
    with open_case(case) as known:
        assert {one.state for one in known.journal.effects()} == {"intended"}
    fails[0] = False
    for verb in (["resume"], ["undo", "--yes"]):
        again = kleff(verb[0], case, *verb[1:], code=1)
        assert "what the system shows of it is not believed" in again.err
    with open_case(case) as known:
        assert {one.state for one in known.journal.effects()} == {"intended"}
    monkeypatch.setattr(calls, "mount_of", lambda fd: "another mount")
    monkeypatch.setattr("kleff.workstation.posix.host.mount_of", lambda fd: "another mount")
    kleff("undo", case, "--yes")
    assert held(top) == before


def test_two_runs_at_one_instant(kleff: Kleff, top: Path, tmp_path: Path) -> None:
    """A plan of before another's work is not begun: the second is refused, nothing is changed by it, and no case is left."""
    file, other = procedure(tmp_path / "p.toml", STEPS), tmp_path / "other"
    job = Job.open(file, f"root:{top}")
    made = job.preview([])
    kleff("run", file, "--on", f"root:{top}", "--yes", code=None)
    after = held(top)
    with pytest.raises(Refused, match="another Kleff has been at work on it since this plan was made"):
        job.run(made, other)
    assert held(top) == after
    assert not other.exists() or list(other.iterdir()) == []
    workstation, entered = open_workstation(f"root:{top}"), threading.Event()

    def works() -> None:
        with lock(workstation, "running"):
            entered.set()

    stale = job.preview([])
    thread = threading.Thread(target=works)
    thread.start()
    thread.join()
    assert entered.is_set()
    with pytest.raises(Refused, match="at work on it since"):
        job.run(stale, other)


def test_a_disk_that_does_not_read(kleff: Kleff, top: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A read error is told as one, with the file; the case is not called damaged, and nothing advises to replace it."""
    kleff("run", procedure(tmp_path / "p.toml", STEPS), "--on", f"root:{top}", "--yes", code=None)
    case = kleff.case()
    original = sqlite3.connect

    class Failing(sqlite3.Connection):
        def execute(self, sql: str, *more: Any) -> sqlite3.Cursor:
            if "FROM effects" in sql or "FROM actions" in sql:
                raise _io_error()
            return super().execute(sql, *more)

    monkeypatch.setattr(sqlite3, "connect", lambda *a, **k: original(*a, **k, factory=Failing))
    for words in (["report", case], ["undo", case, "--yes"], ["discard", case, "--yes"]):
        said = kleff(*words, code=None)
        assert said.code in (1, 3)
        assert "disk I/O error" in said.err
        assert str(case / "case.db") in said.err
        assert "restore the case folder from a copy" not in said.err
    monkeypatch.undo()
    kleff("undo", case, "--yes")


def test_a_run_that_cannot_close_its_case(kleff: Kleff, top: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """All is done and looked at, and only the last entry cannot be written: the verdict stands there, and the way to close the case."""
    original = sqlite3.connect

    class Failing(sqlite3.Connection):
        def executemany(self, sql: str, values: Any) -> sqlite3.Cursor:
            rows = list(values)
            if ("state", "finished") in rows:
                raise _io_error()
            return super().executemany(sql, rows)

    monkeypatch.setattr(sqlite3, "connect", lambda *a, **k: original(*a, **k, factory=Failing))
    said = kleff("run", procedure(tmp_path / "p.toml", STEPS), "--on", f"root:{top}", "--yes", code=1)
    case = kleff.case()
    assert "Sample is gone from bench-01" in said.out
    assert "the case cannot be written: disk I/O error" in said.err
    assert f"kleff resume {case}" in said.err
    monkeypatch.undo()
    kleff("run", tmp_path / "p.toml", "--on", f"root:{top}", "--yes", code=3)
    kleff("resume", case)
    kleff("undo", case, "--yes")


def _io_error() -> sqlite3.OperationalError:
    error = sqlite3.OperationalError("disk I/O error")
    error.sqlite_errorname = "SQLITE_IOERR_WRITE"
    return error


def test_a_copy_of_a_tree(kleff: Kleff, top: Path, tmp_path: Path) -> None:
    """It is another workstation; the message says where the case belongs, and how what it saved is put back on the copy."""
    file = procedure(tmp_path / "p.toml", "[[backup]]\nlabel = 'state'\npaths = ['/var/lib/brindlewort']\n" + STEPS)
    kleff("run", file, "--on", f"root:{top}", "--yes", code=None)
    case, copy = kleff.case(), tmp_path / "copy"
    top.rename(copy)
    shutil.copytree(copy, top, symlinks=True)
    said = kleff("undo", case, "--yes", code=3)
    assert f"the case was made on another workstation (bench-01, root:{top})" in said.err
    words = said.err.rpartition("kleff restore ")[2].split()
    assert words[:2] == [str(case / "bag"), "--procedure"]
    kleff("restore", case / "bag", "--procedure", file, "--on", f"root:{top}", "--yes", code=None)
    assert (top / "var/lib/brindlewort/state").exists()


def test_nothing_of_a_run_that_cannot_begin(kleff: Kleff, top: Path, tmp_path: Path) -> None:
    """Where not even the mark can be written: refused, nothing is changed, and no case and no mark are left."""
    (top / "var/lib/kleff/unfinished.json").mkdir(parents=True)
    before = held(top)
    said = kleff("run", procedure(tmp_path / "p.toml", STEPS), "--on", f"root:{top}", "--yes", code=None)
    assert said.code == 3
    assert held(top) == before
    assert not kleff.cases.exists() or list(kleff.cases.iterdir()) == []


def test_a_file_of_one_that_was_cut_off(tmp_path: Path) -> None:
    """After a restart numbers of processes come again: what one of that number has left stops nobody."""
    left = write(tmp_path / f".kept.json.{os.getpid()}.part", "half")
    write_atomic(tmp_path / "kept.json", b"whole")
    assert (tmp_path / "kept.json").read_bytes() == b"whole"
    assert not left.exists()
