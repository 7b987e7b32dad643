"""Known before, said before; and what a program said at a failure, whole enough to act on."""

from __future__ import annotations

import os
import socket
import subprocess
import sys
from pathlib import Path

import pytest

from debs import NEEDED
from kleff.errors import Refused, Stopped
from kleff.report.full_plan import full_plan
from memory import Bench, delete
from support import IS_ROOT, Kleff, linux_tree, procedure, write

HOE = r"C:\Program Files\Rakeworks\Hoe"


def test_what_is_done_by_hand_in_between_is_said_first(folder: Path) -> None:
    bench = Bench(folder)
    bench.on.entry("Hoe", "Rakeworks Hoe", "2.0", HOE, "", "Rakeworks")
    made = bench.preview("[[evidence]]\nentry = 'Rakeworks Hoe'\n[[uninstall]]\nentry = 'Rakeworks Hoe'\npublisher = 'Rakeworks'\n")
    assert "BY HAND IN BETWEEN: Rakeworks Hoe (2.0): no quiet way is known" in full_plan(made.here, made.plan).text().splitlines()[1]


def test_a_package_manager_at_work_refuses_before_anything(folder: Path) -> None:
    """By name and number; the service is not stopped first."""
    bench = Bench(folder, "linux")
    bench.on.packages.add("hoe", "1.0", ["/usr/bin/hoe"])
    bench.on.services.add("hoe")
    bench.on.packages.busy_with = "apt-get, number 4711"
    with pytest.raises(Refused, match="apt-get, number 4711 is installing or removing packages"):
        bench.run("[[stop]]\nservice = 'hoe'\n[[purge]]\npackage = 'hoe'\n")
    assert bench.on.services.known["hoe"].running


@pytest.mark.skipif(not IS_ROOT, reason="works in another tree, which needs root")
def test_who_holds_a_real_lock(tmp_path: Path) -> None:
    from kleff.workstation.open import open_workstation

    top = linux_tree(tmp_path / "tree")
    lock = write(top / "var/lib/dpkg/lock-frontend")
    holds = "import fcntl,sys,time; f=open(sys.argv[1],'r+'); fcntl.lockf(f, fcntl.LOCK_EX); print('held', flush=True); time.sleep(60)"
    packages = open_workstation(f"root:{top}").packages
    assert packages is not None
    assert packages.at_work() == ""
    child = subprocess.Popen([sys.executable, "-c", holds, str(lock)], stdout=subprocess.PIPE, text=True)
    try:
        assert child.stdout is not None
        assert child.stdout.readline() == "held\n"
        assert packages.at_work().endswith(f", number {child.pid}")
    finally:
        child.kill()
        child.wait()
    assert packages.at_work() == ""


def test_the_last_lines_of_a_failure(folder: Path, kleff: Kleff) -> None:
    """Twenty of them, and the path of all."""
    bench = Bench(folder)
    bench.on.entry("Hoe", "Rakeworks Hoe", "2.0", HOE, rf"{HOE}\unins.exe", "Rakeworks")
    bench.on.behaves(rf"{HOE}\unins.exe", lambda argv: (9, "".join(f"line {n}\r\n" for n in range(40))))
    job = bench.job("[[uninstall]]\nentry = 'Rakeworks Hoe'\npublisher = 'Rakeworks'\n" + delete(HOE))
    with pytest.raises(Stopped) as stopped:
        job.run(job.preview(), bench.folder / "cases")
    assert stopped.value.said == [f"line {n}" for n in range(20, 40)]
    assert "output/0001.txt" in stopped.value.remedy
    from kleff.cli.terminal.errors import tell

    tell(stopped.value)


@pytest.mark.parametrize("content", [b"", None])
def test_killed_before_the_first_word(kleff: Kleff, lab: Path, tmp_path: Path, content: bytes | None) -> None:
    """Between the making of `case.db` and its filling: never begun, and nothing stands in the way of the next run."""
    case = kleff.cases / "2026-01-01-hoe-1"
    case.mkdir(parents=True)
    if content is None:
        import sqlite3

        with sqlite3.connect(case / "case.db") as db:
            db.execute("PRAGMA journal_mode=WAL")
        db.close()
    else:
        (case / "case.db").write_bytes(content)
    for command in ("report", "undo", "resume"):
        assert "was never begun" in kleff(command, case, code=3).err
    assert "was never begun" in kleff("cases").out
    write(lab / "files/C/Garden/seed.txt")
    kleff("run", procedure(tmp_path / "p.toml", "[[delete]]\npaths = ['C:\\Garden']\n"), "--on", f"lab:{lab}", "--yes")


@pytest.mark.skipif(not IS_ROOT or not NEEDED, reason="works in another tree, which needs root")
def test_dead_sockets_are_no_failure_of_an_undo(tmp_path: Path) -> None:
    """Many of them are one line, and the undo is clean."""
    from kleff.case.aside.area import Area
    from kleff.case.aside.spare import Spare
    from kleff.case.aside.spare_plan import SparePlan
    from kleff.workstation.open import open_workstation

    top = linux_tree(tmp_path / "tree")
    place = write(top / "opt/shed/x").parent
    for n in range(3):
        socket.socket(socket.AF_UNIX).bind(str(place / f"s{n}"))
    os.mkfifo(place / "p")
    files = open_workstation(f"root:{top}").files
    (tmp_path / "case/undo").mkdir(parents=True)
    spare = Spare(files, None, Area(files, "c", set()), tmp_path / "case", 1)
    path = files.path("/opt/shed")
    assert path is not None
    index = spare.make(SparePlan(places=[path]))
    for one in place.iterdir():
        one.unlink()
    assert spare.bring_back(index) == []
    assert spare.not_back == "; without 4 dead sockets and pipes"
    assert (place / "x").exists()


def test_commands_are_named_as_the_program_was_called(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """By its path where it was called so; the one unfinished case needs no name; one that is not found says where was looked."""
    write(lab / "files/C/Garden/seed.txt")
    step = "[[uninstall]]\nentry = 'Brindlewort Tag Studio 4.2'\npublisher = 'B*'\n"
    file = procedure(tmp_path / "p.toml", "[[delete]]\npaths = ['C:\\Garden']\n" + step)
    assert f"there is no such case in {kleff.cases}" in kleff("report", "nothing", code=3).err
    assert f"no case in {kleff.cases} is unfinished" in kleff("resume", code=2).err
    kleff("run", file, "--on", f"lab:{lab}", "--yes", code=None)
    for text in (kleff("report", kleff.case()).out, kleff("resume", code=1).err):
        assert f"{kleff.program} " in text
        assert " kleff " not in text.replace(f"{kleff.program} ", "")
    kleff("undo", "--yes")
    assert (lab / "files/C/Garden/seed.txt").exists()
