"""The settings of accounts that are not signed in: loaded for one phase, let go of before a question, a program, a restart; what stays
loaded is told. Who signs in meanwhile keeps the own profile.
"""

from __future__ import annotations

import os
import shutil
from pathlib import Path
from typing import Any

import pexpect
import pytest

from kleff.closing import at_the_end, close_all
from kleff.workstation.lab.lab import Lab
from kleff.workstation.lab.registry import LabRegistry
from kleff.workstation.lab.workstation import open_lab
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.native.caller import Answer, Call, wide
from kleff.workstation.windows.native.functions import FUNCTIONS
from kleff.workstation.windows.profiles import PROFILES
from kleff.workstation.windows.system.hives import OURS, Hives
from support import Kleff, ended, procedure
from test_entries import STEP, bench

HOME = r"C:\Users\mira"
SID = "S-1-5-21-1-2-3-1001"
OF_MIRA = "[[delete]]\nkey = 'HKCU\\Software\\Rakeworks'\n"


def holding(lab: Path) -> list[str]:
    return [mark.name for mark in (lab / "state").glob("hive-*")]


def test_a_lab_spoils_a_session_as_a_windows_does(kleff: Kleff, tmp_path: Path) -> None:
    """Or the tests below would show nothing: while the settings are open who signs in gets another profile."""
    lab = bench(tmp_path / "lab")
    on = open_lab(lab, loads=True)
    assert on.registry is not None
    assert on.registry.exists(on.registry.canonical("HKCU\\Software\\Rakeworks", SID)[0])
    assert holding(lab) == [f"hive-{SID}-{os.getpid()}"]
    assert "thrown away" in kleff("lab", "sign-in", lab, "mira", code=4).out
    assert on.release() == []
    assert holding(lab) == []
    assert "is signed in" in kleff("lab", "sign-in", lab, "mira").out
    assert on.registry.exists(on.registry.canonical("HKCU\\Software\\Rakeworks", SID)[0])
    assert holding(lab) == []  # it is the session's own now
    assert Lab(lab).state().temporary == ["mira"]
    assert "has no account" in kleff("lab", "sign-in", lab, "nobody", code=2).err


def test_nothing_is_held_after_a_look(kleff: Kleff, tmp_path: Path) -> None:
    lab, file = bench(tmp_path / "lab"), procedure(tmp_path / "p.toml", STEP + OF_MIRA)
    for command in ("preview", "survey", "verify"):
        kleff(command, file, "--on", f"lab:{lab}", code=4 if command == "verify" else 0, cases=False)
        assert holding(lab) == []


def test_somebody_signs_in_while_an_uninstaller_works(kleff: Kleff, tmp_path: Path) -> None:
    lab, file = bench(tmp_path / "lab", signs_in="mira"), procedure(tmp_path / "p.toml", OF_MIRA + STEP)
    kleff("run", file, "--on", f"lab:{lab}", "--yes")
    state = Lab(lab).state()
    assert (state.signed_in, state.temporary, holding(lab)) == (["mira"], [], [])
    kleff("undo", kleff.case(), "--yes")
    assert holding(lab) == []


def test_somebody_signs_in_while_a_question_waits(kleff: Kleff, tmp_path: Path) -> None:
    """The one before anything is done; then it goes on with what is signed in."""
    lab, file = bench(tmp_path / "lab"), procedure(tmp_path / "p.toml", STEP + OF_MIRA)
    words = ["run", str(file), "--on", f"lab:{lab}", "--cases", str(kleff.cases)]
    child = pexpect.spawn(str(kleff.program), words, encoding="utf-8", timeout=60, env={**os.environ, "COLUMNS": "200"})
    child.expect("Do this on")
    assert "is signed in" in kleff("lab", "sign-in", lab, "mira").out
    child.sendline("y")
    assert ended(child) == 0, child.before
    on = open_lab(lab)
    assert on.registry is not None
    assert not on.registry.exists(on.registry.canonical("HKCU\\Software\\Rakeworks", SID)[0])


def test_what_a_killed_run_has_left_is_let_go_of_by_the_next(kleff: Kleff, tmp_path: Path) -> None:
    lab, file = bench(tmp_path / "lab"), procedure(tmp_path / "p.toml", STEP + OF_MIRA)
    (lab / "state" / f"hive-{SID}-{2**22 + 1}").touch()  # no process has that number (proc(5), pid_max)
    assert not LabRegistry(Lab(lab)).sign_in("mira")
    kleff("survey", file, "--on", f"lab:{lab}", cases=False)
    assert LabRegistry(Lab(lab)).sign_in("mira")


class Windows:
    """Loads and unloads as a Windows does. Attributes: loaded: what is; busy: what somebody else has open."""

    def __init__(self) -> None:
        self.loaded: set[str] = set()
        self.busy: set[str] = set()

    def call(self, call: Call) -> Answer:
        given: Any = call.arguments
        if call.function == "RegLoadKeyW":
            self.loaded.add(given[1])
        elif call.function == "RegUnLoadKeyW":
            if any(given[1].endswith(one) for one in self.busy):
                return Answer(5, 0)
            self.loaded.discard(given[1])
        elif call.function == "RegOpenKeyExW":
            given[4][:] = (7 if given[1] == PROFILES else 8).to_bytes(8, "little")
        elif call.function == "RegEnumKeyExW":
            if given[0] != 7 or given[1]:
                return Answer(259, 0)
            given[2][: len(wide(SID))] = wide(SID)
        elif call.function == "RegQueryValueExW":
            given[4][: len(wide(HOME))] = wide(HOME)
            given[5][:] = len(wide(HOME)).to_bytes(4, "little")
        elif FUNCTIONS[call.function].means == "bool":
            return Answer(1, 0)
        return Answer(0, 0)


def test_what_cannot_be_unloaded_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("kleff.workstation.windows.system.hives.PAUSE", 0)
    windows = Windows()
    hives = Hives(Api(windows), str, (4711, 1))  # type: ignore[arg-type]
    hives.place("HKU", f"{SID}\\Software")
    windows.busy = {SID}
    assert hives.release() == [SID]
    at_the_end(hives.close)
    (text,) = close_all()
    assert r"C:\Users\mira could not be unloaded" in text
    assert "restart the workstation" in text
    windows.busy = set()
    assert (hives.release(), windows.loaded, hives.close()) == ([], set(), "")
    hives.place("HKU", f"{SID}\\Software")
    assert {name.startswith(OURS) for name in windows.loaded} == {True}  # it is loaded anew


def test_what_cannot_be_closed_keeps_nothing_from_being_closed(tmp_path: Path) -> None:
    closed = []
    lab = bench(tmp_path / "lab")
    on = open_lab(lab, loads=True)
    assert on.registry is not None
    assert on.registry.exists(on.registry.canonical("HKCU\\Software\\Rakeworks", SID)[0])
    at_the_end(lambda: closed.append("first") or "")
    at_the_end(lambda: str(os.stat(tmp_path / "gone")))
    shutil.rmtree(lab)
    assert close_all() == [f"{tmp_path / 'gone'} could not be let go of: No such file or directory"]
    assert closed == ["first"]
    assert close_all() == []
