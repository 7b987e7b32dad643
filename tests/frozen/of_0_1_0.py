"""Makes the frozen cases of a release:  PYTHON_OF_THAT_RELEASE of_0_1_0.py FOLDER

Each file holds a workstation with cases in one state, made by the release itself. `expected.json` in it says what that release
tells of them, and what the workstation looks like after each command that can follow. The files are never made anew with a later
release: they are what technicians have on their disks.
"""

from __future__ import annotations

import shutil
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent))
sys.path.insert(0, str(Path(__file__).parent))

from making import Work, freeze

from debs import build, dpkg, used_for_a_while
from kleff.workstation.lab.build import LabBuilder
from support import linux_tree

PROGRAM = r"C:\Program Files\Brindlewort\Tag Studio 4"
DATA = r"C:\ProgramData\Brindlewort"
CURRENT = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion"
SID = "S-1-5-21-2604417713-1180660424-3370910822"
SERVICE = "BrindlewortPrintBridge"

PROCEDURE = r"""
format = 1
[product]
id = "tag-studio"
name = "Brindlewort Tag Studio"
versions = ">=4,<5"
documents = ["*.tagdesign"]
RESTART
[places]
program = ['%ProgramFiles%\Brindlewort\Tag Studio 4']
[keep]
paths = ['{program}\**\*.keep']
[[ask]]
id = "again"
question = "Will it come back?"
default = false
[[evidence]]
entry = "Brindlewort Tag Studio 4*"
[[before]]
manual = "Unplug the soil probe."
id = "probe"
[[before]]
power = "mains"
[[backup]]
label = "licence"
kind = "licence"
paths = ['%ProgramData%\Brindlewort\licence.bwl']
[[backup]]
label = "settings"
key = 'HKCU\Software\Brindlewort\Tag Studio'
[[backup]]
label = "tray"
value = "Tag Studio Tray"
in_key = 'HKCU\Software\Microsoft\Windows\CurrentVersion\Run'
[[backup]]
label = "labels"
command = ['{program}\bin\tagdb.exe', 'export']
lists = ['{program}\bin\tagdb.exe', 'list']
restore = ['{program}\bin\tagdb.exe', 'import']
saves_as = "labels.sql"
secret = "database password"
secret_as = "TAGDB_PASSWORD"
[[backup]]
label = "bridge"
service = "BrindlewortPrintBridge"
[[backup]]
label = "probe"
driver = "Brindlewort*"
[[backup]]
fact = "serial number"
in_value = "Serial"
in_key = 'HKLM\Software\Brindlewort\Tag Studio'
[[stop]]
process = "tagstudio.exe"
within = "1s"
[[stop]]
window = "Tag Studio - *"
within = "1s"
[[stop]]
port = 8010
within = "1s"
[[stop]]
service = "BrindlewortPrintBridge"
[[stop]]
task = "Brindlewort*"
[[stop]]
startup = "tagtray.exe"
[[stop]]
command = ['{program}\bin\signout.exe', 'seat']
without_return = true
[[uninstall]]
entry = "Brindlewort Tag Studio 4*"
patience = "20s"
[[delete]]
label = "program"
paths = ['{program}', '{user.local}\Brindlewort', '%ProgramData%\Brindlewort']
[[delete]]
label = "vendor"
paths = ['%ProgramFiles%\Brindlewort']
only_if_empty = true
[[delete]]
label = "keys"
key = 'HKLM\Software\Brindlewort\Tag Studio'
[[delete]]
key = 'HKCU\Software\Brindlewort\Tag Studio'
unless = "again"
[[delete]]
value = "Label Warmer"
in_key = 'HKLM\Software\Microsoft\Windows\CurrentVersion\Run'
[[verify]]
command_missing = "tagstudio"
[[after]]
manual = "Tell Mira."
id = "mira"
"""


def make_lab(folder: Path, exit_code: int = 0, refuses: bool = False) -> None:
    """A lab with one thing of each kind."""
    build = LabBuilder(folder, start=1_740_000_000)
    for name in ("msiexec.exe", "svchost.exe"):
        build.file(rf"C:\Windows\System32\{name}", f"MZ {name}\n")
    build.file(r"C:\Windows\System32\Tasks\Brindlewort update", "<Task><Exec><Command>tagupdate.exe</Command></Exec></Task>")
    for name in ("tagstudio.exe", "tagtray.exe", "uninstall.exe", r"bin\tagdb.exe", r"bin\signout.exe", r"lib\tag.dll"):
        build.file(rf"{PROGRAM}\{name}", f"MZ stand-in for {name}\n")
    build.file(rf"{PROGRAM}\lib\large.dll", b"large" * 20_000)
    build.file(rf"{PROGRAM}\templates\own.keep", "kept\r\n")
    build.file(rf"{PROGRAM}\templates\mine\Row 3.tagdesign", "tagdesign 4\r\n")
    build.file(r"C:\Program Files\Brindlewort\Stocktake\stocktake.exe", "MZ stocktake\n")
    build.file(rf"{DATA}\licence.bwl", "key = 7F2A-PLUM-0049-FERN\r\n")
    build.file(rf"{DATA}\labels.db", "CREATE TABLE labels (id INTEGER, bed TEXT);\nINSERT INTO labels VALUES (1, 'Bed 1: Basil');\n")
    build.file(r"C:\Users\mira\AppData\Local\Brindlewort\Herb tags.pdf", b"%PDF-1.4 herbs")
    build.file(r"C:\Users\mira\AppData\Local\Brindlewort\cache\thumb.bin", b"thumb")
    build.file(r"C:\Users\mira\Desktop\notes.txt", "mine\r\n")
    build.key(r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion", SystemRoot=r"C:\Windows", CurrentBuild="19045")
    build.key(CURRENT, ProgramFilesDir=r"C:\Program Files", CommonFilesDir=r"C:\Program Files\Common Files")
    node = r"HKLM\SOFTWARE\Wow6432Node\Microsoft\Windows\CurrentVersion"
    build.key(node, ProgramFilesDir=r"C:\Program Files (x86)", CommonFilesDir=r"C:\Program Files (x86)\Common Files")
    profiles = r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList"
    home = r"%SystemDrive%\Users"
    build.key(profiles, ProgramData=r"%SystemDrive%\ProgramData", Public=rf"{home}\Public", Default=rf"{home}\Default")
    build.key(rf"{profiles}\{SID}-1001", ProfileImagePath=r"C:\Users\mira", State=0)
    build.key(r"HKLM\SYSTEM\Select", Current=1, Default=1)
    build.key(r"HKLM\SYSTEM\ControlSet001\Control\Session Manager\Environment", Path=r"%SystemRoot%\System32;" + PROGRAM, OS="Windows_NT")
    build.key(rf"HKLM\SYSTEM\ControlSet001\Services\{SERVICE}", Start=2, Type=16, DisplayName="Brindlewort print bridge", ImagePath="x")
    build.key(r"HKLM\SYSTEM\ControlSet001\Services\BrindleProbe", Start=3, Type=1, DisplayName="Brindlewort soil probe", ImagePath="x")
    build.key(r"HKLM\SOFTWARE\Brindlewort\Tag Studio\Printers", Default="Bench printer")
    build.key(r"HKLM\SOFTWARE\Brindlewort\Tag Studio", Serial="4711-B")
    build.key(r"HKLM\SOFTWARE\Brindlewort\Stocktake", Count=40)
    build.values(rf"{CURRENT}\Run", {"Label Warmer": f'"{PROGRAM}\\warm.exe"', "Stocktake": "stocktake.exe"})
    hive = rf"HKU\{SID}-1001\Software"
    build.key(rf"{hive}\Brindlewort\Tag Studio\Window", Width=1200, By="mira")
    build.values(rf"{hive}\Microsoft\Windows\CurrentVersion\Run", {"Tag Studio Tray": f'"{PROGRAM}\\tagtray.exe"', "Notes": "notepad.exe"})
    build.key(
        rf"{CURRENT}\Uninstall\Tag Studio 4", DisplayName="Brindlewort Tag Studio 4.2", DisplayVersion="4.2.0", Publisher="Brindlewort",
        InstallLocation=PROGRAM, UninstallString=rf'"{PROGRAM}\uninstall.exe"', QuietUninstallString=rf'"{PROGRAM}\uninstall.exe" /quiet',
    )  # fmt: skip
    build.program(
        path=rf"{PROGRAM}\uninstall.exe", needs="/quiet", prints="Removing ... done.", takes=0.1, exit=exit_code,
        refuses_while=["helper.exe"] if refuses else [], refusal=5, deletes=[rf"{PROGRAM}\lib", rf"{PROGRAM}\*.exe"],
        deletes_keys=[r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Tag Studio 4"],
    )  # fmt: skip
    build.program(path=rf"{PROGRAM}\bin\tagdb.exe", keeps=rf"{DATA}\labels.db", secret="plum")
    build.process(name="tagstudio.exe", path=rf"{PROGRAM}\tagstudio.exe", account="mira")
    build.process(name="wizard.exe", path=r"C:\Tools\w.exe", title="Tag Studio - first steps")
    build.process(name="hub.exe", path=r"C:\Tools\hub.exe", listens=[8010], stubborn=True)
    if refuses:
        build.process(name="helper.exe", path=r"C:\Tools\helper.exe")
    build.finish("BENCH-02", "bench-02", "a small workstation at Alder Row Nursery", [SERVICE])


def make_tree(folder: Path) -> None:
    top = linux_tree(folder)
    dpkg(top, "-i", *build(folder.parent / "debs", scripts=False))
    shutil.rmtree(folder.parent / "debs")
    used_for_a_while(top, 1001)


TREE_PROCEDURE = """
format = 1
[product]
id = "print-bridge"
name = "Brindlewort print bridge"
[[evidence]]
package = "brindlewort-bridge"
[[backup]]
label = "queue"
paths = ['/var/lib/brindlewort-bridge']
[[backup]]
packages = "brindlewort*"
[[purge]]
package = ["brindlewort-bridge", "libbrindle1"]
[[delete]]
label = "state"
paths = ['/var/lib/brindlewort-bridge', '/etc/brindlewort-bridge', '{user.home}/.brindlewort']
"""


def labour(folder: Path, tree: bool = False, restart: str = "", **lab: Any) -> Work:
    text = TREE_PROCEDURE if tree else PROCEDURE.replace("RESTART", restart)
    work = Work(folder, text, make_tree if tree else lambda top: make_lab(top, **lab), tree)
    work.confirmed = () if tree else ("probe",)
    return work


def unit_stopped(work: Work) -> None:
    """A unit of a session's own cannot be had here; the release's own journal writes what it would have."""
    from kleff.case.record.folder import open_case
    from kleff.case.record.journal import Effect

    with open_case(work.folder / "cases" / work.case(), writable=True) as case:
        number = case.journal.next_effect()
        data = {"name": "labels.service", "running": True, "start": "enabled", "account": "1001"}
        case.journal.intend([Effect(number, 1, "unit stopped", b"", data, "intended")])
        case.journal.mark([number], "done")


def main(out: Path) -> None:
    out.mkdir(exist_ok=True)
    top = Path(tempfile.mkdtemp(prefix="frozen-", dir="/root"))

    def made(name: str, do: Callable[[Work], None], **how: Any) -> None:
        work = labour(top / name, **how)
        do(work)
        freeze(name, work, out)

    def undone(work: Work) -> None:
        work.run()
        work("undo", work.case(), "--yes")

    def half_undone(work: Work) -> None:
        work.run()
        work.killed("undo", work.case(), "--yes", write=6)

    def discarded(work: Work) -> None:
        work.run()
        work("discard", work.case(), "--yes")

    def reinstalled(work: Work) -> None:
        work.run()
        first = work.case()
        lab = work.folder / "lab/files/C"
        (lab / "Program Files/Brindlewort/Tag Studio 4/bin").mkdir(parents=True, exist_ok=True)
        (lab / "Program Files/Brindlewort/Tag Studio 4/bin/tagdb.exe").write_text("MZ again\n")
        time.sleep(0.05)
        done = work("restore", first, "--yes", "--on", work.spec)
        assert done.returncode in (0, 4), done.stderr

    def restore_cut_off(work: Work) -> None:
        work.run()
        first = work.case()
        (work.folder / "lab/files/C/Program Files/Brindlewort/Tag Studio 4/bin").mkdir(parents=True, exist_ok=True)
        (work.folder / "lab/files/C/Program Files/Brindlewort/Tag Studio 4/bin/tagdb.exe").write_text("MZ again\n")
        time.sleep(0.05)
        work.killed("restore", first, "--yes", "--on", work.spec, write=9)

    made("finished", lambda w: w.run(code=0))
    made("stopped", lambda w: w.run(code=1), refuses=True)
    made("waiting", lambda w: w.run(code=5), exit_code=3010)
    for write in (7, 24, 40, 55):
        made(f"killed-{write}", lambda w, write=write: w.killed(*w.run_words(), write=write))
    made("undone", undone)
    made("half-undone", half_undone)
    made("discarded", discarded)
    made("restored", reinstalled)
    made("restore-killed", restore_cut_off)
    made("locked", lambda w: w.run("--passphrase"))
    made("locked-killed", lambda w: w.killed(*w.run_words(), "--passphrase", write=12))
    made("packages", lambda w: w.run(), tree=True)
    made("packages-killed", lambda w: w.killed(*w.run_words(), write=14), tree=True)

    def with_unit(work: Work) -> None:
        work.run()
        unit_stopped(work)

    made("unit", with_unit, tree=True)
    shutil.rmtree(top)


if __name__ == "__main__":
    main(Path(sys.argv[1]))
