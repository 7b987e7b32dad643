"""Scheduled tasks deleted, with all that the system knows of them; taken back they are registered again, on or off as they were."""

from __future__ import annotations

from pathlib import Path

import pytest

from kleff.engine.job import Job
from kleff.engine.library import parse
from kleff.registry.registry import Registry
from kleff.workstation.lab.lab import Lab
from kleff.workstation.lab.registry import LabRegistry
from kleff.workstation.lab.tasks import CACHE, LabTaskControl
from kleff.workstation.lab.workstation import open_lab
from memory import Bench, each_kill, states
from support import bad_step, differences, hives

UPDATE, LOG, OTHER = r"Brindlewort\Label update", r"Brindlewort\Log", r"Stocktake\Count"
PROGRAMS = {
    UPDATE: r"C:\Program Files\Brindlewort\update.exe",
    LOG: r"C:\Program Files\Brindlewort\log.exe",
    OTHER: r"C:\Stocktake\update.exe",
}
XML = "<Task><Settings><Enabled>{on}</Enabled></Settings><Actions><Exec><Command>{program}</Command></Exec></Actions></Task>"
FOLDER = r"C:\Windows\System32\Tasks"


def step(task: str, more: str = "") -> str:
    return f"[[delete]]\ntask = '{task}'\n{more}"


def bench(folder: Path) -> Bench:
    made = Bench(folder)
    for name, program in PROGRAMS.items():
        made.on.files.add(program, "MZ")
        made.on.files.add(rf"{FOLDER}\{name}", XML.format(on="true", program=program))
    made.on.control.set_enabled(LOG, False)
    return made


def left(made: Bench) -> set[str]:
    return {task.name for task in made.on.open().tasks.all()}


@pytest.mark.parametrize(
    ("task", "gone"),
    [
        (r"Brindlewort\*", {UPDATE, LOG}), (UPDATE, {UPDATE}), ("log.exe", {LOG}),
        (r"%ProgramFiles%\Brindlewort\update.exe", {UPDATE}), (r"C:\Program Files\Brindlewort\*.exe", {UPDATE, LOG}),
    ],
)  # fmt: skip
def test_there_and_back(tmp_path: Path, task: str, gone: set[str]) -> None:
    """By name, folder, the program's name or its whole path."""
    made = bench(tmp_path)
    before = made.files
    job, ended = made.run(step(task) + f"[[verify]]\ntask = '{task}'\n")
    assert ended.clean
    assert left(made) == set(PROGRAMS) - gone
    assert job.undo().stays == []
    assert {k: v[:1] for k, v in made.files.items()} == {k: v[:1] for k, v in before.items()}
    assert [t.enabled for t in made.on.open().tasks.all() if t.name == LOG] == [False]


def test_killed_at_any_write(tmp_path: Path) -> None:
    for made, job, _ in each_kill(tmp_path, bench, step(r"Brindlewort\*")):
        assert job.record().state == "finished" or job.resume().clean
        assert left(made) == {OTHER}
        assert job.undo().stays == []
        assert left(made) == set(PROGRAMS)


def test_its_registry_side_on_a_lab(lab: Path, tmp_path: Path) -> None:
    workstation = open_lab(lab)
    assert workstation.registry is not None
    control = LabTaskControl(Lab(lab), workstation.files, Registry(LabRegistry(Lab(lab))))
    for name, program in PROGRAMS.items():
        control.register(name, XML.format(on="true", program=program))
    before = hives(lab)
    assert any("Label update" in key for key in before)
    text = f"format = 1\n[product]\nid = 'x'\nname = 'X'\n[[evidence]]\npath = 'C:\\nowhere'\n{step(UPDATE)}"
    job = Job(open_lab(lab), parse(text.encode(), "x.toml"))
    folder, ended = job.run(job.preview(), tmp_path / "cases")
    assert ended.clean
    gone = [line for line in differences(before, hives(lab)) if "gone: " in line]
    assert len(gone) == 2
    assert all(CACHE.rpartition("\\")[2] in line for line in gone)
    assert Job.of_case(folder).undo().stays == []
    assert differences(before, hives(lab)) == []


def test_what_is_refused_or_kept(tmp_path: Path) -> None:
    made = bench(tmp_path)
    made.on.files.add(rf"{FOLDER}\Microsoft\Windows\Sync", XML.format(on="true", program="x"))
    for task, wanted in ((r"Microsoft\Windows\Sync", "refused"), ("*e*", "refused"), ("nothing at all", "absent")):
        found = states(made.plan(step(task), phase="delete"))
        assert {state for state, _ in found.values()} == {wanted}, found
    for phase in ("stop", "delete", "verify"):
        assert all(problem.startswith("x.toml:8:") for problem in bad_step(r"task = '{nowhere}\x'", phase))


def test_one_that_the_scheduler_does_not_make_again(tmp_path: Path) -> None:
    """As one that runs with a password, which nobody keeps: it is named, and the rest is taken back."""
    made = bench(tmp_path)
    job, _ = made.run(step(r"Brindlewort\*"))
    made.on.control.needs_password.add(UPDATE)
    (told,) = job.undo().stays
    assert "Label update" in told
    assert "cannot be made again" in told
    assert left(made) == {LOG, OTHER}


def test_undo_that_was_cut_off(tmp_path: Path) -> None:
    """It is registered again, and not yet switched off as it was."""
    made = bench(tmp_path)
    job, _ = made.run(step(LOG))
    made.on.control.set_enabled(LOG, True)
    made.on.control.register(LOG, XML.format(on="true", program=PROGRAMS[LOG]))
    assert job.undo().stays == []
    assert [t.enabled for t in made.on.open().tasks.all() if t.name == LOG] == [False]
