"""Who holds the product's files open: named before, ended only if chosen, and never with a command line in any text."""

from __future__ import annotations

import os
import re
from pathlib import Path

import pexpect
import pytest

from kleff.errors import Refused, UsageError
from memory import Bench, delete
from support import Kleff, describe, ended, procedure, write
from test_stopping import GARDEN, names

HOE = r"C:\Program Files\Rakeworks\Hoe"
SECRET = "--password=sesame"


def held(folder: Path, system: str = "windows") -> tuple[Bench, str, list[int]]:
    bench, place = Bench(folder, system), HOE if system == "windows" else "/opt/hoe"
    separator = "\\" if system == "windows" else "/"
    bench.on.files.add(f"{place}{separator}data.db")
    names = ("viewer.exe", "editor.exe", "explorer.exe" if system == "windows" else "bash")
    pids = [
        bench.on.processes.add(name, f"{'C:' if system == 'windows' else '/usr/bin'}{separator}{name}", "mira",
                               opens=[f"{place}{separator}data.db"], arguments=(SECRET,)).pid
        for name in names
    ]  # fmt: skip
    return bench, place, pids


@pytest.mark.parametrize("system", ["windows", "linux"])
def test_only_what_was_chosen_is_ended(folder: Path, system: str) -> None:
    """By name or number; each is an action with its line; nothing else, also if it comes later; never the system's session."""
    bench, place, (viewer, editor, session) = held(folder, system)
    plain = bench.preview(delete(place))
    assert [(h.name, h.number, h.account, h.may_be_stopped) for h in plain.plan.holders] == [
        ("viewer.exe", viewer, "mira", True), ("editor.exe", editor, "mira", True),
        ("explorer.exe" if system == "windows" else "bash", session, "mira", False),
    ]  # fmt: skip
    assert [a for a in plain.plan.actions if a.phase == "holders"] == []
    by_number = bench.preview(delete(place), holders=[str(editor)])
    assert [a.target for a in by_number.plan.actions if a.phase == "holders"] == [f"editor.exe, number {editor} of mira"]
    made = bench.preview(delete(place), holders=["viewer.exe"])
    chosen = [a for a in made.plan.actions if a.phase == "holders"]
    assert [(a.state, a.target) for a in chosen] == [("to do", f"viewer.exe, number {viewer} of mira")]
    bench.on.processes.add("viewer.exe", "C:\\x\\viewer.exe", "tomas", opens=[str(plain.plan.holders[0].path)])
    job = bench.job(delete(place))
    case, ended = job.run(made, bench.folder / "cases")
    left = [(p.name, p.account) for p in bench.on.processes.running]
    assert ("viewer.exe", "mira") not in left
    assert ("viewer.exe", "tomas") in left
    assert len(left) == 3
    rows = [r for r in ended.rows if r.action.phase == "holders"]
    assert [r.state for r in rows] == ["done"]
    told = [text for _, text in bench.again(job, case).record().events]
    assert sum("still open" in text for text in told) == 3
    assert SECRET not in str(bench.again(job, case).record())


def test_what_cannot_be_chosen(folder: Path) -> None:
    bench, place, _ = held(folder)
    before = bench.files
    with pytest.raises(UsageError, match=r"no program 'nothing.exe' holds anything open"):
        bench.preview(delete(place), holders=["nothing.exe"])
    with pytest.raises(Refused, match=r"explorer.exe is the system's own"):
        bench.run(delete(place), holders=["explorer.exe"])
    assert bench.files == before
    assert len(bench.on.processes.running) == 3


def garden(lab: Path, tmp_path: Path) -> Path:
    """A folder of which a viewer holds a file, and a procedure that deletes it."""
    write(lab / "files/C/Garden/seed.txt")
    describe(lab, name="viewer.exe", path=r"C:\Tools\viewer.exe", opens=[r"C:\Garden\seed.txt"], account="mira")
    return procedure(tmp_path / "p.toml", GARDEN)


def test_at_the_command_line(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """Named with what it holds; chosen by name; an old way of saying it is no option any more."""
    file, on = garden(lab, tmp_path), ("--on", f"lab:{lab}")
    shown = kleff("preview", file, *on).out
    assert "Open now" in shown
    assert re.search(r"viewer\.exe, number \d+ of mira", shown)
    assert "--stop-holder viewer.exe" in shown
    assert "No such option" in kleff("run", file, *on, "--yes", "--stop-holders", code=2).err
    kleff("run", file, *on, "--yes", "--stop-holder", "viewer.exe")
    assert re.search(r"viewer\.exe, number \d+ of mira", kleff("report", kleff.case()).out)
    assert "viewer.exe" not in names(lab)


def test_they_are_chosen_on_the_terminal(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """By their place in the list, or by name; what is neither is asked again."""
    file = garden(lab, tmp_path)
    child = pexpect.spawn(
        str(kleff.program), ["run", str(file), "--on", f"lab:{lab}", "--cases", str(kleff.cases)], encoding="utf-8", timeout=30,
        env={**os.environ, "HOME": str(tmp_path), "COLUMNS": "200"},
    )  # fmt: skip
    child.expect("Still open, and no step stops it:")
    child.expect(r"1  viewer\.exe, number \d+ of mira")
    child.expect(r"End which of them.*Enter for none:")
    child.sendline("7")
    child.expect("not one of them: 7")
    child.sendline("1")
    child.expect("will be removed")
    child.sendline("y")
    ended(child)
    assert "viewer.exe" not in names(lab)


def test_command_lines_of_old_cases_are_not_printed(tmp_path: Path) -> None:
    from kleff.workstation.things import without_commands

    for old, now in {
        f"program hoe.exe (hoe.exe, number 12 of mira: C:\\hoe.exe {SECRET})": "program hoe.exe (hoe.exe, number 12 of mira)",
        f"still open: C:\\x, by viewer.exe, number 7: viewer.exe {SECRET} a; b": "still open: C:\\x, by viewer.exe, number 7",
        "program hoe.exe (hoe.exe, number 12 of mira)": "program hoe.exe (hoe.exe, number 12 of mira)",
        "wrote 3 files": "wrote 3 files",
    }.items():
        assert without_commands(old) == now
