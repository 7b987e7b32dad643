"""Keys that nobody may open, and settings of an account that another program has: what could not be looked at is never called gone."""

from __future__ import annotations

from pathlib import Path

import pytest

from kleff.errors import Stopped
from kleff.objects.base.action import ABSENT, TO_DO, UNREADABLE
from memory import Bench

MIRA = r"HKU\S-1-5-21-1-2-3-1001"
STEPS = r"""
[[evidence]]
key = 'HKCU\Software\Brindlewort'
[[backup]]
label = "settings"
key = 'HKCU\Software\Brindlewort'
[[delete]]
key = 'HKCU\Software\Brindlewort'
[[delete]]
value = 'Tray'
in_key = 'HKCU\Software\Microsoft\Windows\CurrentVersion\Run'
[[delete]]
key = 'HKLM\SOFTWARE\Brindlewort\Locked'
[[delete]]
paths = ['{user.documents}\Beds']
"""


@pytest.fixture
def bench(folder: Path) -> Bench:
    made = Bench(folder)
    made.on.api.add(rf"{MIRA}\Software\Brindlewort", Beds="12")
    made.on.api.add(r"HKLM\SOFTWARE\Brindlewort\Locked", x="y")
    return made


def test_an_account_whose_settings_are_in_use(bench: Bench) -> None:
    """The rest is planned; where that account's folders are, such settings would say. Nothing of it is called gone."""
    before = {(a.line, a.target): a.state for a in bench.plan(STEPS)}
    assert TO_DO in before.values()
    bench.on.api.closed |= {MIRA, r"HKLM\SOFTWARE\Brindlewort\Locked"}
    planned = bench.plan(STEPS)
    closed = [a for a in planned if a.state == UNREADABLE]
    assert {(a.line, a.account) for a in closed} == {(8, "mira"), (11, "mira"), (13, "mira"), (16, ""), (18, "mira")}
    assert all(a.reason.endswith(": Device or resource busy") for a in closed)
    assert {a.account: a.state for a in planned if a.line == 18} == {"mira": UNREADABLE, "tomas": ABSENT}
    found = bench.job(STEPS).survey()
    assert [s.unreadable for s in found.unreadable] == [True]
    assert not found.evidence


def test_one_view_that_cannot_be_looked_at(bench: Bench) -> None:
    """Whether both views share a key cannot be told then: the other view is planned as ever, and this one is told."""
    bench.on.api.add(r"HKLM\SOFTWARE\Wow6432Node\Brindlewort\Locked", x="y")
    bench.on.api.closed.add(r"HKLM\SOFTWARE\Wow6432Node\Brindlewort")
    step = "[[delete]]\nkey = 'HKLM\\Software\\Brindlewort\\Locked'\n"
    assert [a.state for a in bench.plan(step)] == [TO_DO, UNREADABLE]
    assert [a.state for a in bench.plan(f"{step}view = 64\n")] == [TO_DO]


def test_of_one_account_the_rest_goes_on(bench: Bench) -> None:
    """What cannot be looked at there is left and told, and keeps nobody waiting: the case is finished, and can be taken back."""
    bench.on.api.closed |= {MIRA}
    before = bench.on.api.values("HKLM", r"SOFTWARE\Brindlewort\Locked")
    job, ended = bench.run("[[delete]]" + STEPS.partition("[[delete]]")[2])
    assert before
    assert not ended.clean
    assert {(row.action.line, row.action.account) for row in ended.failed} == {(5, "mira"), (7, "mira"), (12, "mira")}
    assert bench.on.api.values("HKLM", r"SOFTWARE\Brindlewort\Locked") is None
    assert job.undo().stays == []
    assert bench.on.api.values("HKLM", r"SOFTWARE\Brindlewort\Locked") == before


def test_a_run_stops_there(bench: Bench) -> None:
    """Before anything is removed where it is nobody's alone, or is to be saved; when it can be looked at, the run is resumed."""
    bench.on.api.closed |= {MIRA}
    with pytest.raises(Stopped, match="it cannot be looked at: Device or resource busy"):
        bench.run(STEPS)
    assert bench.on.api.values("HKLM", r"SOFTWARE\Brindlewort\Locked")
    job = bench.again(bench.job(STEPS), next((bench.folder / "cases").iterdir()))
    with pytest.raises(Stopped):
        job.resume()
    bench.on.api.closed.clear()
    assert job.resume().clean
    assert job.undo().stays == []
    assert bench.on.api.values("HKU", MIRA.removeprefix("HKU\\") + r"\Software\Brindlewort")


def test_what_is_registered_for_that_account(bench: Bench) -> None:
    """Nobody knows whether the product is: neither the evidence nor a step calls it absent."""
    steps = "[[evidence]]\nentry = 'Bed Counter'\n[[verify]]\nentry = 'Bed Counter'\n"
    assert bench.job(steps).verify().clean
    bench.on.api.closed |= {MIRA}
    assert [s.account for s in bench.job(steps).survey().unreadable] == ["mira"]
    assert [(a.state, a.account) for a in bench.plan(steps)] == [(UNREADABLE, "mira"), (ABSENT, "")]
    assert not bench.job(steps).verify().clean
