"""Readiness: facts that must hold, waived by name; manual steps, confirmed or proven; rights and room."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

import pexpect
import pytest

from killing import run_until
from kleff.registry.values import text_value
from kleff.workstation.lab.workstation import open_lab
from support import IS_ROOT, Kleff, differences, ended, linux_tree, procedure, tree, write

GARDEN = "[[delete]]\npaths = ['C:\\Garden']\n"
FACTS = """
[[before]]
power = "mains"
enough = 60
[[before]]
restart = "none-pending"
[[before]]
installers = "none-at-work"
[[before]]
signed_in = "nobody-else"
[[before]]
rights = "administrator"
[[before]]
bits = 64
[[before]]
system_version = ">=10.0.19041"
[[before]]
entry = "Brindlewort Stocktake*"
must_be = "there"
[[before]]
path = '%ProgramData%\\Brindlewort\\held'
must_be = "absent"
waivable = true
"""


@pytest.fixture
def garden(lab: Path) -> Path:
    return write(lab / "files/C/Garden/seed.txt").parent


def is_so(lab: Path, lines: str = "", key: str = "", value: str = "") -> None:
    """Change what the lab is busy with."""
    file = lab / "lab.toml"
    file.write_text(file.read_text().replace("\nname =", f"\n{lines}\nname =", 1))
    if key:
        registry = open_lab(lab).registry
        assert registry is not None
        for ref in registry.canonical(key, view=64):
            registry.api.create(ref.hive, ref.physical)
            if value:
                registry.api.set(ref.hive, ref.physical, text_value(value, "x"))
        registry.api.flush()


PENDING = r"HKLM\SYSTEM\CurrentControlSet\Control\Session Manager"
CURRENT = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion"
BUSY: dict[str, tuple[dict[str, str], str]] = {
    "power": ({"lines": "battery = 59"}, "on battery with 59 %: connect the power supply"),
    "restart": ({"key": PENDING, "value": "PendingFileRenameOperations"}, "files wait to be deleted or replaced at the next start"),
    "installers": ({"key": CURRENT + r"\Installer\InProgress"}, "the installer service is at work: let it end first"),
    "signed_in": ({"lines": 'sessions = ["tomas", "till"]'}, "tomas, till: ask them to save their work"),
    "bits": ({"lines": "bits = 32"}, "32-bit: use the procedure that is meant for this system"),
}


@pytest.mark.parametrize("name", BUSY)
def test_a_fact_that_does_not_hold_refuses_the_run_unless_waived(kleff: Kleff, lab: Path, garden: Path, tmp_path: Path, name: str) -> None:
    file, on = procedure(tmp_path / "p.toml", FACTS + GARDEN), ("--on", f"lab:{lab}")
    kleff("preview", file, *on)
    change, message = BUSY[name]
    is_so(lab, **change)
    before = tree(lab / "files")
    done = kleff("run", file, *on, "--yes", code=3)
    assert message in done.err
    assert f"--waive {name}" in done.err
    assert "NOT READY: " in kleff("preview", file, *on, code=3).out
    assert differences(before, tree(lab / "files")) == []
    assert not kleff.cases.exists()
    kleff("run", file, *on, "--yes", "--waive", name)
    assert not garden.exists()
    assert "; waived" in kleff("report", kleff.case()).out


def test_enough_battery_and_what_must_be_absent(kleff: Kleff, lab: Path, garden: Path, tmp_path: Path) -> None:
    file, on = procedure(tmp_path / "p.toml", FACTS + GARDEN), ("--on", f"lab:{lab}")
    is_so(lab, "battery = 60")
    write(lab / "files/C/ProgramData/Brindlewort/held")
    assert "held is there: remove it first, or  --waive path" in kleff("run", file, *on, "--yes", code=3).err
    assert "'entry' cannot be waived" in kleff("run", file, *on, "--yes", "--waive", "entry", code=2).err
    kleff("run", file, *on, "--yes", "--waive", "path")


MANUAL = """
[[before]]
manual = "Write down the serial number."
id = "serial"
[[before]]
manual = "Unplug the soil probe."
proof = { path = 'C:\\Probe', must_be = "absent" }
[[before]]
manual = "Let the label database rest."
proof = { command = ['%ProgramFiles%\\Brindlewort\\Tag Studio 4\\bin\\tagdb.exe', 'list'], says = "Bed 40" }
[[after]]
manual = "Give the person the note."
id = "note"
"""


def test_manual_steps_are_confirmed_with_who_and_when_or_proven(kleff: Kleff, lab: Path, garden: Path, tmp_path: Path) -> None:
    file, on = procedure(tmp_path / "p.toml", MANUAL + GARDEN), ("--on", f"lab:{lab}")
    probe = write(lab / "files/C/Probe")
    err = kleff("run", file, *on, "--yes", code=3).err
    assert "Write down the serial number. (to be confirmed: --confirmed serial)" in err
    assert r"Unplug the soil probe. (not yet: C:\Probe is there)" in err
    assert "label database" not in err
    assert "no manual step has the id 'seriel'" in kleff("run", file, *on, "--yes", "--confirmed", "seriel", code=2).err
    kleff("run", file, *on, "--yes", "--confirmed", "serial", code=3)
    probe.unlink()
    kleff("run", file, *on, "--yes", "--confirmed", "serial", "--technician", "Mira")
    report = kleff("report", kleff.case()).out
    assert "Write down the serial number.  confirmed by Mira at 2" in report
    assert "Still to be done by hand" in report
    assert "Give the person the note." in report


def test_manual_steps_one_by_one_on_a_terminal(kleff: Kleff, lab: Path, garden: Path, tmp_path: Path) -> None:
    file = procedure(tmp_path / "p.toml", MANUAL + GARDEN)
    probe = write(lab / "files/C/Probe")
    words = ["run", str(file), "--on", f"lab:{lab}", "--cases", str(kleff.cases)]
    child = pexpect.spawn(str(kleff.program), words, encoding="utf-8", timeout=30, dimensions=(50, 160))
    child.expect("By hand, 1 of 2: Write down the serial number.")
    child.expect("done")
    child.sendline("y")
    child.expect("By hand, 2 of 2: Unplug the soil probe.")
    child.sendline("")
    child.expect("not yet: C:.Probe is there")
    probe.unlink()
    child.sendline("")
    child.expect("Do this on POTTING-02")
    child.sendline("n")
    assert ended(child) == 3
    assert garden.exists()


def test_a_manual_step_in_the_middle_stops_there(kleff: Kleff, lab: Path, garden: Path, tmp_path: Path) -> None:
    """What needs a person while things are stopped: the case stays open until it is confirmed."""
    body = '[[stop]]\nmanual = "Sign out of the cloud."\nid = "cloud"\n' + GARDEN
    file = procedure(tmp_path / "p.toml", body)
    assert "to be confirmed: --confirmed cloud" in kleff("run", file, "--on", f"lab:{lab}", "--yes", code=1).err
    assert garden.exists()
    kleff("resume", kleff.case(), code=1)
    kleff("resume", kleff.case(), "--confirmed", "cloud")
    assert not garden.exists()


# -- real Linux ---------------------------------------------------------------------------------------------------

HOLD = "import fcntl, sys\nf = open(sys.argv[1], 'w')\nfcntl.lockf(f, fcntl.LOCK_EX)\nprint('held', flush=True)\nsys.stdin.read()\n"


@pytest.mark.skipif(not IS_ROOT, reason="needs root: another tree")
def test_a_package_manager_at_work_and_a_pending_restart(kleff: Kleff, tmp_path: Path) -> None:
    top = linux_tree(tmp_path / "tree")
    write(top / "opt/garden/seed")
    write(top / "etc/os-release", 'VERSION_ID="12"\n')
    body = '[[before]]\ninstallers = "none-at-work"\n[[before]]\nrestart = "none-pending"\n[[before]]\nsystem_version = ">=12"\n'
    file = procedure(tmp_path / "p.toml", body + "[[delete]]\npaths = ['/opt/garden']\n")
    on = ("--on", f"root:{top}")
    lock = write(top / "var/lib/dpkg/lock-frontend", "")
    holder = subprocess.Popen([sys.executable, "-c", HOLD, lock], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    assert holder.stdout is not None
    assert holder.stdout.readline() == "held\n"
    assert f"(number {holder.pid}) holds /var/lib/dpkg/lock-frontend" in kleff("run", file, *on, "--yes", code=3).err
    holder.communicate("")
    write(top / "run/reboot-required")
    write(top / "run/reboot-required.pkgs", "linux-image\n")
    assert "the system asks for one (linux-image ...)" in kleff("run", file, *on, "--yes", code=3).err
    (top / "run/reboot-required").unlink()
    kleff("run", file, *on, "--yes")


@pytest.mark.skipif(not IS_ROOT or not shutil.which("mount"), reason="needs root and mount: a volume that is too small")
def test_no_room_for_the_bag(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """Told before anything is begun; packed it may fit all the same."""
    small = tmp_path / "small"
    small.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=768k,mode=700", "tmpfs", small], check=True)
    try:
        write(lab / "files/C/Garden/seed.txt", b"0" * 900_000)
        file = procedure(tmp_path / "p.toml", "[[backup]]\npaths = ['C:\\Garden']\n" + GARDEN)
        words = ("run", file, "--on", f"lab:{lab}", "--yes", "--cases", small / "cases")
        assert "878.9 KiB are to be saved" in kleff(*words, code=3, cases=False).err
        assert not (small / "cases").exists()
        kleff(*words, "--waive", "space", cases=False)
    finally:
        subprocess.run(["umount", small], check=True)


@pytest.mark.skipif(not IS_ROOT, reason="needs root: to become an ordinary account")
@pytest.mark.usefixtures("this_machine")
def test_rights_are_asked_for_only_where_an_action_needs_them() -> None:
    """As an ordinary account: one's own folder goes, the system's is refused before anything is done."""
    with tempfile.TemporaryDirectory(prefix="kleff-test-") as folder:  # the test's own folder may be entered by root alone
        Path(folder).chmod(0o755)
        _as_an_ordinary_account(Path(folder))


def _as_an_ordinary_account(tmp_path: Path) -> None:
    mine, others, log = tmp_path / "mine", tmp_path / "others", tmp_path / "log"
    for place in (mine, others):
        write(place / "thing/file")
    for path in (mine, mine / "thing", mine / "thing/file"):
        os.chown(path, 4711, 4711)
    (tmp_path / "cases").mkdir()
    os.chown(tmp_path / "cases", 4711, 4711)
    own = procedure(tmp_path / "own.toml", f"[[delete]]\npaths = ['{mine}/thing']\n")
    system = procedure(tmp_path / "system.toml", f"[[delete]]\npaths = ['{mine}/thing', '{others}/thing']\n")

    def run(*words: object) -> int:
        prepare = lambda: os.environ.update(XDG_STATE_HOME=str(tmp_path / "cases/state"))  # noqa: E731
        return run_until([*map(str, words), "--yes", "--quiet"], 0, False, log, account=4711, prepare=prepare)[0]

    common = ("--on", "this", "--cases", tmp_path / "cases")
    assert run("run", system, *common) == 3, log.read_text()
    assert "an administrator's rights are needed for 1 action" in log.read_text()
    assert (mine / "thing").exists()
    assert run("run", own, *common) == 0, log.read_text()
    assert not (mine / "thing").exists()
    case = next(p for p in (tmp_path / "cases").iterdir() if p.name != "state")
    assert run("discard", case) == 0, log.read_text()
