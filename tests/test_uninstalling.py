"""Uninstallers that need more than to be run: refusals, other ways, windows, patience, packages, restarts, what they say and leave."""

from __future__ import annotations

import contextlib
import re
import signal
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pexpect
import psutil
import pytest

from kleff.engine.job import Job
from kleff.engine.library import parse
from kleff.errors import KleffError, NoSuchWorkstation, ProcedureError, RestartNeeded, Stopped
from kleff.objects.base.here import Options
from kleff.objects.entries.patience import Patience
from kleff.progress import Silent
from kleff.registry.registry import Registry
from kleff.registry.values import number_value, text_value
from kleff.workstation.lab.lab import Lab
from kleff.workstation.lab.workstation import open_lab
from kleff.workstation.linux.boots import LinuxBoots
from kleff.workstation.memory.registry import MemoryRegistry
from kleff.workstation.things import Life
from kleff.workstation.windows.system.power.boots import SystemBoots
from needs.lab import WINDOWS, put
from support import Kleff, differences, ended, hives, tree, until, write

EDGER = r"C:\Program Files\Rakeworks\Edger"
STEP = (
    '[[evidence]]\nentry = "Rakeworks Edger"\npublisher = "Rakeworks"\n[[uninstall]]\nentry = "Rakeworks Edger"\npublisher = "Rakeworks"\n'
)


class Said(Silent):
    """Keeps what is said, and agrees to what it is asked or not."""

    def __init__(self, agrees: bool = False) -> None:
        super().__init__()
        self.lines: list[str] = []
        self.asked: list[str] = []
        self.seen: list[int] = []
        self.looks: Callable[[], int] = lambda: 0
        self._agrees = agrees

    def say(self, line: str) -> None:
        self.lines.append(line)

    def alive(self, line: str, used: float = 0.0, allowed: float = 0.0) -> None:
        self.lines.append(line)
        self.seen.append(self.looks())

    def agrees(self, question: str) -> bool:
        self.asked.append(question)
        return self._agrees


class Edger:
    """A product on a lab, whose uninstaller behaves as a test wants it."""

    def __init__(
        self, folder: Path, described: dict[str, Any] | None = None, programs: Any = (), packages: Any = (), **behaves: Any
    ) -> None:
        self.lab, self.cases = folder / "lab", folder / "cases"
        files = ["edger.exe", "force.exe", r"data\a.txt"]
        made = {"name": "Edger", "version": "2", "publisher": "Rakeworks", "files": files, "behaves": behaves, **(described or {})}
        put(self.lab, {"product": [made], "program": list(programs), "package": list(packages)})
        self.before = tree(self.lab / "files"), hives(self.lab)

    def job(self, body: str, head: str = "", options: Options | None = None) -> Job:
        text = f'format = 1\n[product]\nid = "edger"\nname = "Edger"\n{head}{body}'
        return Job(open_lab(self.lab), parse(text.encode(), "edger.toml"), options=options or Options())

    def run(self, body: str = STEP, said: Said | None = None, **more: Any) -> tuple[Job, Any]:
        job = self.job(body, **more)
        folder, ended = job.run(job.preview(compared=False), self.cases, progress=said)
        return Job.of_case(folder), ended

    def case(self) -> Job:
        return Job.of_case(max(self.cases.iterdir()))

    def there(self) -> bool:
        return (self.lab / "files/C/Program Files/Rakeworks/Edger/edger.exe").exists()

    def check_back(self) -> None:
        assert self.case().undo().stays == []
        assert differences(self.before[0], tree(self.lab / "files")) == []
        assert differences(self.before[1], hives(self.lab)) == []


def test_what_it_names_and_leaves(kleff: Kleff, tmp_path: Path) -> None:
    """Run, report and verify name what is there of it still, as steps to be written; what it names of the system's is no leftover."""
    left, key = r"C:\ProgramData\Rakeworks\rows {1}[a].db", r"HKLM\SOFTWARE\Rakeworks\Rows"
    prints = f"could not delete {left}\nHKEY_LOCAL_MACHINE\\SOFTWARE\\Rakeworks\\Rows was not removed\nsee C:\\Windows\\explorer.exe"
    edger = Edger(tmp_path, creates=[left], prints=prints)
    registry = open_lab(edger.lab).registry
    assert registry is not None
    (at,) = registry.canonical(key, view=64)
    registry.api.create(at.hive, at.physical)
    registry.api.flush()
    file = write(tmp_path / "p.toml", f'format = 1\n[product]\nid = "edger"\nname = "Edger"\n{STEP}')
    said = kleff("run", file, "--on", f"lab:{edger.lab}", "--yes", code=4)
    for told in (said.out, kleff("verify", kleff.case(), code=4).out, kleff("report", kleff.case()).out):
        assert left in told
        assert r"Rakeworks\Rows" in told
        assert "explorer.exe" not in told
    step = re.search(r"paths = .*", said.out)
    assert step is not None
    planned = edger.job("[[evidence]]\npath = 'C:\\x'\n[[delete]]\n" + step[0] + "\n").preview().plan.actions
    assert [a.target for a in planned if a.state == "to do"] == [left]  # as it is offered it means that very file
    assert r"key = 'hklm\software\rakeworks\rows'" in said.out.casefold()
    assert "could not delete" in "".join(p.read_text() for p in (kleff.case() / "output").glob("*.txt"))


def test_the_other_way_is_told_and_is_no_failure(tmp_path: Path) -> None:
    edger = Edger(tmp_path, exit=1603, deletes=[], deletes_keys=[], programs=[
        {"path": rf"{EDGER}\force.exe", "needs": "/all", "deletes": [EDGER], "deletes_keys": [rf"{WINDOWS}\Uninstall\Edger"], "exit": 1},
    ])  # fmt: skip
    other = "otherwise = { command = ['%ProgramFiles%\\Rakeworks\\Edger\\force.exe', '/all'], ok = [0, 1] }\n"
    said = Said()
    job, ended = edger.run(STEP + other, said)
    assert ended.clean
    note = next(row.note for row in job.record().rows if row.action.phase == "uninstall")
    assert "by the other way" in note
    assert "force.exe" in note
    assert any("1603" in line and "trying the other way" in line for line in said.lines)
    edger.check_back()


def test_every_way_fails(tmp_path: Path) -> None:
    edger = Edger(tmp_path, exit=1603, deletes=[], deletes_keys=[], prints="soil too wet", programs=[
        {"path": rf"{EDGER}\force.exe", "exit": 2, "prints": "too dry"},
    ])  # fmt: skip
    with pytest.raises(Stopped) as caught:
        edger.run(STEP + "otherwise = [{ command = ['%ProgramFiles%\\Rakeworks\\Edger\\force.exe'] }]\n")
    assert "exit code 1603" in caught.value.what
    assert "exit code 2" in caught.value.what
    assert {"soil too wet", "too dry"} <= set(caught.value.said)
    assert edger.there()
    edger.check_back()


@pytest.mark.parametrize(
    ("behaves", "says"),
    [
        ({"refuses_while": ["rakewatch.exe"], "refusal": 9, "starts": ["rakewatch.exe"]}, ""),
        ({"refuses_while": ["rakewatch.exe"], "refusal": 9}, 'stops_first = ["rakewatch.exe"]'),
    ],
)
def test_a_refusal_names_what_is_in_the_way(tmp_path: Path, behaves: dict[str, Any], says: str) -> None:
    """A program that is brought back each time: tried three times in all, and no more."""
    edger = Edger(tmp_path, **behaves)
    lines = "\n[[process]]\nname = \"rakewatch.exe\"\npath = 'C:\\Program Files\\Rakeworks\\Edger\\rakewatch.exe'\n"
    (edger.lab / "lab.toml").write_text((edger.lab / "lab.toml").read_text() + lines)
    Lab(edger.lab).start([], all_processes=True)
    said = Said()
    if says:
        with pytest.raises(Stopped) as caught:
            edger.run(said=said)
        assert "rakewatch.exe runs still" in caught.value.what
        assert says in caught.value.remedy
        edger.case().undo()
        return
    file = edger.lab / "lab.toml"
    file.write_text(file.read_text().replace("refusal = 9", "refusal = 9\nfails_first = 5\nfailure = 9"))
    with pytest.raises(Stopped, match="exit code 9"):
        edger.run(STEP + 'stops_first = ["rakewatch.exe"]\nrefuses = [9]\n', said)
    assert sum("it refuses" in line for line in said.lines) == 2


def test_quiet_instead_of_what_is_registered(tmp_path: Path) -> None:
    """And what the uninstaller is asked to remove besides."""
    edger = Edger(tmp_path, needs="/everything", prints="asked well")
    with pytest.raises(Stopped, match="1602"):
        edger.run()
    edger.case().undo()
    quiet = "quiet = ['%ProgramFiles%\\Rakeworks\\Edger\\un.exe', '/s']\nalso_removes = ['/everything']\n"
    plan = edger.job(STEP + quiet).preview().plan
    assert any(line == f'runs: "{EDGER}\\un.exe" /s /everything' for a in plan.actions for line in a.shows)
    _, ended = edger.run(STEP + quiet)
    assert ended.clean


def test_guessed_by_the_family_of_its_installer(tmp_path: Path) -> None:
    for number, (content, runs) in enumerate((("xx Inno Setup xx", "/VERYSILENT /SUPPRESSMSGBOXES /NORESTART"), ("MZ", ""))):
        edger = Edger(tmp_path / str(number), {"loud": True, "uninstaller": content}, needs="/VERYSILENT")
        (action,) = (a for a in edger.job(STEP).preview().plan.actions if a.phase == "uninstall")
        if runs:
            assert any(line.startswith("guessed: ") for line in action.shows)
            assert f'runs: "{EDGER}\\un.exe" {runs}' in action.shows
            assert "guessed" in action.brief
            assert edger.run()[1].clean
        else:
            assert (action.state, "no quiet way is known" in action.reason) == ("manual", True)


CODE = "{11111111-2222-3333-4444-555555555555}"


def test_a_missing_source_is_answered_by_a_repair(tmp_path: Path) -> None:
    package = r"D:\packages\edger.msi".replace("D:", "C:")
    edger = Edger(tmp_path, {"product_code": CODE}, fails_first=1, failure=1612, repairs=package)
    write(edger.lab / "files/C/packages/edger.msi")
    with pytest.raises(Stopped, match=r"1612 \(its source is missing\)"):
        edger.run()
    edger.case().undo()
    state = Lab(edger.lab).state()
    state.tries.clear()
    Lab(edger.lab).save(state)
    said = Said()
    job, ended = edger.run(STEP + f"source = '{package}'\n", said)
    assert ended.clean
    assert any("repairing it from" in line for line in said.lines)
    assert job.undo().stays == []


def test_the_installer_is_told_to_keep_a_log(tmp_path: Path) -> None:
    edger = Edger(tmp_path, {"product_code": CODE}, needs="/l*v!")
    job, ended = edger.run()
    assert ended.clean, "its arguments hold no log"
    assert f"/x {CODE} /qn" in " ".join(line for row in job.record().rows for line in row.action.shows)


def test_what_cannot_go_without_its_uninstaller(tmp_path: Path) -> None:
    """What nobody has registered, and what an account has registered in a folder that is not its own: another's would go."""
    without = Options(without_uninstallers=True)
    package = {
        "path": r"C:\Windows\Installer\7c1.msi",
        "subject": "Edger",
        "product_code": CODE,
        "registered": r"HKLM\Software\Rakeworks\Edger",
    }
    edger = Edger(tmp_path / "code", packages=[package])
    registry = open_lab(edger.lab).registry
    assert registry is not None
    (known,) = registry.canonical(package["registered"], view=64)
    registry.api.create(known.hive, known.physical)
    registry.api.flush()
    (action,) = edger.job(STEP + f'[[uninstall]]\nproduct_code = "{CODE}"\n', options=without).preview().plan.actions[1:]
    assert (action.state, "registered nowhere" in action.reason) == ("manual", True)
    for number, (folder, state) in enumerate(((r"C:\Program Files\Stocktake\Stocktake", "manual"), (r"C:\Users\mira\Edger", "to do"))):
        edger = Edger(tmp_path / str(number))
        registry = open_lab(edger.lab).registry
        assert registry is not None
        (mine,) = (k for a in open_lab(edger.lab).accounts.all() if a.name == "mira" for k in registry.canonical(r"HKCU\Software", a.id))
        key = mine.child(r"Microsoft\Windows\CurrentVersion\Uninstall\Sneaky")
        registry.api.create(key.hive, key.physical)
        for name, text in (("DisplayName", "Sneaky"), ("Publisher", "Rakeworks"), ("InstallLocation", folder)):
            registry.api.set(key.hive, key.physical, text_value(name, text))
        registry.api.flush()
        write(edger.lab / "files/C" / folder[3:].replace("\\", "/") / "a.txt")
        body = '[[evidence]]\nentry = "Sneaky"\n[[uninstall]]\nentry = "Sneaky"\notherwise = { without_uninstaller = true }\n'
        for options in (without, Options()):
            (action,) = edger.job(body, options=options).preview().plan.actions
            assert (action.state, action.account) == (state, "mira")


def test_what_no_spare_can_bring_back_is_not_promised(tmp_path: Path) -> None:
    """A product whose folder is not registered and that no step names: the line of no return is drawn there."""
    edger = Edger(tmp_path / "known")
    assert edger.job(STEP).preview().plan.no_return == 0
    edger = Edger(tmp_path / "unknown", {"folder": EDGER})
    registry = open_lab(edger.lab).registry
    assert registry is not None
    (key,) = registry.canonical(rf"{WINDOWS}\Uninstall\Edger", view=64)
    registry.api.set(key.hive, key.physical, text_value("InstallLocation", ""))
    registry.api.flush()
    plan = edger.job(STEP).preview().plan
    assert plan.no_return == 1
    assert "no folder of it is known" in plan.actions[0].undo
    assert edger.job(STEP + "[[delete]]\npaths = ['%ProgramFiles%\\Rakeworks\\Edger']\n").preview().plan.no_return == 0


def test_an_option_that_would_do_nothing(kleff: Kleff, tmp_path: Path) -> None:
    edger = Edger(tmp_path)
    file = write(
        tmp_path / "p.toml", "format = 1\n[product]\nid = 'x'\nname = 'X'\n[[evidence]]\npath = 'C:\\x'\n[[delete]]\npaths = ['C:\\x']\n"
    )
    said = kleff("run", file, "--on", f"lab:{edger.lab}", "--yes", "--without-uninstallers", code=2)
    assert "no step of the procedure uninstalls registered products" in said.err


# -- patience -----------------------------------------------------------------------------------------------


def test_patience_counts_work_and_no_sleep() -> None:
    patience = Patience(60.0)
    start = time.monotonic()
    for at in (1, 2, 3, 3603, 3604, 3000, 3001):  # a machine that slept an hour, a clock that went back
        patience.look(start + at)
    assert not patience.over
    assert patience.used == pytest.approx(3 + 5 + 1 + 0 + 1, abs=0.5)
    for at in range(4000, 4060):
        patience.look(start + at)
    assert patience.over
    patience.again()
    assert not patience.over
    assert patience.worked > 60
    line = patience.told("the uninstaller", Life(3.2, 5 << 20, 3, ("Removing",)))
    for sign in ("at work for 1:", "patience for 1:00 more", "processor 3.2 s", "5.0 MiB written", "3 programs", "window “Removing”"):
        assert sign in line
    for at in range(4060, 4080):
        patience.look(start + at)
    assert "no sign of life for" in patience.told("the uninstaller", Life(3.2, 5 << 20, 3, ("Removing",)))


def test_one_that_takes_longer_is_waited_for_or_left(tmp_path: Path) -> None:
    """Never killed: whoever says no finds it at work, and `resume` waits on for it; the machine is kept awake meanwhile."""
    edger = Edger(tmp_path, takes=7.0)
    body = STEP + 'patience = "3s"\n'
    said = Said()
    said.looks = lambda: Lab(edger.lab).state().awake
    with pytest.raises(Stopped, match="has not ended in time"):
        edger.run(body, said)
    assert len(said.asked) == 1
    assert "Wait as long again?" in said.asked[0]
    assert edger.there()
    assert any(re.search(r"the uninstaller: at work for 0:0\d, patience for 0:0\d more, processor \d", line) for line in said.lines)
    assert said.seen
    assert set(said.seen) == {1}
    assert Lab(edger.lab).state().awake == 0
    agreeing = Said(agrees=True)
    assert edger.case().resume(progress=agreeing).clean
    assert agreeing.asked
    edger.check_back()


def test_whatever_keeps_a_linux_awake_ends_with_it() -> None:
    """Also where there is nobody to hear the wish. Others may keep the machine awake too: only what this process has started counts."""

    def holding() -> list[list[str]]:
        found = []
        for child in psutil.Process().children(recursive=True):
            with contextlib.suppress(psutil.Error):  # it ends just now
                found += [words for words in (child.cmdline(),) if "--who=kleff" in words]
        return found

    with LinuxBoots().awake():
        pass
    assert holding() == []


def test_a_child_that_works_on_is_followed(tmp_path: Path) -> None:
    edger = Edger(tmp_path, by_installer=True, takes=2.0)
    said = Said()
    assert edger.run(said=said)[1].clean
    assert any("waiting until the product is no longer registered" in line for line in said.lines)


def test_one_that_restarts_the_machine_by_itself(kleff: Kleff, tmp_path: Path) -> None:
    """Kleff ends with it, in the middle; what it did is known again afterwards, and nothing is lost."""
    edger = Edger(tmp_path, takes=2.0, restarts=True)
    file = write(tmp_path / "p.toml", f'format = 1\n[product]\nid = "edger"\nname = "Edger"\n{STEP}')
    words = [str(kleff.program), "run", str(file), "--on", f"lab:{edger.lab}", "--yes", "--cases", str(edger.cases)]
    child = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    assert until(lambda: any(p["name"] == "un.exe" for p in Lab(edger.lab).state().processes))
    child.send_signal(signal.SIGKILL)
    child.wait()
    assert until(lambda: Lab(edger.lab).state().boot == 2)
    assert edger.case().resume().clean
    edger.check_back()


@pytest.mark.parametrize(
    ("registered", "why"),
    [
        (r'"C:\Windows\Temp\un.exe" /s', "others than an administrator can change"),
        (r'"C:\Users\mira\AppData\Local\Temp\un.exe" & del /q C:\*', "others than an administrator can change"),
        (rf'"{EDGER}\un.exe" /s & del /q C:\* | more > C:\out.txt', ""),
        (r"%TEMP%\un.exe /s", "is not a path"),
        (r'"\\server\share\un.exe" /s', "is not a path"),
    ],
)
def test_what_is_registered_as_a_command(tmp_path: Path, registered: str, why: str) -> None:
    """Never run from where others can write; signs of a shell are arguments and nothing else."""
    edger = Edger(tmp_path, needs="&")
    for place in (r"Windows/Temp", r"Users/mira/AppData/Local/Temp"):
        write(edger.lab / f"files/C/{place}/un.exe", "MZ")
    registry = open_lab(edger.lab).registry
    assert registry is not None
    (key,) = registry.canonical(rf"{WINDOWS}\Uninstall\Edger", view=64)
    registry.api.set(key.hive, key.physical, text_value("QuietUninstallString", registered))
    registry.api.flush()
    (action,) = (a for a in edger.job(STEP).preview().plan.actions if a.phase == "uninstall")
    if why:
        assert (action.state, why in action.reason) == ("manual", True), action.reason
    else:
        assert action.state == "to do"
        assert edger.run()[1].clean
        assert not (edger.lab / "files/C/out.txt").exists()
        assert (edger.lab / "files/C/Windows/explorer.exe").exists()


# -- windows ------------------------------------------------------------------------------------------------

WIZARD = STEP + 'attended = true\nguide = ["choose Remove", "tick both boxes"]\n'


def test_a_window_that_a_person_answers(kleff: Kleff, tmp_path: Path) -> None:
    edger = Edger(tmp_path, wizard="Edger setup")
    file = write(tmp_path / "p.toml", f'format = 1\n[product]\nid = "edger"\nname = "Edger"\n{WIZARD}')
    refused = kleff("run", file, "--on", f"lab:{edger.lab}", "--yes", code=3)
    assert "must be answered by a person (line" in refused.err
    assert not edger.cases.exists()
    before = tree(edger.lab / "files")
    for answer, exit_code, gone in (("--no", 1, False), ("", 0, True)):
        verb = ["run", str(file), "--on", f"lab:{edger.lab}", "--yes"] if answer else ["resume"]
        child = pexpect.spawn(str(kleff.program), [*verb, "--cases", str(edger.cases)], encoding="utf-8", dimensions=(40, 150), timeout=60)
        child.expect("tick both boxes")
        assert until(lambda: any(p.get("title") == "Edger setup" for p in Lab(edger.lab).state().processes))
        assert "window" in kleff("lab", "answer", edger.lab, "Elsewhere", code=2).err
        kleff("lab", "answer", edger.lab, "Edger setup", *([answer] if answer else []))
        assert ended(child) == exit_code, child.before
        assert edger.there() != gone
        assert answer == "" or differences(before, tree(edger.lab / "files")) == []
    edger.check_back()


# -- removal tools, releases, afterwards ----------------------------------------------------------------------


def test_a_removal_tool_is_never_run_twice(tmp_path: Path) -> None:
    tool = [{"path": r"C:\Tools\remover.exe", "exit": 7, "prints": "once"}]
    edger = Edger(tmp_path, programs=tool)
    write(edger.lab / "files/C/Tools/remover.exe", "MZ")
    body = "[[evidence]]\npath = 'C:\\Tools'\n[[uninstall]]\ncommand = ['C:\\Tools\\remover.exe', '/all']\n"
    with pytest.raises(Stopped, match="exit code 7"):
        edger.run(body)
    for _ in range(2):
        with pytest.raises(Stopped, match="ended with exit code 7; a removal tool is not run a second time"):
            edger.case().resume()
    outputs = [p.read_text() for p in next(edger.cases.iterdir()).glob("output/*.txt")]
    assert "".join(outputs).count("once") == 1


def test_what_it_lists_is_asked_for_once_and_never_an_option(tmp_path: Path) -> None:
    """The listing runs once for a whole preview, and only if nobody but an administrator could have changed it."""
    tool = [{"path": r"C:\Tools\remover.exe", "answers": {"/list": "Rows\n-rf\nBeds\n"}}]
    body = (
        "[[evidence]]\npath = 'C:\\Tools'\n[[ask]]\nid = 'which'\nquestion = 'Which?'\ntype = 'some'\nfrom = 'lists'\n"
        "[[uninstall]]\ncommand = ['{tool}', '{chosen}']\nlists = ['{tool}', '/list']\nchosen = 'which'\n"
    )
    edger = Edger(tmp_path, programs=tool)
    write(edger.lab / "files/C/Tools/remover.exe", "MZ")
    job = edger.job(body.replace("{tool}", r"C:\Tools\remover.exe"))
    procedure, _ = job.settled(["which=Rows"])
    assert list(procedure.asks[0].choices) == ["Rows", "Beds"]
    with pytest.raises(KleffError, match="does not answer") as nothing:
        edger.job(body.replace("{tool}", r"C:\Users\mira\remover.exe")).preview(["which=Rows"])
    assert nothing.value.remedy == "nothing was found to choose from; leave the answer out"
    for answer in ("which=-rf", "which=Weeds"):
        with pytest.raises(KleffError, match="does not answer"):
            job.preview([answer])
    (action,) = (a for a in job.preview(["which=Beds,Rows"]).plan.actions if a.phase == "uninstall")
    assert action.target == r"C:\Tools\remover.exe Beds Rows"
    theirs = r"C:\Users\mira\remover.exe"
    mixed = body.replace("'{tool}', '/list'", f"'{theirs}', '/list'").replace("{tool}", r"C:\Tools\remover.exe")
    write(edger.lab / "files/C/Users/mira/remover.exe", "MZ")
    procedure, _ = edger.job(body.replace("{tool}", theirs)).settled(["which="])
    assert list(procedure.asks[0].choices) == []
    (action,) = (a for a in edger.job(mixed).preview(["which="]).plan.actions if a.phase == "uninstall")
    assert (action.state, "others than an administrator can change" in action.reason) == ("manual", True)


def test_a_removal_tool_may_ask_for_a_restart(tmp_path: Path) -> None:
    edger = Edger(
        tmp_path,
        programs=[{"path": r"C:\Tools\remover.exe", "exit": 3010, "deletes": [EDGER], "deletes_keys": [rf"{WINDOWS}\Uninstall\Edger"]}],
    )
    write(edger.lab / "files/C/Tools/remover.exe", "MZ")
    shows = '[[evidence]]\nentry = "Rakeworks Edger"\npublisher = "Rakeworks"\n'
    body = shows + "[[uninstall]]\ncommand = ['C:\\Tools\\remover.exe']\n[[delete]]\npaths = ['{at}']\n"
    with pytest.raises(RestartNeeded):
        edger.run(body.replace("{at}", r"%ProgramFiles%\Rakeworks"))
    Lab(edger.lab).start([])
    assert edger.case().resume().clean
    assert edger.case().undo().stays == []
    assert edger.there()


SEAT = (
    "[[evidence]]\npath = '%ProgramFiles%\\Rakeworks\\Edger'\n"
    "[[stop]]\ncommand = ['%ProgramFiles%\\Rakeworks\\Edger\\force.exe', '/release']\n"
    'without_return = true\nreleases = "the seat of Edger"\n[[uninstall]]\nentry = "Rakeworks Edger"\npublisher = "Rakeworks"\n'
)


def test_a_seat_that_cannot_be_released(kleff: Kleff, tmp_path: Path) -> None:
    """Nobody at the vendor's answers: one may go on, and the report holds a note for them."""
    for number, agrees in enumerate((True, False)):
        edger = Edger(tmp_path / str(number), programs=[{"path": rf"{EDGER}\force.exe", "exit": 12, "prints": "no network"}])
        said = Said(agrees)
        if agrees:
            assert edger.run(SEAT, said)[1].clean
        else:
            with pytest.raises(Stopped) as caught:
                edger.run(SEAT, said)
            assert "with a note for the vendor:  --skip 1" in caught.value.remedy
            edger.case().resume(1, "their server is down")
        assert "the seat of Edger was not released" in said.asked[0]
        told = kleff("report", next(edger.cases.iterdir())).out
        assert "For the vendor" in told
        assert "the seat of Edger was not released" in told


def test_commands_afterwards(tmp_path: Path) -> None:
    """Once all else is done; a failure stops the case, which can be gone on with; what they say is kept."""
    edger = Edger(tmp_path, programs=[{"path": r"C:\Tools\check.exe", "fails_first": 1, "failure": 3, "prints": "caches are fresh"}])
    write(edger.lab / "files/C/Tools/check.exe", "MZ")
    body = STEP + "[[after]]\ncommand = ['C:\\Tools\\check.exe', '/now']\npatience = \"1m\"\n"
    with pytest.raises(Stopped, match="exit code 3"):
        edger.run(body)
    assert not edger.there()
    assert edger.case().resume().clean
    assert any("caches are fresh" in p.read_text() for p in next(edger.cases.iterdir()).glob("output/*.txt"))


# -- the restart --------------------------------------------------------------------------------------------

LATER = STEP + "[[delete]]\npaths = ['%ProgramData%\\Rakeworks']\nafter_restart = true\n"


@pytest.fixture
def waiting(kleff: Kleff, tmp_path: Path) -> tuple[Edger, Path]:
    edger = Edger(tmp_path, exit=3010)
    write(edger.lab / "files/C/ProgramData/Rakeworks/late.txt")
    return edger, write(tmp_path / "p.toml", f'format = 1\n[product]\nid = "edger"\nname = "Edger"\n{LATER}')


def test_only_a_real_restart_counts(kleff: Kleff, waiting: tuple[Edger, Path]) -> None:
    edger, file = waiting
    said = kleff("run", file, "--on", f"lab:{edger.lab}", "--yes", code=5)
    assert r"waits for the restart: set aside C:\ProgramData\Rakeworks" in said.err
    kleff("lab", "shutdown", edger.lab)
    assert "choose Restart, not Shut down" in kleff("resume", code=5).err
    kleff("lab", "restart", edger.lab)
    kleff("resume")


def test_restarted_at_once(kleff: Kleff, waiting: tuple[Edger, Path]) -> None:
    edger, file = waiting
    text = (edger.lab / "lab.toml").read_text()
    head, _, rest = text.partition("\n[[")
    (edger.lab / "lab.toml").write_text(f'{head}\nsessions = ["tomas"]\nlocked = "its drive asks for a key"\n\n[[{rest}')
    kleff("run", file, "--on", f"lab:{edger.lab}", "--yes", code=5)
    asked = kleff("resume", "--restart-now", code=5).err  # nobody is there to be asked, and the case waits
    assert "It was not restarted: not confirmed: there is no terminal to ask on" in asked
    assert Lab(edger.lab).state().boot == 1
    child = pexpect.spawn(str(kleff.program), ["resume", "--restart-now", "--cases", str(kleff.cases)], encoding="utf-8", timeout=60)
    for told in ("tomas signed in too", "its drive asks for a key", "Restart POTTING-05 now?"):
        child.expect(re.escape(told))
    child.send("y\r")
    child.expect("restarts")
    assert ended(child) == 5
    assert Lab(edger.lab).state().boot == 2
    kleff("resume")


def test_restarted_at_once_it_goes_on_by_itself(kleff: Kleff, waiting: tuple[Edger, Path]) -> None:
    edger, file = waiting
    said = kleff("run", file, "--on", f"lab:{edger.lab}", "--yes", "--resume-after-restart", "--restart-now", code=5)
    assert "POTTING-05 restarts" in said.err
    assert until(lambda: kleff("cases", "--json").json()["cases"][0]["state"] == "finished")
    assert not (edger.lab / "files/C/ProgramData/Rakeworks").exists()


def test_a_command_afterwards_may_ask_for_one(tmp_path: Path) -> None:
    edger = Edger(tmp_path, programs=[{"path": r"C:\Tools\check.exe", "exit": 3010}])
    write(edger.lab / "files/C/Tools/check.exe", "MZ")
    with pytest.raises(RestartNeeded):
        edger.run(STEP + "[[after]]\ncommand = ['C:\\Tools\\check.exe']\nrestart = [3010]\n")
    Lab(edger.lab).start([])
    assert edger.case().resume().clean


def test_what_may_keep_it_from_starting(monkeypatch: pytest.MonkeyPatch) -> None:
    """Worked on from afar, a prompt before it has started has nobody to answer it."""
    registry = Registry(MemoryRegistry())
    registry.api.create("HKLM", r"SYSTEM\CurrentControlSet\Control\BitLockerStatus")
    windows = SystemBoots(None, registry, None)  # type: ignore[arg-type]
    for name in ("SSH_CONNECTION", "SESSIONNAME"):
        monkeypatch.delenv(name, raising=False)
    before = LinuxBoots().prompts(), windows.prompts()
    assert before[1] == []
    monkeypatch.setenv("SSH_CONNECTION", "10.0.0.1 22 10.0.0.2 22")
    monkeypatch.setenv("SESSIONNAME", "RDP-Tcp#3")
    for old, now in zip(before, (LinuxBoots().prompts(), windows.prompts()), strict=True):
        assert [text for text in now if text not in old] == ["you work on it from afar: if it stops at a prompt, somebody has to go there"]
    for key in registry.canonical(r"HKLM\SYSTEM\CurrentControlSet\Control\BitLockerStatus", view=64):
        registry.api.create(key.hive, key.physical)
        registry.api.set(key.hive, key.physical, number_value("BootStatus", 1))
    assert "its drive is encrypted" in windows.prompts()[0]


def test_it_goes_on_by_itself_once(kleff: Kleff, waiting: tuple[Edger, Path]) -> None:
    """And takes its own entry away; with a person to answer, or a locked bag, it is refused before anything is done."""
    edger, file = waiting
    on = ("--on", f"lab:{edger.lab}", "--yes", "--resume-after-restart")
    wizard = write(file.with_name("w.toml"), file.read_text() + '[[after]]\nmanual = "x"\nid = "x"\n')
    wizard.write_text(
        wizard.read_text().replace('publisher = "Rakeworks"\n[[delete]]', 'publisher = "Rakeworks"\nattended = true\n[[delete]]')
    )
    assert "must be answered by a person" in kleff("run", wizard, *on, code=3).err
    said = kleff("run", file, *on, code=5)
    assert "it goes on by itself then" in said.err
    words = Lab(edger.lab).state().arranged
    assert [Path(words[0]).is_absolute(), words[-2], Path(words[-1]).is_absolute()] == [True, "resume", True]
    kleff("lab", "restart", edger.lab)
    assert kleff("cases", "--json").json()["cases"][0]["state"] == "finished"
    assert Lab(edger.lab).state().arranged == []
    assert not (edger.lab / "files/C/ProgramData/Rakeworks").exists()


def test_never(tmp_path: Path) -> None:
    """What asks for a restart all the same is done, and says so."""
    edger = Edger(tmp_path, exit=3010)
    said = Said()
    _, ended = edger.run(head='restart = "never"\n', said=said)
    assert ended.clean
    assert any("restart when it suits" in line for line in said.lines)


# -- what is wrong ------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("lines", "message"),
    [
        ("otherwise = [{ comand = ['x'] }]", r"edger.toml:7:\d+: .*comand"),
        ("otherwise = {}", r"edger.toml:7:\d+: another way is either"),
        (
            "otherwise = [{ command = ['C:\\x.exe'], ok = [1], restart = [1] }]",
            r"edger.toml:7:\d+: an exit code stands in ok or in restart",
        ),
        ("otherwise = [{ command = ['{nowhere}\\x.exe'] }]", r"edger.toml:7:\d+: .*nowhere"),
        ("otherwise = [{ without_uninstaller = true, patience = 'soon' }]", r"edger.toml:7:\d+: .*soon"),
        ("stops_first = 'x.exe'", r"edger.toml:7:\d+: .*must be a list"),
        ("refuses = ['9']", r"edger.toml:7:\d+: .*must be a whole number"),
        ("guide = ['x']", r"edger.toml:7:\d+: a guide is for a person who answers"),
        ("attended = true\nstops_first = ['x.exe']", r"edger.toml:7:\d+: a person answers it"),
        ("parts_first = 3", r"edger.toml:7:\d+: .*must be a list"),
        ("source = '{nowhere}\\x.msi'", r"edger.toml:7:\d+: .*nowhere"),
        ("also_removes = [1]", r"edger.toml:7:\d+: .*must be a text"),
        ("chosen = 'x'", r"edger.toml:7:\d+: no question of what is found"),
        ("quiet = ['{nowhere}\\x.exe']", r"edger.toml:7:\d+: .*nowhere"),
        ("product_code = 'x'", r"edger.toml:7:\d+: names two objects"),
        ("[[uninstall]]\nproduct_code = '{1234}'", r"edger.toml:8:\d+: .*product_code"),
        ("[[uninstall]]\ncommand = ['C:\\x.exe', '{chosen}']", r"edger.toml:8:\d+: {chosen} in command"),
        ("[[uninstall]]\ncommand = ['C:\\x.exe', '{chosen}']\nlists = ['C:\\x.exe']", r"edger.toml:9:\d+: name the question"),
        ("[[uninstall]]\ncommand = ['C:\\x.exe']\nok = [3010]", r"edger.toml:7:\d+: an exit code stands in one of"),
        ("[[after]]\ncommand = ['C:\\x.exe']\nwithout_return = true", r"edger.toml:9:\d+: unknown key 'without_return'"),
    ],
)
def test_bad_keys(lines: str, message: str) -> None:
    head = 'format = 1\nproduct = { id = "edger", name = "Edger" }\n[[evidence]]\nentry = "x"\n'
    text = f'{head}[[uninstall]]\nentry = "Rakeworks*"\n{lines}\n'
    with pytest.raises(ProcedureError) as caught:
        parse(text.encode(), "edger.toml")
    assert re.search(message, "\n".join(caught.value.problems)), caught.value.problems


@pytest.mark.parametrize(
    ("lines", "message"),
    [("takes = 'long'", r"lab.toml:\d+:\d+: .*float"), ("tekes = 1", r"lab.toml:\d+:1: .*tekes"), ("takes = = 1", r"lab.toml:\d+")],
)
def test_a_mistake_in_a_lab_has_its_line(tmp_path: Path, lines: str, message: str) -> None:
    edger = Edger(tmp_path)
    file = edger.lab / "lab.toml"
    wanted = len(file.read_text().splitlines()) + 3
    file.write_text(file.read_text() + f"\n[[program]]\n{lines}\npath = 'C:\\x.exe'\n")
    with pytest.raises(NoSuchWorkstation, match=message) as caught:
        Lab(edger.lab)
    assert f"lab.toml:{wanted}" in str(caught.value)
