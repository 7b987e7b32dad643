"""A thing with a short name is one thing, by whichever it is called: guarded, kept, owned, removed and given back as that."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kleff.procedure.globs import WINDOWS, fold
from kleff.workstation.facets import Workstation
from kleff.workstation.lab.workstation import open_lab
from kleff.workstation.memory.tree import MemoryTree
from kleff.workstation.paths import WPath
from kleff.workstation.short_names import SHORT, fits, generated
from memory import Bench, delete, each_kill, killed_at
from support import Kleff, differences, procedure, tree
from test_entries import STEP, bench
from test_list_items import ENVIRONMENT
from test_shortcuts import made as lnk

LTD, SHOP = r"C:\Program Files\Rakeworks Ltd", "files/C/Program Files/Rakeworks Ltd"
HOE, HEDGE = r"C:\PROGRA~1\RAKEWO~1\GARDEN~1", r"C:\PROGRA~1\RAKEWO~1\GARDEN~2"
names = st.text(st.sampled_from("abcXYZ .~+ü_-"), min_size=1, max_size=20).filter(lambda name: name.strip(" .") == name)


@pytest.mark.parametrize(
    ("name", "short"),
    [
        ("Program Files", "PROGRA~1"), ("Seed Planner.exe", "SEEDPL~1.EXE"), ("licence.bwlx", "LICENC~1.BWL"), (".profile", "PROFIL~1"),
        ("a.b.c", "AB~1.C"), ("x+y", "X_Y~1"),
    ],
)  # fmt: skip
def test_the_documented_rule(name: str, short: str) -> None:
    assert generated(name, set()) == short
    assert generated(name, {short}) == short.replace("~1", "~2")


@given(st.lists(names, unique_by=fold, max_size=12))
def test_each_has_one_of_its_own(some: list[str]) -> None:
    """What is called by a short name is what has it; short names are short, and nobody else's."""
    files = MemoryTree(WINDOWS, ("C:",), shorts=("C:",))
    for name in some:
        if name not in files.names(WPath(WINDOWS, "C:", ())) and files.look(WPath(WINDOWS, "C:", (name,))) is None:
            files.add(f"C:\\{name}", name)
    with files.folder(WPath(WINDOWS, "C:", ())) as top:
        shorts = {name: top.short_name(name) for name in top.names()}
        assert all(bool(short) != fits(name) and (not short or SHORT.match(short)) for name, short in shorts.items())
        assert len({fold(short or name) for name, short in shorts.items()}) == len(shorts)
        for name, short in shorts.items():
            assert files.spelled(top, short or name) == name
            assert files.read(WPath(WINDOWS, "C:", (short or name,))).decode() == name


def two(top: Path, **behaviour: Any) -> Path:
    """A lab with two products whose folders' short names differ in one digit, the first registered by that."""
    lab = bench(top, entry={"InstallLocation": HOE}, **behaviour)
    for name in ("Garden Hoe", "Garden Hedge"):
        (lab / SHOP / name).mkdir(parents=True)
        (lab / SHOP / name / "run.exe").write_text(name)
    for name in ("Seed Planner B.dll", "Seed Planner A.dll"):  # in this order
        (lab / SHOP / "Garden Hoe" / name).write_text(name)
    shorts = {r"C:\Program Files\Rakeworks Ltd": "RAKEWO~1", rf"{LTD}\Garden Hoe": "GARDEN~1", rf"{LTD}\Garden Hedge": "GARDEN~2"}
    text = (lab / "lab.toml").read_text()
    (lab / "lab.toml").write_text(text + "".join(f"\n[[short]]\npath = '{path}'\nname = '{name}'\n" for path, name in shorts.items()))
    return lab


def called(on: Workstation, text: str) -> str:
    """What is read where a text leads."""
    path = on.files.path(text)
    return on.files.read(path).decode() if path is not None and on.files.look(path) is not None else ""


def both_are_what_they_were(lab: Path) -> bool:
    on = open_lab(lab)
    found = [called(on, text) for text in (rf"{HOE}\run.exe", rf"{HEDGE}\run.exe", rf"{HOE}\SEEDPL~1.DLL", rf"{HOE}\SEEDPL~2.DLL")]
    return found == ["Garden Hoe", "Garden Hedge", "Seed Planner B.dll", "Seed Planner A.dll"]


@pytest.mark.parametrize("deletes", [[], [rf"{LTD}\Garden Hoe"]])
def test_a_neighbour_s_name_differs_by_one_digit(kleff: Kleff, tmp_path: Path, deletes: list[str]) -> None:
    """Removed by a step or by its uninstaller; the neighbour stays; taken back both are what is registered."""
    lab = two(tmp_path / "lab", deletes=deletes)
    before = tree(lab / "files")
    assert both_are_what_they_were(lab)
    file = procedure(tmp_path / "p.toml", STEP + f"[[delete]]\npaths = ['{HOE}']\n")
    kleff("run", file, "--on", f"lab:{lab}", "--yes")
    assert not (lab / SHOP / "Garden Hoe").exists()
    assert called(open_lab(lab), rf"{HEDGE}\run.exe") == "Garden Hedge"
    (lab / SHOP / "Garden Hut").mkdir()  # another comes and goes
    (lab / SHOP / "Garden Hut").rmdir()
    kleff("undo", kleff.case(), "--yes")
    assert both_are_what_they_were(lab)
    assert [one for one in differences(before, tree(lab / "files")) if "Rakeworks Ltd: " not in one] == []


def test_both_go_and_come_back_in_the_other_order(kleff: Kleff, tmp_path: Path) -> None:
    """Undo runs backward: without more, the first would be the second."""
    lab = two(tmp_path / "lab")
    both = [rf"{LTD}\{name}" for name in ("Garden Hoe", "Garden Hedge")]
    file = procedure(tmp_path / "p.toml", STEP + "".join(f"[[delete]]\npaths = ['{path}']\n" for path in both))
    kleff("run", file, "--on", f"lab:{lab}", "--yes")
    kleff("undo", kleff.case(), "--yes")
    assert both_are_what_they_were(lab)


def test_another_has_the_short_name_now(kleff: Kleff, tmp_path: Path) -> None:
    """It is told, and nothing of the other's is changed; once that is gone it can be taken back to its end."""
    lab = two(tmp_path / "lab")
    file = procedure(tmp_path / "p.toml", STEP + f"[[delete]]\npaths = ['{LTD}\\Garden Hoe']\n")
    kleff("run", file, "--on", f"lab:{lab}", "--yes")
    fresh = lab / SHOP / "Garden Rake"
    fresh.mkdir()
    (fresh / "run.exe").write_text("Garden Rake")
    done = kleff("undo", kleff.case(), "--yes", code=4)
    assert "its short name was GARDEN~1 and is GARDEN~3 now" in done.out + done.err
    assert called(open_lab(lab), rf"{HOE}\run.exe") == "Garden Rake"
    assert (lab / SHOP / "Garden Hoe/run.exe").read_text() == "Garden Hoe"


@pytest.mark.parametrize("path", [r"C:\PROGRA~1", r"C:\Users\..\PROGRA~1", r"C:\progra~1\\", r"C:\PROGRA~3", r"C:\Windows\SYSTEM~1"])
def test_the_guard_knows_what_is_meant(kleff: Kleff, tmp_path: Path, path: str) -> None:
    lab = bench(tmp_path / "lab")
    (lab / "files/C/Program Files (x86)").mkdir()
    (lab / "files/C/Windows/SystemResources").mkdir()
    before = tree(lab / "files")
    file = procedure(tmp_path / "p.toml", f"[[delete]]\npaths = ['{path}']\n")
    done = kleff("run", file, "--on", f"lab:{lab}", "--yes", code=None)
    assert done.code in (2, 3) or "nothing is to be removed" in done.out.lower() + done.err.lower(), done.out
    assert differences(before, tree(lab / "files")) == []


def test_in_memory(tmp_path: Path) -> None:
    """Refused and kept by every way of calling it; what is registered by the short form is the same folder."""
    made = Bench(tmp_path)
    for name in ("hoe.exe", "soil.txt"):
        made.on.files.add(rf"C:\Program Files\Rakeworks Ltd\Garden Hoe\{name}", name)
    made.on.files.add(r"C:\Program Files\Rakeworks Ltd\Garden Hedge\hedge.exe", "hedge")
    made.on.entry("Hedge", "Hedge", location=r"C:\PROGRA~1\RAKEWO~1\GARDEN~2")
    made.on.service("hedge", r"C:\PROGRA~1\RAKEWO~1\GARDEN~2\hedge.exe")
    assert [a.state for a in made.plan("[[delete]]\npaths = ['C:\\PROGRA~1']\n")] == ["refused"]
    for text in (r"C:\PROGRA~1\RAKEWO~1\GARDEN~2", r"C:\Program Files\Rakeworks Ltd\GARDEN~2"):
        (action,) = made.plan(f"[[delete]]\npaths = ['{text}']\n")
        assert (action.state, "Hedge" in action.reason) == ("kept", True), action
    (action,) = made.plan(
        "[keep]\npaths = ['C:\\PROGRA~1\\RAKEWO~1\\GARDEN~1']\n[[delete]]\npaths = ['C:\\Program Files\\Rakeworks Ltd\\Garden Hoe']\n"
    )
    assert action.state != "to do"
    for keep in (r"C:\*\RAKEWO~1\GARDEN~1", r"C:\Program Files\**\GARDEN~1", r"C:\Program Files\*\GARDEN~1\SOIL*"):
        plan = made.preview(f"[keep]\npaths = ['{keep}']\n[[delete]]\npaths = ['{LTD}\\Garden Hoe']\n").plan
        assert [a.state for a in plan.actions] == ["kept"] or [str(p) for p in plan.actions[0].stays], keep
    _, ended = made.run("[[delete]]\npaths = ['C:\\PROGRA~1\\RAKEWO~1\\GARDEN~1']\n")
    assert ended.clean
    assert made.on.files.names(made.on.files.path(r"C:\Program Files\Rakeworks Ltd")) == ["Garden Hedge"]


def test_what_others_have_written_in_the_short_form(tmp_path: Path) -> None:
    """A class, an item of a list, a start, a shortcut, a file type, a service: of the product, whichever form they have."""
    made = garden(tmp_path)
    top = r"HKLM\SOFTWARE\Classes"
    made.on.api.add(rf"{top}\CLSID\{{11111111-2222-3333-4444-555555555555}}\InprocServer32", default_=rf"{HOE}\run.exe")
    made.on.api.add(rf"{top}\CLSID\{{11111111-2222-3333-4444-666666666666}}\InprocServer32", default_=rf"{HEDGE}\run.exe")
    made.on.api.add(ENVIRONMENT, Path=rf"C:\Git;{HOE};{HEDGE}")
    made.on.api.add(r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Run", Hoe=rf'"{HOE}\run.exe" /quiet', Hedge=rf"{HEDGE}\run.exe")
    desktop = r"C:\Users\mira\Desktop"
    made.on.files.add(rf"{desktop}\hoe.lnk", lnk(rf"{HOE}\run.exe"))
    made.on.files.add(rf"{desktop}\hedge.lnk", lnk(rf"{HEDGE}\run.exe"))
    own, key = rf"{LTD}\Garden Hoe", ENVIRONMENT.replace("ControlSet001", "CurrentControlSet")
    steps = {
        f"com_class = '{own}\\**'": 1, f"list_item = '{own}'\nin_value = 'Path'\nin_key = '{key}'": 1,
        f"shortcuts_to = '{own}\\**'": 1,
    }  # fmt: skip
    for lines, count in steps.items():
        found = [a for a in made.plan(f"[[delete]]\n{lines}\n") if a.state == "to do"]
        assert (len(found), any("edge" in a.target for a in found)) == (count, False), (lines, found)
    starts = made.plan(f"[places]\nhoe = '{own}'\n[[stop]]\nstartup = 'run.exe'\n")
    (start,) = [a for a in starts if a.state == "to do"]
    assert "Hoe" in start.target


def test_wildcards_mean_long_names_alone(tmp_path: Path) -> None:
    """Or `*~*` would be everything with a long name."""
    made = Bench(tmp_path)
    for name in ("Seed Planner.txt", "Seed Planner.txt~", "a~1"):
        made.on.files.add(rf"{LTD}\{name}", name)
    for pattern, found in (("*~*", {"Seed Planner.txt~", "a~1"}), ("seed*~?", set()), ("*~", {"Seed Planner.txt~"})):
        plan = made.plan(f"[keep]\npaths = ['C:\\**\\{pattern}']\n[[delete]]\npaths = ['{LTD}\\{pattern}']\n")
        assert {a.target.rpartition("\\")[2] for a in plan if a.state == "kept"} == found, pattern


BOTH = delete(rf"{LTD}\Garden Hoe") + delete(rf"{LTD}\Garden Hedge")


def garden(folder: Path) -> Bench:
    made = Bench(folder)
    for name in ("Garden Hoe", "Garden Hedge"):  # in this order
        made.on.files.add(rf"{LTD}\{name}\run.exe", name)
    return made


def runs(made: Bench) -> list[str]:
    files = made.on.files
    return [files.read(files.path(text)).decode() for text in (rf"{HOE}\run.exe", rf"{HEDGE}\run.exe")]


def test_killed_at_any_write(folder: Path) -> None:
    """The run, then the undo too: in the end each is what it was called."""
    count = 0
    for made, job, before in each_kill(folder, garden, BOTH):
        with killed_at(2 + count % 5, bool(count % 2)):
            made.undo(job)
        job = made.again(job, job.folder())
        if job.record().state != "undone":
            assert not made.undo(job).stays
        assert runs(made) == ["Garden Hoe", "Garden Hedge"]
        assert made.files == before
        count += 1
    assert count > 10
