"""The same thing in other words is the same thing: one path in every spelling that the system takes, in what programs register."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kleff.objects.registered.spelling import Spelling
from memory import Bench

HOE = r"C:\Program Files\Rakeworks\Hoe"
SERVER = rf"{HOE}\bin\hoe.dll"
OTHERS = r"C:\Program Files\Rakeworks\Hoe Neighbour\bin\hoe.dll"
CLSID = r"HKLM\SOFTWARE\Classes\CLSID\{11111111-2222-4333-8444-555555555555}"
RULES = r"HKLM\SYSTEM\ControlSet001\Services\SharedAccess\Parameters\FirewallPolicy"


def shed(folder: Path) -> Bench:
    bench = Bench(folder, "windows")
    for path in (SERVER, rf"{HOE}\bin\hoe.exe", OTHERS):
        bench.on.files.add(path, "MZ")
    return bench


def spellings(path: str) -> Iterator[str]:
    """Of a path below the folder of programs."""
    inside = path.removeprefix("C:\\Program Files")
    yield from (path, path.upper(), path.lower(), path.replace("\\", "/"), path.replace("\\", "\\\\"), f'"{path}"', f"  {path} ")
    yield from (f"\\\\?\\{path}", f"\\??\\{path}", f"\\\\.\\{path}", f"%ProgramFiles%{inside}", f"%programw6432%{inside}")
    yield from (f"%SystemDrive%\\Program Files{inside}", f"file:///{path.replace(chr(92), '/').replace(' ', '%20')}")
    yield path.replace(r"\bin", r"\.\bin\..\bin")
    yield path.replace(r"\Rakeworks", r"\Rakeworks. ")
    yield f"{path}\0"


@pytest.mark.parametrize(("text", "others"), list(zip(spellings(SERVER), spellings(OTHERS), strict=True)))
def test_a_server_of_a_class(folder: Path, text: str, others: str) -> None:
    """In both places where a class says where its code is, and with arguments behind; found, deleted and back. The neighbour's stays."""
    for name, value in (("InprocServer32", "default_"), ("InprocServer32", "CodeBase"), (r"InprocServer32\1.0.0.0", "CodeBase")):
        bench = shed(folder / name.replace("\\", "-") / value)
        bench.on.api.add(rf"{CLSID}\{name}", **{value: text})
        other = CLSID.replace("1111-2222", "1111-3333")
        bench.on.api.add(rf"{other}\InprocServer32", default_=others)
        before = bench.on.api.root
        job, ended = bench.run(f"[[delete]]\ncom_class = '{HOE}\\**'\n")
        assert ended.clean
        assert before.find(CLSID.split("\\")) is None, name
        assert before.find(other.split("\\")) is not None
        assert job.undo().stays == []


@pytest.mark.parametrize("key", ["FirewallRules", r"RestrictedServices\AppIso\FirewallRules"])
def test_a_rule_of_the_firewall(folder: Path, key: str) -> None:
    for text in spellings(rf"{HOE}\bin\hoe.exe"):
        bench = shed(folder / str(abs(hash(text))))
        bench.on.api.add(rf"{RULES}\{key}", one=f"v2.30|Action=Allow|Dir=In|App={text}|Name=Hoe|", two="v2.30|App=System|Name=x|")
        assert bench.run(f"[[delete]]\nfirewall = '{HOE}\\**'\n")[1].clean
        values = bench.on.api.root.find(f"{RULES}\\{key}".split("\\")).values
        assert list(values) == ["TWO"], text


@pytest.mark.parametrize(
    ("key", "name"),
    [
        (r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\RunOnce", "Hoe tray"),
        (r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Policies\Explorer\Run", "1"),
        (r"HKU\S-1-5-21-1-2-3-1001\Software\Microsoft\Windows\CurrentVersion\RunOnce", "!Hoe tray"),
        (r"HKU\S-1-5-21-1-2-3-1001\Software\Microsoft\Windows\CurrentVersion\Policies\Explorer\Run", "7"),
        (r"HKU\S-1-5-21-1-2-3-1001\Software\Microsoft\Windows NT\CurrentVersion\Windows", "Load"),
    ],
)
def test_what_starts_with_a_session(folder: Path, key: str, name: str) -> None:
    bench = shed(folder)
    bench.on.api.add(key, **{name: rf"{HOE}\bin\hoetray.exe", "Device": "hoetray.exe printer"})
    before = bench.on.api.root.find(key.split("\\")).values.copy()
    job, ended = bench.run("[[stop]]\nstartup = 'hoetray.exe'\n")
    assert ended.clean
    assert name.upper() not in bench.on.api.root.find(key.split("\\")).values
    job.undo()
    assert bench.on.api.root.find(key.split("\\")).values == before


@given(st.lists(st.sampled_from(["one", "two", "..", ".", "", "a b", "x."]), max_size=7), st.sampled_from(["\\", "/"]))
def test_as_the_system_takes_it(tmp_path_factory: pytest.TempPathFactory, names: list[str], separator: str) -> None:
    """Never another path than the one that the rules of Windows make of it."""
    import ntpath

    here = Bench(tmp_path_factory.mktemp("s"), "windows").job("[[delete]]\nkey = 'HKLM\\Software\\Rakeworks'\n").context({})
    text = "C:" + separator + separator.join(names)
    wanted = ntpath.normpath("C:\\" + "\\".join(n if n in (".", "..") else n.rstrip(" .") for n in names))
    assert [str(path) for path in Spelling(here).path(text)] == [wanted]
