"""One folder out of a search path: the others, their order and the value's type stay; taken back it stands where it was."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kleff.registry.lists import find, items_of, put_back, same, taken, with_items
from kleff.registry.values import REG_EXPAND_SZ, REG_SZ, RegValue, list_value, text_value
from memory import Bench, each_kill, states
from support import bad_step

ENVIRONMENT = r"HKLM\SYSTEM\ControlSet001\Control\Session Manager\Environment"
STEP = r"""
[[delete]]
list_item = '%ProgramFiles%\Brindlewort\bin'
in_value = "Path"
in_key = 'HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\Environment'
[[delete]]
list_item = ['C:\Brindlewort\tools']
in_value = "path"
in_key = 'HKCU\Environment'
"""
PATH = r'%SystemRoot%\system32;"C:\PROGRAM FILES\brindlewort\BIN\";C:\Program Files\Brindlewort\bin2;%ProgramFiles%\Brindlewort\bin;C:\Git'


def bench(folder: Path, path: str = PATH) -> Bench:
    made = Bench(folder)
    made.on.api.set("HKLM", ENVIRONMENT[5:], text_value("Path", path, expand=True))
    for sid in made.on.api.hives():
        if sid != "HKLM":
            made.on.api.create("HKU", rf"{sid}\Environment")
            made.on.api.set("HKU", rf"{sid}\Environment", RegValue("Path", REG_SZ, r"C:\a;C:\Brindlewort\tools".encode("utf-16-le")))
    return made


def value(made: Bench) -> RegValue:
    found = made.on.open().registry.api.contents("HKLM", ENVIRONMENT[5:])[1]
    return next(v for v in found if v.name == "Path")


def test_there_and_back(tmp_path: Path) -> None:
    made = bench(tmp_path)
    before = value(made)
    job, ended = made.run(STEP)
    assert ended.clean
    assert value(made).text == r"%SystemRoot%\system32;C:\Program Files\Brindlewort\bin2;C:\Git"
    assert value(made).type == REG_EXPAND_SZ
    shown = [line for row in job.record().rows for line in row.action.shows]
    assert r'item 2 of 5: "C:\PROGRAM FILES\brindlewort\BIN\"' in shown
    assert job.undo().stays == []
    assert value(made) == before


def test_somebody_has_changed_the_rest_since(tmp_path: Path) -> None:
    made = bench(tmp_path)
    job, _ = made.run(STEP)
    made.on.api.set("HKLM", ENVIRONMENT[5:], text_value("Path", r"C:\New;C:\Git;%SystemRoot%\system32;C:\Newer", expand=True))
    assert job.undo().stays == []
    wanted = r'C:\New;%ProgramFiles%\Brindlewort\bin;C:\Git;%SystemRoot%\system32;"C:\PROGRAM FILES\brindlewort\BIN\";C:\Newer'
    assert value(made).text == wanted


def test_killed_at_any_write(tmp_path: Path) -> None:
    def stands(made: Bench) -> list[bytes]:
        registry = made.on.open().registry
        return [value(made).raw] + [
            v.raw for s in made.on.api.hives() if s != "HKLM" for v in registry.api.contents("HKU", rf"{s}\Environment")[1]
        ]

    wanted = stands(bench(tmp_path / "whole"))
    for made, job, _ in each_kill(tmp_path, bench, STEP):
        assert job.record().state == "finished" or job.resume().clean
        assert "bin;" not in value(made).text
        assert job.undo().stays == []
        assert stands(made) == wanted


@pytest.mark.parametrize(
    ("item", "name", "key", "why"),
    [
        (
            r"C:\Windows\System32\WindowsPowerShell\v1.0",
            "Path",
            r"HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\Environment",
            "only single files",
        ),
        (r"C:\Brindlewort", "BootExecute", r"HKLM\SYSTEM\CurrentControlSet\Control\Session Manager", "HKLM"),
    ],
)
def test_what_is_refused(tmp_path: Path, item: str, name: str, key: str, why: str) -> None:
    made = bench(tmp_path, r"C:\Windows\System32\WindowsPowerShell\v1.0;C:\Brindlewort")
    made.on.api.set("HKLM", r"SYSTEM\ControlSet001\Control\Session Manager", list_value("BootExecute", [r"C:\Brindlewort", "x"]))
    step = f"[[delete]]\nlist_item = '{item}'\nin_value = \"{name}\"\nin_key = '{key}'\n"
    ((state, reason),) = states(made.plan(step, phase="delete")).values()
    assert (state, why in reason) == ("refused", True), reason


@pytest.mark.parametrize(
    ("lines", "message"),
    [
        ("list_item = 'ab'\nin_value = 'Path'\nin_key = 'HKCU\\Environment'", "means too much"),
        ("list_item = '{nowhere}\\x'\nin_value = 'Path'\nin_key = 'HKCU\\Environment'", "nowhere"),
        ("list_item = 'C:\\x'\nin_value = 'Path'\nin_key = 'Environment'", "in_key|HK"),
        ("list_item = 'C:\\x'\nin_value = 'Path'", "in_key"),
        ("list_item = 'C:\\x'\nin_value = 'Path'\nin_key = 'HKCU\\Environment'\nbetween = ''", "between|empty"),
    ],
)
def test_bad_keys(lines: str, message: str) -> None:
    assert any(re.search(message, problem) for problem in bad_step(lines))


def test_ten_thousand_items(tmp_path: Path) -> None:
    made = bench(tmp_path, ";".join([*(rf"C:\Tools\t{n}" for n in range(10_000)), r"C:\Program Files\Brindlewort\bin"]))
    before = value(made)
    job, ended = made.run(STEP)
    assert ended.clean
    assert value(made).text.count(";") == 9_999
    job.undo()
    assert value(made) == before


ITEMS = st.lists(st.sampled_from(["a", "A", r"b\x", "b\\x\\", '"c"', "d"]), min_size=1, max_size=8)


@settings(max_examples=300)
@given(ITEMS, st.data())
def test_put_back_where_it_was(items: list[str], data: st.DataObject) -> None:
    at = data.draw(st.integers(0, len(items) - 1))
    one = taken(items, at)
    left = [*items[:at], *items[at + 1 :]]
    assert put_back(left, one) == items or (items.count(one.before) > 1 or items.count(one.after) > 1 or one.before == one.item)
    changed = data.draw(st.permutations(left))
    back = put_back(changed, one)
    assert sorted(back) == sorted(items)
    assert sum(same(item) == same(one.item) for item in back) == one.equal
    assert find(items, one) is not None
    for made in (text_value("x", ";".join(items), expand=True), RegValue("x", REG_SZ, ";".join(items).encode("utf-16-le"))):
        found = items_of(made, ";")
        assert found is not None
        assert with_items(made, found, ";") == made


def test_a_neighbour_s_folder_is_kept(tmp_path: Path) -> None:
    made = bench(tmp_path, r"C:\Program Files\Stocktake\bin")
    made.on.files.add(r"C:\Program Files\Stocktake\bin\x.exe", "MZ")
    made.on.entry("Stocktake", "Stocktake", location=r"C:\Program Files\Stocktake")
    step = STEP.partition("[[delete]]\nlist_item = [")[0].replace("Brindlewort", "Stocktake")
    ((state, reason),) = states(made.plan(step, phase="delete")).values()
    assert (state, "which stays" in reason) == ("kept", True), reason
