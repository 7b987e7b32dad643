"""Services taken out of the manager's register; taken back they are made again, with all their key says, and run as before."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from kleff.engine.job import Job
from kleff.engine.library import parse
from kleff.errors import RestartNeeded
from kleff.registry.values import list_value, number_value, text_value
from kleff.workstation.lab.lab import Lab
from kleff.workstation.lab.workstation import at_start, open_lab
from memory import Bench, each_kill, states
from support import describe, differences, hives

STEP = '[[delete]]\nservice = "TagBridge*"\n[[verify]]\nservice = "TagBridge*"\n'
TOP = r"SYSTEM\ControlSet001\Services"


def bench(folder: Path) -> Bench:
    made = Bench(folder)
    made.on.service("TagBridge", r"C:\Program Files\Brindlewort\bridge.exe")
    made.on.service("TagBridge2", r"C:\Program Files\Brindlewort\bridge2.exe", start=3)
    made.on.service("Stocktake", r"C:\Stocktake\sync.exe")
    for value in (list_value("DependOnService", ["TagBridge"]), number_value("Type", 0x10), text_value("ObjectName", "LocalSystem")):
        made.on.api.set("HKLM", rf"{TOP}\TagBridge2", value)
    made.on.api.create("HKLM", rf"{TOP}\TagBridge\Parameters")
    made.on.api.set("HKLM", rf"{TOP}\TagBridge\Parameters", text_value("Beds", "12"))
    return made


def stands(made: Bench) -> Any:
    workstation = made.on.open()
    key = workstation.registry.canonical(rf"HKLM\{TOP}")[0]
    return workstation.registry.tree(key), list(workstation.services.like("*"))


def test_there_and_back(tmp_path: Path) -> None:
    """What depends on it is stopped first; a neighbour's is left."""
    made = bench(tmp_path)
    before = stands(made)
    job, ended = made.run(STEP)
    assert ended.clean
    assert [s.name for s in made.on.open().services.like("*")] == ["Stocktake"]
    assert job.undo().stays == []
    assert stands(made) == before


def test_killed_at_any_write(tmp_path: Path) -> None:
    wanted = stands(bench(tmp_path / "whole"))
    for made, job, _ in each_kill(tmp_path, bench, STEP):
        assert job.record().state == "finished" or job.resume().clean
        assert [s.name for s in made.on.open().services.like("*")] == ["Stocktake"]
        assert job.undo().stays == []
        assert stands(made) == wanted


def test_one_that_is_open_goes_at_the_restart(lab: Path, tmp_path: Path) -> None:
    describe(lab, name="services.exe", path=r"C:\Windows\services.exe", opens=["BrindlewortPrintBridge"])
    before = hives(lab)
    text = (
        "format = 1\n[product]\nid = 'x'\nname = 'X'\n[[evidence]]\npath = 'C:\\nowhere'\n[[delete]]\nservice = 'BrindlewortPrintBridge'\n"
    )
    job = Job(open_lab(lab), parse(text.encode(), "x.toml"))
    with pytest.raises(RestartNeeded):
        job.run(job.preview(), tmp_path / "cases")
    Lab(lab).start(at_start(Lab(lab)))
    case = Job.of_case(next((tmp_path / "cases").iterdir()))
    assert any("it goes at the restart" in row.note for row in case.record().rows)
    assert case.resume().clean
    assert Job.of_case(next((tmp_path / "cases").iterdir())).undo().stays == []
    assert differences(before, hives(lab)) == []


def test_what_is_refused(tmp_path: Path) -> None:
    made = bench(tmp_path)
    made.on.service("EventLog", r"C:\Windows\System32\svchost.exe")
    for name, wanted in (("EventLog", "refused"), ("*", "refused"), ("Nowhere", "absent")):
        found = states(made.plan(f'[[delete]]\nservice = "{name}"\n', phase="delete"))
        assert {state for state, _ in found.values()} == {wanted}, (name, found)
    linux = Bench(tmp_path / "linux", "linux")
    linux.on.services.add("bridge")
    ((state, reason),) = states(linux.plan('[[delete]]\nservice = "bridge"\n', phase="delete")).values()
    assert (state, "units_of" in reason) == ("refused", True)


def test_one_that_was_to_go_anyway(tmp_path: Path) -> None:
    """Made again it is no longer marked: else the next restart would take it."""
    made = bench(tmp_path)
    made.on.api.set("HKLM", rf"{TOP}\TagBridge", number_value("DeleteFlag", 1))
    job, _ = made.run(STEP)
    assert job.undo().stays == []
    tree = made.on.open().registry.tree(made.on.open().registry.canonical(rf"HKLM\{TOP}\TagBridge")[0])
    assert {value.name for value in tree.values.values()} == {"ImagePath", "Start", "DisplayName"}


def test_undo_that_was_cut_off(tmp_path: Path) -> None:
    """The manager has made it, and the rest of its key is not written yet; or somebody else has made another of that name."""
    made = bench(tmp_path)
    wanted = stands(made)
    job, _ = made.run(STEP)
    made.on.api.create("HKLM", rf"{TOP}\TagBridge")
    made.on.api.set("HKLM", rf"{TOP}\TagBridge2", text_value("ImagePath", r"C:\Somebody\else.exe"))
    (told,) = job.undo().stays
    assert "TagBridge2" in told
    assert "another service of that name is there" in told
    assert made.on.open().registry.tree(made.on.open().registry.canonical(rf"HKLM\{TOP}\TagBridge")[0]) == wanted[0].keys["TAGBRIDGE"]
