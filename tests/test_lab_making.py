"""Labs that are made from a procedure, or from a short description: every step finds something, neighbours stay, mistakes add nothing."""

from __future__ import annotations

import re
import shutil
import time
from pathlib import Path
from typing import Any

import pytest

from needs.lab import HERE
from support import Kleff, differences, hives, procedure, tree

SAMPLE = Path(__file__).parent.parent / "src/kleff/samples/tag-studio.toml"
SPEC = r"""
about = "our own product, to rehearse with"
keys_from = ["ours.reg"]
[[product]]
name = "Trowel"
publisher = "Rakeworks"
version = "3.1"
files = ["trowel.exe", 'data\beds.db']
behaves = { refuses_while = ["trowel.exe"], refusal = 5, exit = 3010 }
[[process]]
name = "trowel.exe"
path = 'C:\Program Files\Rakeworks\Trowel\trowel.exe'
locks = ['C:\Program Files\Rakeworks\Trowel\data\beds.db']
[[file]]
path = 'C:\ProgramData\Rakeworks\licence.key'
content = "42"
[[service]]
name = "TrowelSync"
program = 'C:\Program Files\Rakeworks\Trowel\trowel.exe'
[[driver]]
name = "rwprobe"
provider = "Rakeworks"
title = "Rakeworks probe"
[[shortcut]]
path = 'C:\Users\Public\Desktop\Trowel.lnk'
target = 'C:\Program Files\Rakeworks\Trowel\trowel.exe'
[[firewall]]
name = "Trowel"
program = 'C:\Program Files\Rakeworks\Trowel\trowel.exe'
[[task]]
name = 'Rakeworks\Update'
program = 'C:\Program Files\Rakeworks\Trowel\update.exe'
"""
EXPORTED = 'Windows Registry Editor Version 5.00\r\n\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Rakeworks\\Trowel]\r\n"Beds"=dword:00000007\r\n'
STEPS = r"""
[[evidence]]
entry = "Rakeworks Trowel"
[[backup]]
label = "licence"
paths = ['%ProgramData%\Rakeworks\licence.key']
[[stop]]
process = "trowel.exe"
within = "1s"
[[uninstall]]
entry = "Rakeworks Trowel"
publisher = "Rakeworks"
[[uninstall]]
driver = "rwprobe.inf"
provider = "Rakeworks"
[[delete]]
paths = ['%ProgramFiles%\Rakeworks\Trowel', '%ProgramData%\Rakeworks']
[[delete]]
key = 'HKLM\Software\Rakeworks'
[[delete]]
service = "TrowelSync"
[[delete]]
shortcuts_to = '%ProgramFiles%\Rakeworks\Trowel\**'
[[delete]]
firewall = '%ProgramFiles%\Rakeworks\Trowel\*.exe'
[[delete]]
task = 'Rakeworks\*'
"""


def stands(lab: Path) -> tuple[dict[str, Any], dict[str, Any]]:
    return tree(lab / "files"), hives(lab)


def changed(before: tuple[dict[str, Any], ...], after: tuple[dict[str, Any], ...]) -> list[str]:
    """Differences; the scheduler registers a task anew in a file of its own, with the time of day."""
    found = [line for one, other in zip(before, after, strict=True) for line in differences(one, other)]
    return [line for line in found if not line.startswith("changed: C/Windows/System32/Tasks")]


@pytest.mark.parametrize("file", [SAMPLE, HERE / "every-kind.procedure.toml"], ids=["sample", "every kind"])
def test_every_step_finds_something(kleff: Kleff, tmp_path: Path, file: Path) -> None:
    """And a whole run on it is clean, leaves the neighbours, and is taken back."""
    lab, on = tmp_path / "lab", f"lab:{tmp_path / 'lab'}"
    own = Path(shutil.copy(file, tmp_path / "own.toml"))
    said = kleff("lab", "make", lab, "--from", own, cases=False).out
    assert "nothing could be made" not in said
    before = stands(lab)
    kleff("run", own, "--on", on, "--yes")
    assert (lab / "files/C/Program Files/Stocktake/Stocktake/stocktake.exe").exists()
    assert list(lab.rglob("Neighbour of it.txt"))
    kleff("undo", kleff.case(), "--yes", code=0 if file == SAMPLE else 4)
    assert changed(before, stands(lab)) == []


@pytest.mark.parametrize(
    "name", sorted(path.name[:-5] for path in HERE.glob("*.toml") if not path.name.endswith((".lab.toml", "kind.procedure.toml")))
)
def test_a_lab_for_every_need(kleff: Kleff, tmp_path: Path, name: str) -> None:
    """No step of theirs finds nothing; where a question is open, that is said, and the lab is there."""
    own = Path(shutil.copy(HERE / f"{name}.toml", tmp_path / "own.toml"))
    said = kleff("lab", "make", tmp_path / "lab", "--from", own, cases=False).out
    assert "is ready" in said
    assert "nothing could be made" not in said
    assert ("not answered" in said) == (name == "tool-with-a-choice")


def test_the_story_of_five_minutes(kleff: Kleff, tmp_path: Path) -> None:
    """A lab, one's own product on it, a look, a run with its restart, and all of it back; by the clock of its commands."""
    began, lab, on = time.monotonic(), tmp_path / "lab", f"lab:{tmp_path / 'lab'}"
    (tmp_path / "trowel.spec.toml").write_text(SPEC)
    (tmp_path / "ours.reg").write_bytes(EXPORTED.encode("utf-16"))
    own = procedure(tmp_path / "trowel.toml", STEPS)
    kleff("lab", "make", lab, "--plain", cases=False)
    kleff("lab", "add", lab, tmp_path / "trowel.spec.toml", cases=False)
    before = stands(lab)
    shown = kleff("preview", own, "--on", on).out
    assert "Not here" not in shown, shown
    assert "restart is needed" in kleff("run", own, "--on", on, "--yes", code=5).err
    kleff("lab", "restart", lab, cases=False)
    assert "nothing is left" in kleff("resume").out
    kleff("undo", kleff.case(), "--yes")
    assert changed(before, stands(lab)) == []
    assert time.monotonic() - began < 300


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('name = "Trowel"', 'nam = "Trowel"', r"spec.toml:\d+:\d+: .*nam"),
        ("refusal = 5", 'refusal = "five"', r"spec.toml:9:\d+: .*int"),
        ("refusal = 5", "refuses = 5", r"spec.toml:9:\d+: .*refuses"),
        ("path = 'C:\\ProgramData", "path = 'ProgramData", r"spec.toml:15:\d+: is no whole path"),
        ('"ours.reg"', '"theirs.reg"', r"theirs.reg: No such file"),
        ("[[service]]", "[[service]", r"spec.toml:\d+"),
    ],
)
def test_a_mistake_adds_nothing(kleff: Kleff, tmp_path: Path, old: str, new: str, said: str) -> None:
    lab = tmp_path / "lab"
    kleff("lab", "make", lab, "--plain", cases=False)
    before = stands(lab), (lab / "lab.toml").read_text()
    (tmp_path / "ours.reg").write_bytes(EXPORTED.encode("utf-16"))
    (tmp_path / "spec.toml").write_text(SPEC.replace(old, new))
    assert re.search(said, kleff("lab", "add", lab, tmp_path / "spec.toml", code=2, cases=False).err)
    assert (stands(lab), (lab / "lab.toml").read_text()) == before


@pytest.mark.parametrize(
    "lines",
    [
        "[[file]]\npath = 'C:\\..\\..\\..\\escaped.txt'",
        "[[file]]\npath = 'C:/../../../escaped.txt'",
        "[[folder]]\npath = 'C:\\'",
        "[[task]]\nname = '..\\..\\..\\..\\..\\..\\escaped.txt'\nprogram = 'C:\\x.exe'",
        "[[product]]\nname = 'x'\npublisher = 'y'\nfiles = ['..\\..\\..\\..\\..\\..\\escaped.txt']",
        "[[file]]\npath = 'C:\\Out\\escaped.txt'",
    ],
)
def test_nothing_is_written_outside_the_lab(kleff: Kleff, tmp_path: Path, lines: str) -> None:
    """A description may come from anywhere, and Kleff is an administrator; so may a lab, with a link in it."""
    lab, spec = tmp_path / "lab", tmp_path / "spec.toml"
    kleff("lab", "make", lab, "--plain", cases=False)
    (lab / "files/C/Out").symlink_to(tmp_path)
    spec.write_text(lines)
    before = stands(lab)
    said = kleff("lab", "add", lab, spec, code=2, cases=False).err
    assert any(why in said for why in ("is no path of a lab", "is no whole path", "reached by a link"))
    assert stands(lab) == before
    assert not list(tmp_path.rglob("escaped.txt"))


def test_letter_case_and_other_drives(kleff: Kleff, tmp_path: Path) -> None:
    """A folder that is there is that folder, however it is written; a drive is made."""
    lab, spec = tmp_path / "lab", tmp_path / "spec.toml"
    kleff("lab", "make", lab, "--plain", cases=False)
    spec.write_text("[[file]]\npath = 'c:\\PROGRAMDATA\\stocktake\\new.txt'\n[[file]]\npath = 'D:\\Größe\\x.txt'\n")
    kleff("lab", "add", lab, spec, cases=False)
    assert (lab / "files/C/ProgramData/Stocktake/new.txt").exists()
    assert (lab / "files/D/Größe/x.txt").exists()


def test_twice_is_told(kleff: Kleff, tmp_path: Path) -> None:
    lab, spec = tmp_path / "lab", tmp_path / "spec.toml"
    kleff("lab", "make", lab, "--plain", cases=False)
    spec.write_text("[[file]]\npath = 'C:\\a.txt'\n")
    kleff("lab", "add", lab, spec, cases=False)
    assert r"C:\a.txt is on the lab already" in kleff("lab", "add", lab, spec, code=2, cases=False).err


def test_a_procedure_for_another_system(kleff: Kleff, tmp_path: Path) -> None:
    own = procedure(tmp_path / "p.toml", "[[evidence]]\npath = '/opt/x'\n[[delete]]\npaths = ['/opt/x']\n")
    assert "written for another system" in kleff("lab", "make", tmp_path / "lab", "--from", own, code=3, cases=False).err
    assert not (tmp_path / "lab").exists()
