"""Names that are not what they look like, for every kind of object: found, acted on, taken back and restored by what they are."""

from __future__ import annotations

import os
import re
from pathlib import Path

import msgspec
import pytest

from killing import KILLED, run_until
from kleff.case.record.folder import open_case
from kleff.engine.job import Job
from kleff.objects.base.action import TO_DO
from kleff.report.case_report import report_document, report_markdown, report_page
from kleff.report.documents import encode
from kleff.report.full_plan import full_plan
from kleff.report.making import preview_document, verify_document
from kleff.report.pages import verify_page
from kleff.report.web import report_html
from kleff.workstation.lab.build import LabBuilder
from kleff.workstation.lab.lab import Lab
from kleff.workstation.lab.workstation import open_lab
from support import IS_ROOT, clone, hives, linux_tree, procedure, tree, write

SOFT, TURN = "\u00ad", "\u202e"  # seen as nothing; turns what follows around
NAME = f"Hoe{SOFT} tool{TURN}"
TWIN = "Hoe tool"  # what it looks like; it is a neighbour's, and has to stay
COLON = f"{NAME}: two [mira] (3)"  # what texts for people are made of
UNINSTALL = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall"
RUN = r"Software\Microsoft\Windows\CurrentVersion\Run"
SID = "S-1-5-21-1-2-3-1001"
CONTROL = re.compile("[\x00-\x09\x0b-\x1f\x7f-\x9f\u00ad\u200b-\u200f\u2028-\u202e\u2066-\u2069]")
STEPS = rf"""
[[evidence]]
entry = 'Hoe{SOFT}*'
[[evidence]]
path = '%ProgramData%\{NAME}'
[[evidence]]
key = 'HKLM\Software\{NAME}'
[[backup]]
label = "data"
paths = ['%ProgramData%\{NAME}']
[[backup]]
label = "key"
key = 'HKCU\Software\{COLON}'
[[backup]]
label = "one value"
value = '{COLON}'
in_key = 'HKLM\Software\Rakeworks'
[[backup]]
label = "service"
service = '{NAME}'
[[backup]]
label = "rows"
command = ['C:\Program Files\Rake{SOFT}\db.exe', 'export', '{{item}}']
lists = ['C:\Program Files\Rake{SOFT}\db.exe', 'list']
saves_as = "{{item}}.sql"
restore = ['C:\Program Files\Rake{SOFT}\db.exe', 'import']
[[stop]]
process = '{NAME}.exe'
[[stop]]
service = '{NAME}'
[[stop]]
task = 'Hoe{SOFT} tool*'
[[stop]]
startup = 'Hoe{SOFT} tool*'
[[uninstall]]
entry = 'Hoe{SOFT}*'
[[delete]]
paths = ['%ProgramData%\{NAME}', '{{user.local}}\{NAME}']
[[delete]]
key = 'HKLM\Software\{NAME}'
[[delete]]
key = 'HKCU\Software\{COLON}'
[[delete]]
value = '{COLON}'
in_key = 'HKLM\Software\Rakeworks'
[[verify]]
key = 'HKLM\Software\{NAME}'
"""


@pytest.fixture(scope="module")
def master(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A small lab in which everything stands twice: under a hostile name, and under the one that it looks like."""
    top = tmp_path_factory.mktemp("names") / "lab"
    build = LabBuilder(top, start=1_700_000_000)
    build.file(r"C:\Windows\System32\msiexec.exe", "MZ")
    build.key(r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion", SystemRoot=r"C:\Windows")
    build.key(r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion", ProgramFilesDir=r"C:\Program Files")
    profiles = r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList"
    build.key(profiles, ProgramData=r"C:\ProgramData")
    build.key(rf"{profiles}\{SID}", ProfileImagePath=r"C:\Users\mira")
    build.key(r"HKLM\SYSTEM\Select", Current=1)
    program = rf"C:\Program Files\Rake{SOFT}"
    for name in ("db.exe", "un.exe"):
        build.file(rf"{program}\{name}", "MZ")
    for name in (NAME, TWIN):
        build.file(rf"C:\ProgramData\{name}\seed.txt", "seed")
        build.file(rf"C:\Users\mira\AppData\Local\{name}\cache", "cache")
        build.file(rf"C:\Windows\System32\Tasks\{name}", "<Task><Command>C:\\hoe.exe</Command></Task>")
        build.key(rf"HKLM\SOFTWARE\{name}", Own=1)
        build.key(rf"HKLM\SYSTEM\ControlSet001\Services\{name}", Start=2, Type=16, ImagePath=r"C:\hoe.exe")
        build.values(rf"HKU\{SID}\{RUN}", {name: r"C:\hoe.exe"})
        build.values(
            rf"{UNINSTALL}\{name}", {"DisplayName": f"{name} 2", "DisplayVersion": "2.0", "QuietUninstallString": rf'"{program}\un.exe" /s'}
        )
        build.process(name=f"{name}.exe", path=rf"C:\{name}.exe", account="mira")
    for name in (COLON, f"{TWIN}: two [mira] (3)"):
        build.values(r"HKLM\SOFTWARE\Rakeworks", {name: "x"})
        build.key(rf"HKU\{SID}\Software\{name}", Own=1)
    build.program(path=rf"{program}\un.exe", deletes=[rf"C:\ProgramData\{NAME}\seed.txt"], deletes_keys=[rf"{UNINSTALL}\{NAME}"])
    build.program(path=rf"{program}\db.exe", answers={"list": f"{NAME}\n", "export": "INSERT 1;\n"})
    build.finish("BENCH-01", "bench-01", "a bench", [NAME, TWIN])
    return top


@pytest.fixture
def hostile(master: Path, tmp_path: Path) -> Path:
    return clone(master, tmp_path / "lab")


def standing(lab: Path) -> tuple[object, ...]:
    """Everything of the lab that can be told apart, besides which programs run."""
    state = Lab(lab).state()
    return tree(lab / "files"), hives(lab), sorted(state.running_services), sorted(state.disabled_tasks)


def readable(*texts: str) -> None:
    """Nothing for people may hold what is not seen or turns text around."""
    for text in texts:
        assert not CONTROL.search(text), CONTROL.search(text)


def exact(actions: object) -> str:
    return msgspec.json.encode(actions).decode()


def twins_stay(lab: Path) -> None:
    """The neighbour under the name it looks like has lost nothing."""
    workstation = open_lab(lab)
    registry, state = workstation.registry, Lab(lab).state()
    assert registry is not None
    for path in (rf"C:\ProgramData\{TWIN}\seed.txt", rf"C:\Users\mira\AppData\Local\{TWIN}\cache"):
        found = workstation.files.path(path)
        assert found is not None
        assert workstation.files.look(found), path
    for text in (rf"HKLM\SOFTWARE\{TWIN}", rf"{UNINSTALL}\{TWIN}"):
        assert any(registry.exists(key) for key in registry.canonical(text)), text
    (key,) = registry.canonical(rf"HKCU\{RUN}", SID)
    assert registry.value(key, TWIN) is not None
    (key,) = registry.canonical(rf"HKCU\Software\{TWIN}: two [mira] (3)", SID)
    assert registry.exists(key)
    assert TWIN in state.running_services
    assert TWIN not in state.disabled_tasks
    assert f"{TWIN}.exe" in {p["name"] for p in state.processes}


def hostile_gone(lab: Path) -> None:
    workstation = open_lab(lab)
    registry, state = workstation.registry, Lab(lab).state()
    assert registry is not None
    for path in (rf"C:\ProgramData\{NAME}", rf"C:\Users\mira\AppData\Local\{NAME}"):
        found = workstation.files.path(path)
        assert found is not None
        assert workstation.files.look(found) is None, path
    for text in (rf"HKLM\SOFTWARE\{NAME}", rf"{UNINSTALL}\{NAME}"):
        assert not any(registry.exists(key) for key in registry.canonical(text)), text
    (key,) = registry.canonical(rf"HKCU\{RUN}", SID)
    assert registry.value(key, NAME) is None
    (key,) = registry.canonical(rf"HKCU\Software\{COLON}", SID)
    assert not registry.exists(key)
    assert NAME not in state.running_services
    assert NAME in state.disabled_tasks
    assert f"{NAME}.exe" not in {p["name"] for p in state.processes}


def test_every_kind_by_its_exact_name(hostile: Path, tmp_path: Path) -> None:
    """Previewed, run, verified, reported, taken back, run again and restored; pages show the names, JSON holds them."""
    file = procedure(tmp_path / "p.toml", STEPS)
    before = standing(hostile)
    job = Job.open(file, on=f"lab:{hostile}")
    survey = job.survey()
    assert len(survey.evidence) == 3
    preview = job.preview()
    phases = {(a.phase, a.kind) for a in preview.plan.actions if a.state == TO_DO}
    wanted = {
        *(("backup", kind) for kind in ("paths", "key", "value", "service", "command")),
        *(("stop", kind) for kind in ("process", "service", "task", "startup")),
        ("uninstall", "entry"), ("delete", "paths"), ("delete", "key"), ("delete", "value"),
    }  # fmt: skip
    assert wanted <= phases
    document = encode(preview_document(preview.here, preview.plan, []))
    readable(full_plan(preview.here, preview.plan).text(), document)
    assert "exact_b64" in document
    assert "Hoe\\xad tool\\u202e" in full_plan(preview.here, preview.plan).text()
    case, ended = job.run(preview, tmp_path / "cases")
    assert ended.clean, ended.verification.findings
    hostile_gone(hostile)
    twins_stay(hostile)
    made = Job.of_case(case)
    result = made.verify()
    assert result.clean
    readable(verify_page("p", "w", result).text(), encode(verify_document(job.workstation, job.procedure, result)))
    with open_case(case) as opened:
        readable(report_page(opened).text(), report_markdown(opened), report_html(opened), encode(report_document(opened)))
    assert made.undo().stays == []
    assert standing(hostile) == before
    with open_case(case) as opened:
        readable(report_page(opened).text())

    case, ended = job.run(job.preview(), tmp_path / "cases")
    restored = Job.of_case(case).restore()
    assert restored is not None
    registry = open_lab(hostile).registry
    assert registry is not None
    assert (hostile / "files/C/ProgramData" / NAME / "seed.txt").read_text() == "seed"
    (key,) = registry.canonical(rf"HKCU\Software\{COLON}", SID)
    assert registry.exists(key)
    twins_stay(hostile)
    Job.of_case(restored[0]).undo()
    hostile_gone(hostile)
    Job.of_case(case).undo()
    assert standing(hostile) == before


@pytest.mark.parametrize("write_", [7, 13, 19, 25, 31, 37])
def test_killed_and_gone_on_with(hostile: Path, tmp_path: Path, write_: int) -> None:
    """After a kill the same things are known again: by plan and journal, not by what was shown."""
    file, log = procedure(tmp_path / "p.toml", STEPS), tmp_path / "log"
    before = standing(hostile)
    words = ["run", str(file), "--on", f"lab:{hostile}", "--yes", "--quiet", "--cases", str(tmp_path / "cases")]
    assert run_until(words, write_, True, log)[0] == KILLED, log.read_text()
    (case,) = Job.cases(tmp_path / "cases")
    assert Job.of_case(case).resume().clean
    hostile_gone(hostile)
    twins_stay(hostile)
    assert Job.of_case(case).undo().stays == []
    assert standing(hostile) == before


LINUX = f"""
[[evidence]]
path = '/opt/{NAME}'
[[backup]]
label = "data"
paths = ['{{user.roaming}}/{NAME}']
[[stop]]
startup = 'Hoe{SOFT} tool*'
[[delete]]
paths = ['/opt/{NAME}', '{{user.roaming}}/{NAME}']
"""


@pytest.mark.skipif(not IS_ROOT, reason="works in another tree, which needs root")
def test_names_that_are_no_text(tmp_path: Path) -> None:
    """Bytes that are no text, below what goes and in what starts with a session."""
    top = linux_tree(tmp_path / "tree")
    odd = os.fsdecode(b"caf\xe9\xff\n")
    for name in (NAME, TWIN):
        write(top / "opt" / name / odd, "x")
        write(top / "home/mira/.config" / name / odd, "y")
        write(top / "home/mira/.config/autostart" / f"{name}.desktop", f"[Desktop Entry]\nName={name}\nExec=/opt/hoe\n")
    for path in (top / "home/mira").rglob("*"):
        os.chown(path, 1001, 1001)
    before = tree(top)
    job = Job.open(procedure(tmp_path / "p.toml", LINUX), on=f"root:{top}")
    case, ended = job.run(job.preview(), tmp_path / "cases")
    assert ended.clean, ended.verification.findings
    gone = {p for p in before if p not in tree(top)}
    assert gone == {p for p in before if NAME in p}
    with open_case(case) as opened:
        readable(report_page(opened).text(), report_markdown(opened), report_html(opened), encode(report_document(opened)))
    restored = Job.of_case(case).restore()
    assert restored is not None
    assert (top / "home/mira/.config" / NAME / odd).read_text() == "y"
    Job.of_case(restored[0]).undo()
    assert Job.of_case(case).undo().stays == []
    assert tree(top, (".kleff", "var")) == {p: state for p, state in before.items() if not p.startswith("var")}
