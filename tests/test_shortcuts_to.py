"""Shortcuts found by what they lead to: renamed, pinned, dangling ones; never one of which that cannot be told."""

from __future__ import annotations

from pathlib import Path

import pytest

from memory import Bench, each_kill
from support import bad_step
from test_shortcuts import made

STUDIO = r"C:\Program Files\Brindlewort\Tag Studio\studio.exe"
OTHER = r"C:\Program Files\Stocktake\stocktake.exe"
STEP = r"""
[[delete]]
shortcuts_to = 'C:\Program Files\Brindlewort\Tag Studio\**'
"""
MENU = r"C:\ProgramData\Microsoft\Windows\Start Menu\Programs"
OWN = r"C:\Users\mira\AppData\Roaming\Microsoft"
GOING = {
    rf"{MENU}\Brindlewort\Tag Studio.lnk": made(STUDIO),
    r"C:\Users\Public\Desktop\Labels.lnk": made(STUDIO.upper()),
    r"C:\Users\mira\Desktop\meine Etiketten ü.lnk": made(STUDIO, arguments="/beds"),
    rf"{OWN}\Internet Explorer\Quick Launch\User Pinned\TaskBar\Studio (2).lnk": made(
        variables=r"%ProgramFiles%\Brindlewort\Tag Studio\studio.exe"
    ),
    rf"{OWN}\Windows\SendTo\To the studio.lnk": made(r"C:\Program Files\Brindlewort\Tag Studio\gone.exe"),
    rf"{OWN}\Windows\Start Menu\Programs\Startup\warm.lnk": made(STUDIO, unicode=False),
    r"C:\Users\tomas\Desktop\x.LNK": made(STUDIO, wide=False),
}
STAYING = {
    rf"{MENU}\Stocktake.lnk": made(OTHER),
    rf"{MENU}\Tag Studio 2.lnk": made(r"C:\Program Files\Brindlewort\Tag Studio 2\studio.exe"),
    r"C:\Users\mira\Desktop\advertised.lnk": made(STUDIO, product="x" * 20),
    r"C:\Users\mira\Desktop\list.lnk": made(items=b"\x14\x00" + bytes(18) + b"\0\0"),
    r"C:\Users\mira\Desktop\share.lnk": made(share=r"\\shed\tools", suffix="studio.exe"),
    r"C:\Users\mira\Desktop\broken.lnk": made(STUDIO)[:90],
    r"C:\Users\mira\Desktop\mine.lnk.txt": b"mine",
    r"C:\Users\mira\Desktop\A folder of mine\studio.lnk": made(STUDIO),
    r"C:\Users\mira\Documents\studio.lnk": made(STUDIO),
}


def bench(folder: Path) -> Bench:
    result = Bench(folder)
    result.on.api.add(r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList", Public=r"C:\Users\Public")
    for path, content in {**GOING, **STAYING, STUDIO: b"MZ", OTHER: b"MZ"}.items():
        result.on.files.add(path, content)
    return result


def there(one: Bench) -> set[str]:
    files = one.on.files
    return {path for path in (*GOING, *STAYING) if files.look(files.path(path)) is not None}


def test_there_and_back(tmp_path: Path) -> None:
    one = bench(tmp_path)
    before = one.files
    job, ended = one.run(STEP)
    assert ended.clean
    assert there(one) == set(STAYING)
    shows = [line for row in job.record().rows for line in row.action.shows]
    assert f"leads to {STUDIO}" in shows
    assert r"leads to C:\Program Files\Brindlewort\Tag Studio\gone.exe, which is not there" in shows
    (kept,) = (row for row in job.record().rows if row.state == "kept")
    assert kept.action.state_word == "unknown"
    assert [line.rpartition("\\")[2] for line in kept.action.shows] == ["advertised.lnk", "list.lnk", "share.lnk"]
    assert job.undo().stays == []
    assert one.files == before


def test_of_one_account_alone(tmp_path: Path) -> None:
    one = bench(tmp_path)
    one.run(STEP + 'accounts = ["tomas"]\n')
    assert set(GOING) - there(one) == {r"C:\Users\tomas\Desktop\x.LNK"}


def test_killed_at_any_write(tmp_path: Path) -> None:
    for one, job, before in each_kill(tmp_path, bench, STEP):
        assert job.record().state == "finished" or job.resume().clean
        assert there(one) == set(STAYING)
        assert job.undo().stays == []
        assert one.files == before


def test_none_leads_there(tmp_path: Path) -> None:
    (absent, untold) = Bench(tmp_path).plan(STEP), bench(tmp_path / "b").plan(STEP.replace("Brindlewort", "Nobody"))
    assert [a.state for a in absent] == ["absent"]
    assert [a.state for a in untold] == ["absent", "kept"]


@pytest.mark.parametrize("lines", ["shortcuts_to = '{nowhere}\\x'", "shortcuts_to = []", "shortcuts_to = 'x'", "shortcuts_to = 3"])
def test_bad_keys(lines: str) -> None:
    assert all(problem.startswith("x.toml:8:") for problem in bad_step(lines))


def test_one_that_leads_elsewhere_by_now(tmp_path: Path) -> None:
    """What was agreed on is looked at again at the act."""
    one = bench(tmp_path)
    job = one.job(STEP)
    agreed = job.preview()
    changed = r"C:\Users\Public\Desktop\Labels.lnk"
    one.on.files.remove_single(one.on.files.path(changed))
    one.on.files.add(changed, made(OTHER))
    job.run(agreed, tmp_path / "cases")
    assert there(one) == {*STAYING, changed}
