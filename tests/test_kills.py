"""Killed at any journal write: resume ends as an undisturbed run does, undo ends in the original state."""

from __future__ import annotations

import json
import os
import shutil
import stat
from pathlib import Path
from typing import Any

import pytest

from killing import KILLED, points, run_until
from kleff.workstation.lab.lab import Lab
from support import clone, differences, hives, procedure, tree, until, write

# One effect of each kind that has an inverse, a kept thing inside a folder, and a backup of each kind.
STEPS = r"""
[keep]
paths = ['C:\Garden\Brindlewort\**\*.keep']
[[backup]]
label = "licence"
paths = ['%ProgramData%\Brindlewort\licence.bwl']
[[backup]]
label = "settings"
key = 'HKCU\Software\Brindlewort\Tag Studio'
accounts = ["mira"]
[[stop]]
process = "tagstudio.exe"
[[stop]]
service = "BrindlewortPrintBridge"
[[stop]]
task = "Brindlewort*"
[[stop]]
startup = "tagtray.exe"
accounts = ["mira"]
[[delete]]
paths = ['C:\Garden\Brindlewort', 'C:\Users\till\.brindlewort']
[[delete]]
paths = ['C:\Garden']
only_if_empty = true
[[delete]]
key = 'HKLM\Software\Brindlewort\Tag Studio'
[[delete]]
value = "Tag Studio Tray"
in_key = 'HKCU\Software\Microsoft\Windows\CurrentVersion\Run'
accounts = ["till"]
"""


class Bench:
    """A lab, a procedure and a case folder; children of this process work on copies of it."""

    def __init__(self, master: Path, folder: Path) -> None:
        self.folder = folder
        self.original = clone(master, folder / "original")
        garden = self.original / "files/C/Garden/Brindlewort"
        write(garden / "a/one.txt", "1")
        write(garden / "a/two.keep", "2")
        write(garden / "b/three.txt", "3", mode=0o600)
        os.link(garden / "b/three.txt", garden / "b/four.txt")
        (garden / "b/link").symlink_to("../../../Users")
        os.setxattr(garden / "a/one.txt", "user.note", b"from the bench")
        os.utime(garden / "a", ns=(5 * 10**17, 5 * 10**17 + 7))
        os.utime(garden.parent, ns=(4 * 10**17, 4 * 10**17 + 9))
        write(self.original / "files/C/Windows/System32/Tasks/Brindlewort update", "<Task><Command>tagupdate.exe</Command></Task>")
        self.procedure = procedure(folder / "p.toml", STEPS)
        self.log = folder / "log.txt"

    def fresh(self) -> Path:
        """A new copy of the lab at the one place its case may be worked on."""
        for name in ("lab", "cases"):
            shutil.rmtree(self.folder / name, ignore_errors=True)
        return clone(self.original, self.folder / "lab")

    def do(self, *words: object, write: int = 0, after: bool = False) -> tuple[int, int]:
        return run_until([*map(str, words), "--cases", str(self.folder / "cases"), "--quiet"], write, after, self.log)

    def run(self, write: int = 0, after: bool = False) -> tuple[int, int]:
        return self.do("run", self.procedure, "--on", f"lab:{self.folder / 'lab'}", "--yes", write=write, after=after)

    def case(self) -> Path | None:
        found = list((self.folder / "cases").glob("*")) if (self.folder / "cases").exists() else []
        return found[0] if found else None

    def state(self) -> tuple[dict[str, Any], dict[str, Any], list[str]]:
        lab = self.folder / "lab"
        return tree(lab / "files/C"), hives(lab), sorted(Lab(lab).state().running_services) + Lab(lab).state().disabled_tasks

    def end_state(self) -> object:
        """What must be the same after every way to the end: content, registry, services, what is set aside; not folder times."""
        files, keys, services = self.state()
        plain = {p: v if not stat.S_ISDIR(int(str(v[0]))) else (v[0], *v[4:]) for p, v in files.items()}
        aside = sorted(tree(self.folder / "lab/files/C/.kleff").values(), key=repr) if (self.folder / "lab/files/C/.kleff").exists() else []
        content = [str(v[4]) for v in aside if v[4]]
        return plain, keys, services, sorted(content)


@pytest.fixture
def bench(lab_master: Path, tmp_path: Path) -> Bench:
    return Bench(lab_master, tmp_path)


def test_killed_then_resumed(bench: Bench) -> None:
    bench.fresh()
    code, writes = bench.run()
    assert code == 0, bench.log.read_text()
    wanted = bench.end_state()
    for write_number, after in points(writes, 1, 3):
        bench.fresh()
        assert bench.run(write_number, after)[0] == KILLED
        finish(bench, ["resume"])
        assert bench.end_state() == wanted, f"killed at write {write_number}, after={after}"


def finish(bench: Bench, verbs: list[str]) -> None:
    """What a technician does with a case that was cut off; one that was never begun is run anew."""
    case = bench.case()
    for verb in verbs:
        extra = ["--yes"] if verb == "undo" else []
        code = bench.do(verb, case, *extra)[0] if case else 1
        if verb == "resume" and code in (1, 3):
            assert bench.run()[0] == 0, bench.log.read_text()
        elif verb == "undo":
            assert code in (0, 1) if not case else code in (0, 1, 3), bench.log.read_text()


def test_killed_then_undone(bench: Bench) -> None:
    bench.fresh()
    before = bench.state()
    writes = bench.run()[1]
    for write_number, after in points(writes, 2, 3):
        bench.fresh()
        assert bench.run(write_number, after)[0] == KILLED
        finish(bench, ["undo"])
        assert compare(before, bench.state()) == [], f"killed at write {write_number}, after={after}"
        assert not (bench.folder / "lab/files/C/.kleff").exists(), f"killed at write {write_number}, after={after}"


def test_undo_killed_then_undone(bench: Bench) -> None:
    bench.fresh()
    before = bench.state()
    assert bench.run()[0] == 0
    complete = bench.folder / "complete"
    for name in ("lab", "cases"):
        shutil.copytree(bench.folder / name, complete / name, symlinks=True)
    writes = bench.do("undo", bench.case(), "--yes")[1]
    assert compare(before, bench.state()) == []
    for write_number, after in points(writes, 3, 2):
        bench.fresh()
        assert bench.run()[0] == 0
        assert bench.do("undo", bench.case(), "--yes", write=write_number, after=after)[0] == KILLED
        finish(bench, ["undo"])
        assert compare(before, bench.state()) == [], f"undo killed at write {write_number}, after={after}"


def test_killed_twice_then_undone(bench: Bench) -> None:
    """Killed in the run, killed in the resume, then taken back."""
    bench.fresh()
    before = bench.state()
    writes = bench.run()[1]
    for first, second in ((writes // 2, 3), (writes * 2 // 3, 8), (writes - 4, 2)):
        bench.fresh()
        assert bench.run(first)[0] == KILLED
        bench.do("resume", bench.case(), write=second, after=True)
        finish(bench, ["undo"])
        assert compare(before, bench.state()) == []


def compare(before: tuple[Any, Any, Any], after: tuple[Any, Any, Any]) -> list[str]:
    lines = differences(before[0], after[0]) + differences(before[1], after[1])
    return lines + ([f"services: {before[2]} -> {after[2]}"] if before[2] != after[2] else [])


def test_interrupted_by_a_signal(lab_master: Path, tmp_path: Path, kleff: Any) -> None:
    """Ctrl-C once ends cleanly after the effect in hand, exit 130; the case can be resumed."""
    import signal
    import subprocess

    lab = clone(lab_master, tmp_path / "lab")
    sample = Path(__file__).with_name("tag-studio.toml")
    words = [kleff.program, "run", shutil.copy(sample, tmp_path / "p.toml"), "--on", f"lab:{lab}", "--yes", "--cases", kleff.cases]
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        child = subprocess.Popen([*map(str, words)], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
        assert child.stderr is not None
        for line in child.stderr:
            if "end program tagtray.exe" in line:
                break
        child.send_signal(number)
        said = child.stderr.read()
        assert child.wait(30) == 130, said
        assert "stopping after what is in hand" in said
        assert "kleff resume" in said
        kleff("undo", kleff.case(), "--yes")
        kleff("lab", "restart", lab)


def at_work(cases: Path) -> list[int]:
    """The programs of a case that have not ended."""
    records = (json.loads(file.read_bytes()) for file in cases.glob("*/output/*.run"))
    return [record["program"] for record in records if record["program"] and record.get("code") is None]


def test_a_second_signal_stops_at_once_and_loses_nothing(lab_master: Path, tmp_path: Path, kleff: Any) -> None:
    """Twice while an uninstaller is at work: Kleff is gone at once, resume waits for the uninstaller and ends clean."""
    import signal
    import subprocess

    lab = clone(lab_master, tmp_path / "lab")
    text = (lab / "lab.toml").read_text().replace("takes = 0.4", "takes = 4").replace("hands_over = true", "hands_over = false")
    (lab / "lab.toml").write_text(text)
    sample = Path(__file__).with_name("tag-studio.toml")
    words = [kleff.program, "run", shutil.copy(sample, tmp_path / "p.toml"), "--on", f"lab:{lab}", "--yes", "--cases", kleff.cases]
    child = subprocess.Popen([*map(str, words)], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
    assert child.stderr is not None
    assert any("uninstall Brindlewort" in line for line in child.stderr)
    assert until(lambda: bool(at_work(kleff.cases)), step=0.001)
    (uninstaller,) = at_work(kleff.cases)
    os.kill(uninstaller, signal.SIGSTOP)  # it takes as long as this test does
    again = kleff("run", tmp_path / "p.toml", "--on", f"lab:{lab}", "--yes", code=3).err
    assert f"in use by process {child.pid}" in again, "at work is not unfinished"
    assert f"at work: process {child.pid}" in kleff("report", kleff.case()).out
    listed = kleff("cases").out
    assert "finish it" not in listed
    assert f"process {child.pid}" in listed
    child.send_signal(signal.SIGINT)
    assert any("stopping after what is in hand" in line for line in child.stderr)
    child.send_signal(signal.SIGINT)
    assert child.wait(60) == 130
    assert "kleff: stopped at once" in child.stderr.read()
    going_on = [str(kleff.program), "resume", str(kleff.case()), "--cases", str(kleff.cases)]
    resumed = subprocess.Popen(going_on, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    assert resumed.stderr is not None
    assert any("still at work: waiting for it" in line for line in resumed.stderr)
    os.kill(uninstaller, signal.SIGCONT)
    out, _ = resumed.communicate(timeout=120)
    assert resumed.returncode == 0
    assert "nothing is left" in out


def test_the_whole_demo_killed(lab_master: Path, tmp_path: Path) -> None:
    """Uninstallers included, which go on after Kleff is gone: resume ends clean, undo ends byte-identical."""
    bench = Bench(lab_master, tmp_path)
    sample = Path(__file__).with_name("tag-studio.toml")
    bench.procedure = Path(shutil.copy(sample, tmp_path / "tag-studio.toml"))
    bench.fresh()
    before = bench.state()
    code, writes = bench.run()
    assert code == 0, bench.log.read_text()
    wanted = bench.state()
    for number, (write_number, after) in enumerate(points(writes, 5, 1)):
        bench.fresh()
        assert bench.run(write_number, after)[0] == KILLED
        if number % 2:
            finish(bench, ["resume"])
            now = bench.state()
            assert (set(now[0]), set(now[1]), now[2]) == (set(wanted[0]), set(wanted[1]), wanted[2]), (write_number, after)
        else:
            finish(bench, ["undo"])
            assert compare(before, bench.state()) == [], (write_number, after)
