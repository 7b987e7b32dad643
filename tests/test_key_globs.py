"""Registry keys by a pattern, and by what a value in them says; in both views and every account, never through a link."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from kleff.registry.values import REG_LINK, RegValue
from memory import Bench, each_kill, states
from support import bad_step

BY_NAME = r"""
[[delete]]
key_glob = 'HKLM\Software\Brindlewort\Tag Studio *\Cache'
[[delete]]
key_glob = 'HKCU\Software\Brindlewort\Recent?'
"""
BY_VALUE = r"""
[[delete]]
key_glob = 'HKLM\Software\Microsoft\Windows\CurrentVersion\Uninstall\*'
value_contains = { name = "UninstallString", text = '\brindlewort\old' }
"""
UNINSTALL = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall"


def bench(folder: Path) -> Bench:
    made = Bench(folder)
    add = made.on.api.add
    for name in ("Tag Studio 3", "Tag Studio 4", "Tag Studio", "Tag Studiox"):
        add(rf"HKLM\SOFTWARE\Brindlewort\{name}\Cache\Deep", of=name)
        add(rf"HKLM\SOFTWARE\WOW6432Node\Brindlewort\{name}\Cache", of=name)
    for sid in (s for s in made.on.api.hives() if s != "HKLM"):
        for name in ("Recent1", "Recent2", "Recent10", "Own"):
            add(rf"HKU\{sid}\Software\Brindlewort\{name}", of=name)
    for name, text in (
        ("{A}", r'"C:\Brindlewort\Old\un.exe"'),
        ("{B}", r"C:\BRINDLEWORT\OLD\x.exe /q"),
        ("Stocktake", r"C:\Stocktake\un.exe"),
        ("None", ""),
    ):
        add(rf"{UNINSTALL}\{name}", **({"UninstallString": text} if text else {"DisplayName": name}))
    return made


def keys(made: Bench) -> set[str]:
    registry = made.on.open().registry
    found: set[str] = set()

    def walk(hive: str, path: str) -> None:
        found.add(f"{hive}\\{path}")
        for name in registry.api.subkeys(hive, path) or []:
            walk(hive, f"{path}\\{name}")

    walk("HKLM", "SOFTWARE")
    for sid in (s for s in made.on.api.hives() if s != "HKLM"):
        walk("HKU", rf"{sid}\Software")
    return found


def test_there_and_back(tmp_path: Path) -> None:
    made = bench(tmp_path)
    before = keys(made)
    job, ended = made.run(BY_NAME + BY_VALUE + BY_NAME.replace("[[delete]]", "[[verify]]"))
    assert ended.clean
    gone = {key.rpartition("Brindlewort")[2] or key for key in before - keys(made)}
    assert {key for key in gone if "Tag" in key} == {rf"\Tag Studio {n}\Cache{deep}" for n in (3, 4) for deep in ("", r"\Deep")}
    assert {key.rpartition("\\")[2] for key in gone if "Recent" in key} == {"Recent1", "Recent2"}
    assert {key.rpartition("\\")[2] for key in gone if "Uninstall" in key} == {"{A}", "{B}"}
    assert job.undo().stays == []
    assert keys(made) == before


def test_killed_at_any_write(tmp_path: Path) -> None:
    wanted = keys(bench(tmp_path / "whole"))
    for made, job, _ in each_kill(tmp_path, bench, BY_VALUE):
        assert job.record().state == "finished" or job.resume().clean
        assert job.undo().stays == []
        assert keys(made) == wanted


def test_links_are_never_gone_through(tmp_path: Path) -> None:
    made = bench(tmp_path)
    made.on.api.add(r"HKLM\SOFTWARE\Other\Cache", keep="me")
    made.on.api.add(r"HKLM\SOFTWARE\Brindlewort\Tag Studio 9")
    link = RegValue("SymbolicLinkValue", REG_LINK, r"\Registry\Machine\SOFTWARE\Other".encode("utf-16-le"))
    made.on.api.set("HKLM", r"SOFTWARE\Brindlewort\Tag Studio 9", link)
    made.run(BY_NAME)
    assert r"HKLM\SOFTWARE\Other\Cache" in keys(made)


@pytest.mark.parametrize(
    ("glob", "more", "why"),
    [
        (r"HKLM\Software\Micros*", "", "system's own"),
        (r"HKLM\Software\Brindlewort\Tag Studio*", "at_most = 1\n", "more than at_most"),
        (r"HKLM\Software\Microsoft\Windows\CurrentVersion\Uninstall\None*", "", ""),
    ],
)
def test_what_is_refused(tmp_path: Path, glob: str, more: str, why: str) -> None:
    made = bench(tmp_path)
    made.on.api.add(r"HKLM\SOFTWARE\Microsoft\Own", x="y")
    found = states(made.plan(f"[[delete]]\nkey_glob = '{glob}'\n{more}", phase="delete"))
    refused = [reason for state, reason in found.values() if state == "refused"]
    assert bool(refused) == bool(why), found
    assert all(why in reason for reason in refused)


@pytest.mark.parametrize(
    ("lines", "message"),
    [
        (r"key_glob = 'HKLM\Software\Brindlewort\Tag'", "has no wildcard"),
        (r"key_glob = 'HKLM\Software\Brindlewort\*'", "means too much"),
        (r"key_glob = 'Software\Brindlewort\Tag*'", "a key begins with"),
        ("key_glob = 'HKLM\\Software\\B\\*'\nvalue_contains = { name = 'x' }", "text"),
        ("key_glob = 'HKLM\\Software\\B\\*'\nvalue_contains = { name = 'x', text = 'ab' }", "text|4"),
        ("key_glob = 'HKLM\\Software\\B\\*'\nvalue_contains = 'x'", "value_contains"),
    ],
)
def test_bad_keys(lines: str, message: str) -> None:
    assert any(re.search(message, problem) for problem in bad_step(lines))


def test_a_value_that_says_otherwise_by_now(tmp_path: Path) -> None:
    """What was agreed on is looked at again at the act."""
    made = bench(tmp_path)
    job = made.job(BY_VALUE)
    agreed = job.preview()
    made.on.api.add(rf"{UNINSTALL}\{{A}}", UninstallString=r"C:\Other\un.exe")
    job.run(agreed, tmp_path / "cases")
    left = {key.rpartition("\\")[2] for key in keys(made)}
    assert "{A}" in left
    assert "{B}" not in left
