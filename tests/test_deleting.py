"""What is deleted by more than its path: before anything is uninstalled, thrown away, temporary, beside the system's own files."""

from __future__ import annotations

import time
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

import pytest

from kleff.errors import Refused
from memory import Bench, each_kill, states
from support import bad_step
from test_recycle_bin import first, second

EDGER = r"C:\Program Files\Rakeworks\Edger"
EARLY = f"""
[[evidence]]
entry = "Edger"
[[uninstall]]
entry = "Edger"
[[delete]]
paths = ['{EDGER}', 'C:\\ProgramData\\Edger']
[[delete]]
paths = ['{EDGER}\\logs', 'C:\\ProgramData\\Edger\\profiles']
before_uninstall = true
"""


# -- before anything is uninstalled ---------------------------------------------------------------------------


def edger(folder: Path) -> Bench:
    bench = Bench(folder)
    for name in ("edger.exe", r"logs\2026.log", "un.exe", r"help\de.txt"):
        bench.on.files.add(rf"{EDGER}\{name}", name)
    bench.on.files.add(r"C:\ProgramData\Edger\profiles\mira\beds.db", "beds")
    bench.on.entry("Edger", "Edger", "2.1", EDGER, rf"{EDGER}\un.exe", "Rakeworks")
    key = r"Software\Microsoft\Windows\CurrentVersion\Uninstall\Edger"

    def removes(words: Sequence[str]) -> tuple[int, str]:
        # It would take the logs along: they must be gone by then.
        assert bench.on.files.look(bench.on.files.path(rf"{EDGER}\logs")) is None
        bench.on.files.open_folder(bench.on.files.path(EDGER)).delete_tree("help", lambda items: None)
        bench.on.api.delete_key("HKLM", key)
        return 0, "bye"

    bench.on.behaves(rf"{EDGER}\un.exe", removes)
    return bench


def test_big_folders_first(tmp_path: Path) -> None:
    bench = edger(tmp_path)
    before = bench.files
    order = [(a.phase, a.target.rpartition("\\")[2]) for a in bench.plan(EARLY) if a.phase != "verify"]
    assert order == [("delete", "logs"), ("delete", "profiles"), ("uninstall", "Edger (2.1)"), ("delete", "Edger"), ("delete", "Edger")]
    job, ended = bench.run(EARLY)
    assert ended.clean
    assert bench.on.files.look(bench.on.files.path(EDGER)) is None
    assert job.undo().stays == []
    assert bench.files == before


@pytest.mark.parametrize("path", [EDGER, rf"{EDGER}\un.exe", r"C:\Program Files\Rakeworks"])
def test_never_what_is_still_needed(tmp_path: Path, path: str) -> None:
    bench = edger(tmp_path)
    early = EARLY.replace(rf"{EDGER}\logs", path)
    (found,) = (a for a in bench.plan(early) if a.target == path and a.state == "refused")
    assert "which uninstalls Edger" in found.reason
    before = bench.files
    with pytest.raises(Refused):
        bench.run(early)
    assert bench.files == before


def test_never_what_takes_in_again(tmp_path: Path) -> None:
    bench = edger(tmp_path)
    bench.on.files.add(rf"{EDGER}\logs\take.exe", "MZ")
    export = f"[[backup]]\nlabel = 'beds'\ncommand = ['{EDGER}\\edger.exe']\nsaves_as = 'x'\nrestore = ['{EDGER}\\logs\\take.exe']\n"
    assert "which takes in again what was saved" in " ".join(a.reason for a in bench.plan(EARLY + export))


# -- thrown away ------------------------------------------------------------------------------------------------

BIN = r"\$Recycle.Bin\S-1-5-21-1-2-3-100"
TRASH = f"[[delete]]\ntrash_of = ['{EDGER}', '{{user.roaming}}\\Edger']\n"


def bins(folder: Path) -> Bench:
    bench = Bench(folder)
    for account, number in (("mira", 1), ("tomas", 2)):
        for drive in ("C:", "D:"):
            for name, told in {
                "AAAAAA.log": second(rf"{EDGER}\logs\old.log", 3), "BBBBBB": first(rf"C:\Users\{account}\AppData\Roaming\Edger", 9),
                "CCCCCC.txt": second(rf"C:\Users\{account}\Documents\edger.txt", 4), "DDDDDD": second(rf"{EDGER} 2\x", 1),
            }.items():  # fmt: skip
                bench.on.files.add(rf"{drive}{BIN}{number}\$I{name}", told)
                bench.on.files.add(rf"{drive}{BIN}{number}\$R{name}" + (r"\beds.db" if name == "BBBBBB" else ""), name)
            bench.on.files.add(rf"{drive}{BIN}{number}\$IEEEEEE", second(EDGER, 1))  # its other half is gone
    return bench


def test_only_what_came_from_there(tmp_path: Path) -> None:
    bench = bins(tmp_path)
    before = bench.files
    job, ended = bench.run(TRASH)
    assert ended.clean
    left = {key[-1] for key in bench.files if "$Recycle.Bin" in key and key[-1].startswith("$")} - {"$Recycle.Bin"}
    assert left == {"$ICCCCCC.txt", "$RCCCCCC.txt", "$IDDDDDD", "$RDDDDDD", "$IEEEEEE"}
    assert job.undo().stays == []
    assert bench.files == before


def test_thrown_away_and_killed_anywhere(tmp_path: Path) -> None:
    for bench, job, before in each_kill(tmp_path, bins, TRASH):
        with suppress(Refused):
            job.resume()
        assert job.undo().stays == []
        assert bench.files == before


def test_a_bin_is_not_named_by_a_wildcard(tmp_path: Path) -> None:
    bench = bins(tmp_path)
    for paths in (r"C:\$Recycle.Bin\*\*AAAA.log", r"C:\$Recycle.Bin", rf"C:{BIN}1", rf"C:{BIN}1\$RAAAA*"):
        assert {a.state for a in bench.plan(f"[[delete]]\npaths = ['{paths}']\n") if a.phase == "delete"} == {"refused"}, paths


# -- temporary --------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("system", ["windows", "linux"])
def test_temporary_by_name_and_age(tmp_path: Path, system: str) -> None:
    bench = Bench(tmp_path, system)
    folders = [r"C:\Windows\Temp", r"C:\Users\mira\AppData\Local\Temp"] if system == "windows" else ["/tmp"]
    slash = "\\" if system == "windows" else "/"
    for folder in folders:
        for name in (f"bwk-beds-1{slash}x{slash}y", "bwk-beds-2.tmp", "bwk-labels.tmp", f"bwk-beds-3{slash}young", "other-beds.tmp"):
            bench.on.files.add(f"{folder}{slash}{name}", name)
        with (
            bench.on.files.parent(bench.on.files.path(f"{folder}{slash}bwk-beds-3{slash}young")) as (inside, name),
            inside.file(name) as file,
        ):
            file.set_times((time.time_ns(), time.time_ns()))
    before, step = bench.files, "[[delete]]\ntemp = 'bwk-beds-*'\n"
    assert [a.shows for a in bench.plan(step)] == [
        ["bwk-beds-1", "bwk-beds-2.tmp", "1 other changed less than 1d ago: kept"] for _ in folders
    ]
    job, ended = bench.run(step)
    assert ended.clean
    for folder in folders:
        assert [n for n in bench.names(folder) if slash not in n and "/" not in n] == ["bwk-beds-3", "bwk-labels.tmp", "other-beds.tmp"]
    assert job.undo().stays == []
    assert bench.files == before
    (first_row, *_) = bench.plan(step.replace("*'", "3'"))
    assert (first_row.state, first_row.reason) == ("kept", "1 thing changed less than 1d ago")


# -- beside the system's own files --------------------------------------------------------------------------------


def test_by_exact_pattern_beside_the_systems_own(tmp_path: Path) -> None:
    bench = Bench(tmp_path)
    drivers = r"C:\Windows\System32\drivers"
    for path in (rf"{drivers}\bwkprobe.sys", rf"{drivers}\bwkbus.sys", rf"{drivers}\bwrelay.sys", rf"{drivers}\kbdclass.sys",
                 r"C:\Windows\bwk.ini", r"C:\Windows\bwkprobe.ini", r"C:\Windows\win.ini"):  # fmt: skip
        bench.on.files.add(path, path)
    before = bench.files
    step = f"[[delete]]\npaths = ['{drivers}\\bwk*.sys', 'C:\\Windows\\bwk*.ini']\n"
    shown = [line for a in bench.plan(step) for line in a.shows]
    assert "beside it stays bwrelay.sys" in shown, shown
    job, ended = bench.run(step)
    assert ended.clean
    assert bench.names(drivers) == ["bwrelay.sys", "kbdclass.sys"]
    assert job.undo().stays == []
    assert bench.files == before
    refused = {
        rf"{drivers}\kbd*.sys": "is the system's own", rf"{drivers}\bw*.sys": "at least three letters", r"C:\Windows\win.ini": "own",
        r"C:\Windows\System32\bwk*.dll": "at least four", r"C:\Windows\System32": "own folders",
    }  # fmt: skip
    bench.on.files.add(r"C:\Windows\System32\bwkone.dll", "x")
    for path, reason in refused.items():
        assert reason in states(bench.plan(f"[[delete]]\npaths = ['{path}']\n")).popitem()[1][1], path
    bench.on.files.add(r"C:\Windows\Rakeworks\x", "x")
    assert "no folders" in states(bench.plan("[[delete]]\npaths = ['C:\\Windows\\Rakeworks']\n")).popitem()[1][1]


@pytest.mark.parametrize(
    ("lines", "said"),
    [
        ("temp = 'b*'", "at least 4 letters"),
        ("temp = 'x\\beds*'", "without folders"),
        ("temp = 'beds*'\nolder_than = 'long'", "not a duration"),
        ("temp = 'beds*'\nat_most = 0", "at_most"),
        ("trash_of = ['beds']", "not a whole path"),
        ("paths = ['C:\\Beds']\nbefore_uninstall = 1", "before_uninstall"),
        ("paths = ['C:\\Beds']\nbefore_uninstall = true\nafter_restart = true", "write one of them"),
    ],
)
def test_bad_input(lines: str, said: str) -> None:
    problems = bad_step(lines)
    assert any(said in problem for problem in problems), problems


def test_undone_with_what_was_thrown_away_since(tmp_path: Path) -> None:
    """What stands in its place by then stays, and so does what was set aside."""
    bench = bins(tmp_path)
    job, _ = bench.run(TRASH)
    bench.on.files.add(rf"C:{BIN}1\$RAAAAAA.log", "another")
    assert len(job.undo().stays) == 1
    assert bench.on.files.read(bench.on.files.path(rf"C:{BIN}1\$RAAAAAA.log")) == b"another"
