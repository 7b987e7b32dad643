"""Labs: the same each time, restarted, their services and processes; and how pages and reports are written."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kleff.registry.values import number_value
from kleff.report.case_report import code
from kleff.report.lines import Page
from kleff.texts import plain, size
from kleff.workstation.lab.demo_workstation import build_demo_workstation
from kleff.workstation.lab.lab import Lab
from kleff.workstation.lab.workstation import open_lab
from support import Kleff, differences, hives, procedure, tree


def test_one_seed_is_one_lab(tmp_path: Path, lab_master: Path) -> None:
    build_demo_workstation(tmp_path / "again")
    build_demo_workstation(tmp_path / "other", seed=7)

    def same(top: Path) -> dict[str, object]:
        return {p: v[0:1] + v[3:] for p, v in tree(top).items() if not p.startswith("state")}

    settled = {p: v for p, v in same(lab_master).items() if p.startswith("files")}
    assert differences(settled, {p: v for p, v in same(tmp_path / "again").items() if p.startswith("files")}) == []
    assert hives(lab_master) == hives(tmp_path / "again")
    assert (lab_master / "lab.toml").read_bytes() == (tmp_path / "again/lab.toml").read_bytes()
    assert hives(lab_master) != hives(tmp_path / "other")
    picture = next((tmp_path / "again/files/C/Users/mira/Pictures").iterdir()).read_bytes()
    assert picture.startswith(b"\x89PNG\r\n\x1a\n")


def test_show_and_restart(kleff: Kleff, lab: Path) -> None:
    before = kleff("lab", "show", lab, "--json").json()
    assert (before["accounts"], before["files"] >= 400) == (["mira", "till", "tomas"], True)
    kleff("lab", "restart", lab)
    after = kleff("lab", "show", lab, "--json").json()
    assert after["boot"] != before["boot"]
    assert {p["name"] for p in after["processes"]} == {"tagtray.exe", "stocktake.exe", "explorer.exe"}
    assert (after["files"], after["keys"]) == (before["files"], before["keys"])
    assert "POTTING-02" in kleff("lab", "show", lab).out


def test_services_processes_and_children(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """Children go with their parent; undo gives start type and running state back, and names the ended programs."""
    steps = '[[stop]]\nprocess = "tagstudio.exe"\n[[stop]]\nprocess = "*\\\\tagtray.exe"\nwithin = "1s"\n'
    steps += '[[stop]]\nservice = "BrindlewortPrintBridge"\n'
    kleff("run", procedure(tmp_path / "p.toml", steps), "--on", f"lab:{lab}", "--yes")
    assert {p["name"] for p in Lab(lab).state().processes} == {"stocktake.exe", "explorer.exe"}
    assert "BrindlewortPrintBridge" not in Lab(lab).state().running_services
    workstation = open_lab(lab)
    assert workstation.registry is not None
    assert workstation.services is not None
    key = r"SYSTEM\ControlSet001\Services\BrindlewortPrintBridge"
    workstation.registry.api.set("HKLM", key, number_value("Start", 4))
    workstation.registry.api.flush()
    done = kleff("undo", kleff.case(), "--yes")
    assert "tagpreview" not in done.out.split("tagstudio.exe (")[0]
    assert "start it again if it is wanted" in done.out
    service = open_lab(lab).services
    assert service is not None
    found = service.get("brindlewortprintbridge")
    assert found is not None
    assert (found.running, found.start) == (True, "automatic")


def test_an_optional_step_that_fails(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """It is reported, does not stop the run, and makes the end not clean."""
    program = json.dumps([r"C:\Program Files\Brindlewort\Tag Studio 4\tagstudio.exe", "export"])
    step = f'[[backup]]\nlabel = "x"\noptional = true\ncommand = {program}\nsaves_as = "x.txt"\n'
    step += "[[delete]]\npaths = ['{user.home}\\.brindlewort']\n"
    done = kleff("run", procedure(tmp_path / "p.toml", step), "--on", f"lab:{lab}", "--yes", code=4)
    assert "failed, but optional" in done.err
    assert "exported nothing" in kleff("report", kleff.case()).out
    assert not (lab / "files/C/Users/mira/.brindlewort").exists()


def test_steps_for_other_systems_are_left_out(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    steps = "[[evidence]]\nentry = 'x'\n[[delete]]\non = 'linux'\npaths = ['/opt/x']\n[[delete]]\npaths = ['/opt/y']\n"
    file = procedure(tmp_path / "p.toml", steps + "[[purge]]\npackage = 'x'\n")
    found = kleff("preview", file, "--on", f"lab:{lab}", "--json").json()
    assert (found["actions"], len(found["elsewhere"])) == ([], 3)
    assert "3 steps for another system: line" in kleff("preview", file, "--on", f"lab:{lab}").out


def test_accounts_that_are_named(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """Only those; the default and public profiles only so."""
    step = "[[delete]]\naccounts = ['mira']\npaths = ['{user.home}\\.brindlewort']\n"
    step += "[[delete]]\nkey = 'HKCU\\Software\\Brindlewort\\Tag Studio'\naccounts = ['till']\n"
    kleff("run", procedure(tmp_path / "p.toml", step), "--on", f"lab:{lab}", "--yes")
    homes = lab / "files/C/Users"
    assert [(homes / n / ".brindlewort").exists() for n in ("mira", "till", "tomas")] == [False, True, True]
    left = [k.split("\\")[1][-4:] for k in hives(lab) if k.endswith(r"Software\Brindlewort\Tag Studio") and k.startswith("HKU")]
    assert sorted(left) == ["1001", "1002"]


@given(st.text())
def test_plain_text_cannot_move_a_cursor(text: str) -> None:
    shown = plain(text)
    assert not re.search(r"[\x00-\x1f\x7f-\x9f\u200b-\u200f\u2028-\u202e\u2066-\u2069]", shown)
    assert plain(shown) == shown


@given(st.text(max_size=30))
def test_code_spans_cannot_be_closed(text: str) -> None:
    span = code(text)
    fence = re.match("`+", span)
    assert fence is not None
    inner = span[len(fence[0]) : -len(fence[0])]
    assert fence[0] not in inner or not inner


@given(st.lists(st.text("ab \\/", max_size=60), min_size=1, max_size=3), st.integers(20, 60))
def test_wrapping_loses_nothing(pieces: list[str], width: int) -> None:
    page = Page()
    page.row(*[(p, "plain") for p in pieces])
    text = page.text(width=width)
    assert all(len(line) <= width for line in text.split("\n"))
    assert re.sub(r"\s", "", text) == re.sub(r"\s", "", "".join(pieces))


@pytest.mark.parametrize(
    ("count", "text"), [(0, "0 B"), (1023, "1023 B"), (1024, "1.0 KiB"), (10 * 2**20, "10.0 MiB"), (5 * 2**40, "5120.0 GiB")]
)
def test_sizes(count: int, text: str) -> None:
    assert size(count) == text
