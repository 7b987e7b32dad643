"""Whether a workstation was started anew: told by a number that only a boot changes, whatever is done to its clock."""

from __future__ import annotations

import os
from ctypes import sizeof
from pathlib import Path

import pexpect
import pytest

from kleff.case.record.folder import open_case
from kleff.workstation.boot import same_boot
from kleff.workstation.lab.lab import Lab
from kleff.workstation.memory.workstation import MemoryWindows
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.native.caller import Answer, Arg, Call
from kleff.workstation.windows.native.structures import SYSTEM_TIMEOFDAY_INFORMATION
from kleff.workstation.windows.system.power.machine import boot_id
from support import Kleff, ended, procedure

BOOTED, HOUR = 133_700_000_000_000_000, 36_000_000_000  # 100 ns


class Clock:
    """A Windows, as it tells the time: the moment of the boot is moved with the clock, and by how much is told beside it."""

    def __init__(self, booted: int = BOOTED, moved: int = 0) -> None:
        self.booted, self.moved = booted, moved

    def call(self, call: Call) -> Answer:
        assert call.function == "NtQuerySystemInformation"
        told: Arg = call.arguments[1]
        assert isinstance(told, SYSTEM_TIMEOFDAY_INFORMATION)
        told.BootTime = self.booted + self.moved
        told.Reserved1[4:12] = list(self.moved.to_bytes(8, "little", signed=True))
        return Answer(0, 0)

    def __getattr__(self, name: str) -> object:
        raise AssertionError(name)

    def api(self) -> Api:
        return Api(self)  # type: ignore[arg-type]


def test_the_clock_changes_no_boot() -> None:
    assert sizeof(SYSTEM_TIMEOFDAY_INFORMATION) == 48
    told = [boot_id(Clock(moved=moved).api()) for moved in (0, HOUR, -HOUR)]
    assert len({one.boot for one in told}) == 1
    assert len({one.by_clock for one in told}) == 3
    assert boot_id(Clock(BOOTED + HOUR).api()).boot != told[0].boot


@pytest.mark.parametrize(
    ("kept", "same"), [("boot 7", True), ("boot 8", False), ("7000", True), ("7001", None), ("", False), ("lab-1 7", False)]
)
def test_what_was_kept(tmp_path: Path, kept: str, same: bool | None) -> None:
    on = MemoryWindows(tmp_path).open()
    on.boot, on.boot_by_clock = "boot 7", "7000"
    assert same_boot(on, kept) is same


def waiting(kleff: Kleff, lab: Path, folder: Path, kept: str) -> Path:
    """A case that waits for the restart of a lab; `kept`: its note of the boot."""
    file = procedure(folder / "p.toml", "[[delete]]\npaths = ['C:\\ProgramData\\Brindlewort']\n", restart="always")
    kleff("run", file, "--on", f"lab:{lab}", "--yes", code=5)
    with open_case(kleff.case(), writable=True) as case:
        case.journal.set(waiting_boot=kept)
    return kleff.case()


def by_clock(lab: Path) -> str:
    from kleff.workstation.lab.workstation import open_lab

    return open_lab(lab).boot_by_clock


def test_a_clock_that_is_set_is_no_restart(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """Of a case that waits, also of one that an earlier Kleff began; there nobody can tell, and somebody has to say so."""
    case = waiting(kleff, lab, tmp_path, f"{Lab(lab).file.id} {Lab(lab).state().boot}")
    kleff("lab", "clock", lab, 3600)
    assert "has not been restarted since" in kleff("resume", case, code=5).err
    with open_case(case, writable=True) as looked:
        looked.journal.set(waiting_boot=by_clock(lab))
    assert "has not been restarted since" in kleff("resume", case, code=5).err
    kleff("lab", "clock", lab, "--", -7200)
    refused = kleff("resume", case, code=3).err
    assert "cannot be told" in refused
    assert "--restarted" in refused
    kleff("lab", "restart", lab)
    assert "gone" in kleff("resume", case, "--restarted").out


@pytest.mark.parametrize(("said", "code"), [("y", 0), ("n", 5)])
def test_somebody_is_asked(kleff: Kleff, lab: Path, tmp_path: Path, said: str, code: int) -> None:
    case = waiting(kleff, lab, tmp_path, "12345")
    words = ["resume", str(case), "--cases", str(kleff.cases)]
    child = pexpect.spawn(str(kleff.program), words, encoding="utf-8", timeout=60, env={**os.environ, "COLUMNS": "200"})
    child.expect("restarted since the case waits")
    child.sendline(said)
    assert ended(child) == code, child.before
