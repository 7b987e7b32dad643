"""Kleff itself on a Windows, by a real Python for Windows, as far as Wine can show it."""

from __future__ import annotations

import json
import os
import platform
import re
import shutil
import signal
from collections.abc import Iterator

import jsonschema
import pexpect
import pytest

from kleff.report.documents import schema
from kleff.workstation.windows.system.files.security import for_account_alone, for_admins_alone, for_everybody_to_read
from support import ended, until
from wine.fixtures import LAUNCHER, PYTHON, OnWindows, whole_on_wine
from wine.remote import WINE, environment

pytestmark = whole_on_wine

UNINSTALL = r"HKLM\Software\Microsoft\Windows\CurrentVersion\Uninstall\Beds"
PROCEDURE = r"""
format = 1
[product]
id = "bed-counter"
name = "Bed Counter"
[[evidence]]
entry = "Bed Counter"
[[backup]]
label = "beds"
paths = ['C:\ProgramData\Bed Counter\*.beds']
[[backup]]
label = "rows"
paths = ['{user.roaming}\Bed Counter\*.rows']
[[uninstall]]
entry = "Bed Counter"
quiet = ['C:\program.exe', 'remove', 'Beds', '{code}'{waits}]
[[delete]]
paths = ['C:\Program Files\Bed Counter', 'C:\ProgramData\Bed Counter']
[[delete]]
key = 'HKLM\Software\Brindlewort\Bed Counter'
"""
KEYS = r"""
[HKEY_LOCAL_MACHINE\Software\Microsoft\Windows\CurrentVersion\Uninstall\Beds]
"DisplayName"="Bed Counter"
"UninstallString"="C:\\program.exe"

[HKEY_LOCAL_MACHINE\Software\Brindlewort\Bed Counter]
"Bits"="64"
"Beds"=hex(7):73,00,61,00,67,00,65,00,00,00,6d,00,69,00,6e,00,74,00,00,00,00,00

[HKEY_LOCAL_MACHINE\Software\Wow6432Node\Brindlewort\Bed Counter]
"Bits"="32"
"""
IMPORTS = r"""
import importlib, pkgutil, sys, kleff
apart = ("kleff.workstation.posix", "kleff.workstation.linux")
for module in pkgutil.walk_packages(kleff.__path__, "kleff."):
    if not module.name.startswith(apart) and not module.name.endswith("__main__"):
        importlib.import_module(module.name)
print(sys.platform, sorted({name.split(".")[0] for name in sys.modules} & {"psutil", "winreg"} - {"winreg"}))
"""


class Beds:
    """A product on that Windows, and how all of it stands."""

    def __init__(self, windows: OnWindows) -> None:
        self.windows = windows
        self.tops = [windows.drive / "Program Files/Bed Counter", windows.drive / "ProgramData/Bed Counter"]
        for path, text in (("Program Files/Bed Counter/de/grün.txt", "grün"), ("ProgramData/Bed Counter/sage.beds", "12 beds of sage")):
            file = windows.drive / path
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text(text)
        windows.import_keys(KEYS)

    def removed_by(self, code: int = 0, waits: bool = False) -> str:
        """The file of a procedure whose uninstaller ends with a code; one that waits does it when it is let go."""
        waiting = r", 'C:\go'" if waits else ""
        (self.windows.drive / "beds.toml").write_text(PROCEDURE.replace("{code}", str(code)).replace("{waits}", waiting))
        return "beds.toml"

    def let_go(self) -> None:
        (self.windows.drive / "go").touch()

    def at_work(self) -> bool:
        """Whether the uninstaller of a case of it works: by what it has said there, as one of an earlier test may be at work still."""
        said = (self.windows.drive / "ProgramData/Kleff/cases").glob("*-bed-counter-1/output/*.txt")
        return any("taking it off" in file.read_text("utf-8", "replace") for file in said)

    def stands(self) -> tuple[dict[str, str], set[str]]:
        files = {str(p.relative_to(self.windows.drive)): p.read_text() if p.is_file() else "" for top in self.tops for p in top.rglob("*")}
        return files, self.windows.exported(UNINSTALL, r"HKLM\Software\Brindlewort\Bed Counter")


@pytest.fixture
def beds(windows: OnWindows) -> Iterator[Beds]:
    yield Beds(windows)
    (windows.drive / "go").unlink(missing_ok=True)
    for left in ("ProgramData/Kleff", ".kleff"):
        shutil.rmtree(windows.drive / left, ignore_errors=True)


def test_all_of_it_imports(windows: OnWindows) -> None:
    """And none of it asks Windows in another way than by its own tables."""
    assert windows.ended(windows.program(PYTHON, "-c", IMPORTS)).strip() == "win32 []"


def test_demo(windows: OnWindows) -> None:
    """By the starter of the folder, on a lab; it says how it was called."""
    said = windows.ended(windows.program("cmd", "/c", r"stick\kleff.cmd", "check", r"C:\nowhere.toml"))
    assert "nowhere.toml: there is no such file" in said
    said = windows("demo", r"C:\demo")
    assert "Brindlewort Tag Studio is gone from POTTING-02" in said
    assert "nothing is left" in said
    case = next((windows.drive / "demo/cases").iterdir())
    said = windows("undo", f"C:\\demo\\cases\\{case.name}", "--yes")
    assert "changes taken back on POTTING-02" in said


def test_there_and_back(beds: Beds) -> None:
    before = beds.stands()
    said = beds.windows("run", beds.removed_by(), "--on", "this", "--yes")
    assert "nothing is left" in said
    assert beds.stands() == ({}, set())
    case = next((beds.windows.drive / "ProgramData/Kleff/cases").iterdir())
    assert f"next: kleff undo C:\\ProgramData\\Kleff\\cases\\{case.name}" in said  # as both of its shells read it
    assert "is gone" in beds.windows("verify", "beds.toml")
    assert "Set aside:" in beds.windows("report", case.name)
    beds.windows("undo", case.name, "--yes")
    assert beds.stands() == before
    assert not (beds.windows.drive / ".kleff").exists()


def test_a_case_is_administrators_alone(beds: Beds) -> None:
    """From the moment it is made: its folder, of which all in it inherits, and where things are set aside."""
    beds.windows("run", beds.removed_by(), "--on", "this", "--yes")
    given = _given(beds.windows)
    (case,) = (beds.windows.drive / "ProgramData/Kleff/cases").iterdir()
    for name in ("Kleff", "cases", case.name, ".kleff"):
        assert given[name] == for_admins_alone(), name


def test_restored_and_discarded(beds: Beds) -> None:
    """What was saved comes back by itself, with its times; what was set aside goes for good."""
    windows = beds.windows
    saved = windows.drive / "ProgramData/Bed Counter/sage.beds"
    os.utime(saved, (1_600_000_000, 1_600_000_000))
    rows = windows.drive / "users/root/AppData/Roaming/Bed Counter/mint.rows"
    rows.parent.mkdir(parents=True)
    rows.write_text("3 rows")
    windows("run", beds.removed_by(), "--on", "this", "--yes")
    assert not saved.exists()
    assert list((windows.drive / ".kleff").rglob("*.beds"))
    assert "1 file" in windows("restore", "bed-counter-1", "--yes", "--on", "this")
    assert (saved.read_text(), int(saved.stat().st_mtime)) == ("12 beds of sage", 1_600_000_000)
    assert _given(windows)["sage.beds"] == for_admins_alone()  # as it was, by the imitation; here nobody else's
    case = next((windows.drive / "ProgramData/Kleff/cases").glob("*-bed-counter-1"))
    shutil.copytree(case / "bag", windows.drive / "carried")
    shutil.rmtree(saved.parent)
    shutil.rmtree(rows.parent)
    windows("restore", r"C:\carried", "--procedure", "beds.toml", "--yes", "--on", "this")
    given = _given(windows)
    assert given["sage.beds"] == for_everybody_to_read()  # rights of another machine name nobody
    assert given["mint.rows"] == for_account_alone(_sid(windows))
    assert "freed" in windows("discard", "bed-counter-1", "--yes")
    assert not list((windows.drive / ".kleff").rglob("*.beds"))
    shutil.rmtree(saved.parent)


def test_killed_while_the_uninstaller_works(beds: Beds) -> None:
    """It goes on, a second Kleff is told so, its exit code is kept, and after a restart the rest is done."""
    windows, before = beds.windows, beds.stands()
    running = windows.start("run", beds.removed_by(code=3010, waits=True), "--on", "this", "--yes")
    assert until(beds.at_work, 60)
    assert "in use by process" in windows("run", "beds.toml", "--on", "this", "--yes", code=3)
    os.kill(running.pid, signal.SIGKILL)
    running.wait(60)  # not for its pipes, which what it has started holds too
    assert windows.runs("program.exe remove")
    assert re.search(r"open +\S+-bed-counter-1", windows("cases"))
    again = windows.start("resume")
    assert windows.said(again, "is still at work: waiting for it")
    beds.let_go()
    assert "asks for it" in windows.ended(again)
    assert again.returncode == 5
    assert "has not been restarted since" in windows("resume", code=5)  # there was none
    windows.restart()
    assert "nothing is left" in windows("resume")
    assert beds.stands() == ({}, set())
    windows("undo", "bed-counter-1", "--yes")
    assert beds.stands() == before


def test_patience_of_seconds(beds: Beds) -> None:
    """An uninstaller that takes longer is left at work; who resumes waits as long again, and its code counts."""
    windows, before, procedure = beds.windows, beds.stands(), beds.removed_by(code=3010, waits=True)
    text = (windows.drive / procedure).read_text()
    (windows.drive / procedure).write_text(text.replace("\nquiet = ", '\npatience = "2s"\nquiet = '))
    running = windows.start("run", procedure, "--on", "this", "--yes")
    assert running.wait(60) == 1  # its pipes are the uninstaller's too
    assert "has not ended in time" in windows("resume", code=1)  # it waits as long again
    assert windows.runs("program.exe remove")
    beds.let_go()
    assert until(lambda: not windows.runs("program.exe remove"), 60)
    assert "asks for it" in windows("resume", code=5)
    windows.restart()
    assert "nothing is left" in windows("resume")
    windows("undo", "bed-counter-1", "--yes")
    assert beds.stands() == before


REFUSES = r"""
[[uninstall]]
entry = "Bed Counter"
quiet = ['C:\program.exe', 'exit', '1603']
stops_first = ["launcher.exe"]
otherwise = [{ command = ['C:\program.exe', 'remove', 'Beds', '0'], ok = [0], patience = "1m" }]
"""


def test_another_way_with_a_launcher_in_the_way(beds: Beds) -> None:
    """The regular way fails, the other does it; what is in the way is ended, and what the other is doing is shown."""
    windows, before = beds.windows, beds.stands()
    text = (windows.drive / beds.removed_by()).read_text()
    head, _, rest = text.partition("[[uninstall]]")
    (windows.drive / "beds.toml").write_text(head + REFUSES + rest[rest.index("[[delete]]") :])
    shutil.copy(windows.drive / "program.exe", windows.drive / "launcher.exe")
    launcher = windows.program(r"C:\launcher.exe", "sleep", "300")
    assert until(lambda: "launcher.exe" in windows("preview", "beds.toml", "--full"), 30)
    said = windows("run", "beds.toml", "--on", "this", "--yes")
    launcher.wait(60)
    assert "exit code 1603 (fatal error during removal); trying the other way" in said
    assert "nothing is left" in said
    assert "by the other way" in windows("report", "bed-counter-1")
    windows("undo", "bed-counter-1", "--yes")
    assert beds.stands() == before
    (windows.drive / "launcher.exe").unlink()


HELD = r"""
format = 1
[product]
id = "held"
name = "Held"
[[evidence]]
path = 'C:\ProgramData\Bed Counter'
[[delete]]
paths = ['C:\ProgramData\Bed Counter\*.beds']
"""


def test_a_file_that_a_program_holds(beds: Beds) -> None:
    """It is told whose it is; the system itself moves it at the restart, with what others have told it to; undo moves it back."""
    windows = beds.windows
    (windows.drive / "held.toml").write_text(HELD)
    file = r"C:\ProgramData\Bed Counter\sage.beds"
    holder = windows.program(r"C:\program.exe", "hold", file, "0")
    assert until(lambda: "program.exe" in windows("preview", "held.toml", "--full"), 30)
    (windows.drive / "others.tmp").write_text("another's")
    windows.ended(windows.program(r"C:\program.exe", "later", r"C:\others.tmp"))
    said = windows("run", "held.toml", "--on", "this", "--yes", code=5)
    assert re.search(r"sage\.beds is in use by program\.exe, number \d+.*: moved at the restart", said), said
    assert (windows.drive / "ProgramData/Bed Counter/sage.beds").exists()
    windows.restart()
    holder.wait(60)
    assert not (windows.drive / "ProgramData/Bed Counter/sage.beds").exists()
    assert not (windows.drive / "others.tmp").exists()
    assert "nothing is left" not in windows("resume", code=4)  # the folder is the evidence
    assert not (windows.drive / "ProgramData/Bed Counter/sage.beds").exists()
    windows("undo", "held-1", "--yes")
    assert (windows.drive / "ProgramData/Bed Counter/sage.beds").exists()


def test_on_a_console(beds: Beds) -> None:
    """It asks there, draws what it does, and Ctrl-C ends it after what is in hand."""
    words = [PYTHON, LAUNCHER, "run", beds.removed_by(waits=True), "--on", "this"]
    child = pexpect.spawn(
        WINE, words, env=environment(beds.windows.prefix) | {"TERM": "xterm"}, cwd=beds.windows.drive, timeout=60, encoding="utf-8",
        dimensions=(40, 120),
    )  # fmt: skip
    child.expect(r"\[y/N\]")
    child.send("y\r")
    child.expect("taking a spare")
    assert until(beds.at_work, 60)
    child.send("\x03")
    child.expect("stopping after what is in hand")
    beds.let_go()
    assert ended(child) == 130
    assert not beds.windows.runs("program.exe remove")
    assert "Bed Counter" not in " ".join(beds.windows.exported(UNINSTALL))
    assert "nothing is left" in beds.windows("resume")


def test_a_closed_console_and_ctrl_break(beds: Beds) -> None:
    """The uninstaller goes on when the window is closed, and the case can be gone on with; Ctrl-Break ends a run after what is in hand.

    Wine's console sends no Ctrl-Break: it is raised in the process, as the C library does on a Windows.
    """
    words = [PYTHON, LAUNCHER, "run", beds.removed_by(waits=True), "--on", "this", "--yes"]
    variables = environment(beds.windows.prefix) | {"TERM": "xterm", "KLEFF_TEST_BREAK": r"C:\break"}
    for how in ("close", "break"):
        child = pexpect.spawn(WINE, words, env=variables, cwd=beds.windows.drive, timeout=60, encoding="utf-8", dimensions=(40, 120))
        assert until(beds.at_work, 60)
        (beds.windows.drive / how).touch()
        if how == "break":
            child.expect("stopping after what is in hand")
            beds.let_go()
            assert ended(child) == 130, child.before
        child.close()
        assert until(lambda: not beds.windows.runs("launch.py run"), 60)
        assert beds.windows.runs("program.exe remove") == (how == "close")
        beds.let_go()
        assert re.search(r"open +\S+-bed-counter-1", beds.windows("cases"))
        assert "nothing is left" in beds.windows("resume")
        beds.windows("undo", "bed-counter-1", "--yes")
        shutil.rmtree(beds.windows.drive / "ProgramData/Kleff")
        (beds.windows.drive / "go").unlink()


def test_no_administrator(beds: Beds) -> None:
    """May look; what it may not do is told before anything is done. Its own cases lie in its profile."""
    windows, procedure = beds.windows, beds.removed_by()
    as_account = {"KLEFF_TEST_AS": "account"}
    assert "Bed Counter is on this workstation" in windows.ended(windows.start("survey", procedure, **as_account))
    refused = windows.start("run", procedure, "--on", "this", "--yes", **as_account)
    said = windows.ended(refused)
    assert refused.returncode == 3
    assert "an administrator's rights are needed for" in said
    listed = windows.ended(windows.start("cases", **as_account))
    assert re.search(r"C:\\users\\\w+\\AppData\\Local\\Kleff\\cases", listed)
    assert not (windows.drive / "ProgramData/Kleff/cases").exists()


LOCKED = r"""
format = 1
[product]
id = "beds-told"
name = "Beds Told"
[[evidence]]
path = 'C:\program.exe'
[[backup]]
label = "told"
command = ['C:\program.exe', 'tell', 'BEDS']
saves_as = "told.txt"
secret = "bed word"
restore = ['C:\program.exe', 'tell', 'BEDS', '{saved}']
[[backup]]
label = "told by variable"
command = ['C:\program.exe', 'tell', 'BEDS']
saves_as = "variable.txt"
secret = "bed word"
secret_as = "BEDS"
"""


def test_secrets_and_a_locked_bag(windows: OnWindows) -> None:
    """A program is told its secret by its input or by a variable; what it says goes encrypted into the bag by a pipe, and back by one."""
    (windows.drive / "told.toml").write_text(LOCKED)
    secrets = {"KLEFF_SECRET_BED_WORD": "marigold", "KLEFF_SECRET_PASSPHRASE_OF_THE_BAG": "between the rows of beans"}
    run = windows.start("run", "told.toml", "--on", "this", "--yes", "--passphrase", "--cases", r"C:\locked", **secrets)
    said = windows.ended(run)
    assert run.returncode in (0, 4), said
    (case,) = (windows.drive / "locked").iterdir()
    for file in case.rglob("*"):
        assert not file.is_file() or (b"marigold" not in file.read_bytes() and b"[......]" not in file.read_bytes()), file
    assert b"complains" in b"".join(file.read_bytes() for file in (case / "output").iterdir())
    back = windows.start("restore", f"C:\\locked\\{case.name}", "--yes", "--on", "this", "--cases", r"C:\locked", **secrets)
    said = windows.ended(back)
    assert back.returncode == 4, said  # the other has no command that takes it in
    assert "taken in   told.txt" in said
    assert any("[] [[] [......" in file.read_text() for file in (windows.drive / "locked").glob("*-2/output/*"))


# How Wine departs from Windows, and why that is no fault of Kleff's.
DEPARTS = {
    ("files", "deleting what somebody reads"): "it knows no deleting at once",
    ("files", "links"): "it has no junctions",
    ("files", "streams"): "it has none",
    ("files", "a short name that is given"): "it makes them of the name, and gives no other",
    ("programs", "what it is told"): "its findstr finds nothing",
    ("machine", "who listens"): "it does not tell whose a port is",
    ("tasks", "off and on"): "it says that it has switched a task, and has not",
}


def test_selftest(windows: OnWindows) -> None:
    """On a machine that nobody needs: each contract by the calls that a Windows gets, and a whole run with its undo; nothing is left."""
    windows.ended(windows.program("sc", "create", "beds", "binPath=", r"C:\program.exe", "start=", "demand"))
    words = ("selftest", "--on", "this", "--throw-away", "--service", "beds")
    assert "this changes the machine it runs on" in windows("selftest", "--on", "this", code=2)
    assert "that is not this machine's name" in windows(*words, "--host", "POTTING-02", code=3)
    before = {path.relative_to(windows.drive) for path in windows.drive.rglob("*")}
    name = platform.node()
    process = windows.start(*words, "--host", name, "--output", r"C:\page.txt", "--json")
    told, lines = process.communicate(timeout=300)
    assert process.returncode == 4, lines
    document = json.loads(told)
    jsonschema.validate(document, schema("selftest"))
    found = {(one["area"], one["check"]): one["wrong"] for one in document["results"]}
    assert len(found) > 40
    assert {check: wrong for check, wrong in found.items() if wrong and check not in DEPARTS} == {}
    assert [check for check in DEPARTS if not found[check]] == [], "named as a departure, and holds"
    assert document["wrong"] == len(DEPARTS)
    assert lines.count(": holds\n") == len(found) - len(DEPARTS)
    page = (windows.drive / "page.txt").read_text("utf-8")
    assert f"{len(found)} checks: {len(DEPARTS)} do not hold" in page
    assert name.casefold() not in page.casefold()
    left = {path.relative_to(windows.drive) for path in windows.drive.rglob("*")} - before
    by_wine = {
        "ProgramData/Kleff/selftest",
        "ProgramData/Kleff/selftest/said",
    }  # its desktop keeps what the first window's program had open
    kept = {f"ProgramData/Kleff/{name}" for name in ("lock", "worked", "unfinished.room")}  # by the first run there is
    told = {"page.txt", "given.txt", "ProgramData/Kleff"} | kept
    assert {str(path) for path in left if "__pycache__" not in path.parts} <= told | by_wine
    (windows.drive / "ProgramData/Kleff/cases/2026-11-26-beds-1").mkdir(parents=True)
    (windows.drive / "ProgramData/Kleff/cases/2026-11-26-beds-1/case.db").touch()
    assert "there is a case on this machine" in windows(*words, "--host", name, code=3)


@pytest.mark.parametrize(
    ("words", "line", "code"),
    [
        (("preview", "wrong.toml"), r"wrong.toml:8:10: 'C:\\Beds\\a:b' holds ':', which no name on Windows may hold", 2),
        (("run", "beds.toml", "--on", "this", "--yes", "--cases", r"Q:\cases"), r"Q:\cases: there is no such drive", 3),
        (("run", r"C:\fat\beds.toml", "--on", "this", "--yes"), r"such as C:\ProgramData\Kleff\procedures", 3),
        (("run", "beds.toml", "--on", "this", "--yes", "--cases", r"C:\fat\cases"), r"such as C:\ProgramData\Kleff\cases", 3),
        (("survey", "beds.toml", "--on", r"root:C:\windows"), r"root:C:\windows: not on this system", 3),
        (("survey", "beds.toml", "--on", r"lab:C:\windows"), "not a lab, or incomplete: lab.toml is missing", 3),
    ],
)
def test_what_is_wrong_is_told_in_a_line(beds: Beds, words: tuple[str, ...], line: str, code: int) -> None:
    beds.removed_by()
    wrong = "format = 1\n[product]\nid = 'x'\nname = 'X'\n[[evidence]]\npath = 'C:\\x'\n[[delete]]\npaths = ['C:\\Beds\\a:b']\n"
    (beds.windows.drive / "wrong.toml").write_text(wrong)
    (beds.windows.drive / "fat").mkdir(exist_ok=True)
    shutil.copy(beds.windows.drive / "beds.toml", beds.windows.drive / "fat/beds.toml")
    said = beds.windows(*words, code=code)
    assert line in said
    assert "What to do:" in said
    assert "Traceback" not in said


def _given(windows: OnWindows) -> dict[str, bytes]:
    """What files were given of rights, by their names."""
    lines = (windows.drive / "given.txt").read_text("utf-8").splitlines()
    return {line.rpartition(" ")[0].rpartition("\\")[2]: bytes.fromhex(line.rpartition(" ")[2]) for line in lines}


def _sid(windows: OnWindows) -> str:
    """Of the one account there is."""
    profiles = windows.exported(r"HKLM\Software\Microsoft\Windows NT\CurrentVersion\ProfileList")
    (sid,) = set(re.findall(r"S-1-5-21-[0-9-]+", " ".join(profiles)))
    return str(sid)
