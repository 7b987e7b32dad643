"""Programs of which it cannot be told what they have open: they are told, nobody waits for them, and the rest is known."""

from __future__ import annotations

import sys
import time
from pathlib import Path

import psutil
import pytest

from kleff.case.record.folder import open_case
from kleff.workstation.windows.system.asking import AT_ONCE, IN_ALL, Helper, Patient
from memory import Bench
from support import Kleff, procedure
from test_entries import FOLDER, STEP, bench

# Answers in capitals; is stuck at handles that end with 7, falls over at those that end with 9.
HELPER = """
import json, sys, time
print(flush=True)
for line in sys.stdin:
    for pid, handle in json.loads(line):
        if handle % 10 == 7: time.sleep(3600)
        if handle % 10 == 9: sys.exit(1)
        print(json.dumps(f"{pid}-{handle}"), flush=True)
"""


class Helpers:
    """Those that were started."""

    def __init__(self, text: str = HELPER) -> None:
        self.text, self.made = text, 0

    def __call__(self) -> Helper:
        self.made += 1
        return Helper([sys.executable, "-I", "-S", "-c", self.text], {})


def running() -> set[int]:
    return {child.pid for child in psutil.Process().children() if child.status() != psutil.STATUS_ZOMBIE}


def test_behind_a_handle_that_gives_no_answer() -> None:
    """Another helper goes on; where one falls over too; none is left."""
    before, helpers = running(), Helpers()
    patient = Patient(helpers)
    pairs = [(1, handle) for handle in (10, 17, 11, 12, 19, 13)] + [(2, 10 * n) for n in range(3 * AT_ONCE)]
    wanted = [f"{pid}-{handle}" if handle % 10 not in (7, 9) else None for pid, handle in pairs]
    assert list(patient.paths(pairs)) == wanted
    assert helpers.made == 3
    assert list(patient.paths([(3, 10)])) == ["3-10"]
    assert helpers.made == 3  # it is kept
    patient.close()
    assert running() == before


def test_only_so_long_in_all() -> None:
    helpers = Helpers()
    patient = Patient(helpers)
    began = time.process_time()
    found = list(patient.paths([(1, 10), *[(1, 7)] * 60, (1, 10)]))
    patient.close()
    assert found[0] == "1-10"
    assert set(found[1:]) == {None}
    assert helpers.made <= 1 + IN_ALL / 0.25
    assert time.process_time() - began < IN_ALL


@pytest.mark.parametrize("text", ["raise SystemExit(1)", "import sys; sys.stdin.close()"])
def test_a_helper_that_does_not_start(text: str) -> None:
    patient = Patient(Helpers(text))
    assert list(patient.paths([(1, 10), (1, 20)])) == [None, None]
    patient.close()


def test_told_before_and_in_the_case(kleff: Kleff, tmp_path: Path) -> None:
    """On a lab: in both forms of the plan, as data, and where the run tells who has something open."""
    lab = bench(tmp_path / "lab", also={}, processes=[])
    text = (lab / "lab.toml").read_text()
    (lab / "lab.toml").write_text(
        text + f"\n[[process]]\nname = \"pipes.exe\"\npath = '{FOLDER}2\\pipes.exe'\nwaits = true\nat_start = true\n"
    )
    (lab / "files/C/Program Files/Rakeworks/Hoe2").mkdir()
    (lab / "files/C/Program Files/Rakeworks/Hoe2/pipes.exe").write_text("pipes")
    kleff("lab", "restart", lab)
    file = procedure(tmp_path / "p.toml", STEP + f"[[delete]]\npaths = ['{FOLDER}']\n")
    on = ("--on", f"lab:{lab}")
    for page in (kleff("preview", file, *on).out, kleff("preview", file, *on, short=True).out):
        assert "not known what is open by pipes.exe" in page
    assert "pipes.exe" in kleff("preview", file, *on, "--json").json()["silent"][0]
    kleff("run", file, *on, "--yes")
    with open_case(kleff.case()) as case:
        assert any("not known what is open by pipes.exe" in text for _, text in case.journal.events())


def test_in_memory(tmp_path: Path) -> None:
    made = Bench(tmp_path)
    one = made.on.processes.add("pipes.exe", r"C:\Elsewhere\pipes.exe")
    made.on.processes.waits.add(one.pid)
    assert [p.name for p in made.on.open().processes.silent()] == ["pipes.exe"]  # type: ignore[union-attr]
