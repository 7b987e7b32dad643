"""What a product has registered with a Windows: found by its name or its program, a neighbour's stays, undo writes all of it back."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from struct import pack
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from killing import points
from kleff.errors import NeverBegun, Refused
from kleff.objects.registered.certificates import common_names
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef
from kleff.registry.values import REG_BINARY, RegValue, text_value
from memory import Bench, each_kill, killed_at
from support import bad_step
from test_shortcuts import made

STUDIO = r"C:\Program Files\Brindlewort\Tag Studio"
OTHER = r"C:\Program Files\Stocktake\stocktake.exe"
THUMB = "0123456789ABCDEF0123456789ABCDEF01234567"
CLASSES, CURRENT = r"HKLM\SOFTWARE\Classes", r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion"
RULES = r"HKLM\SYSTEM\ControlSet001\Services\SharedAccess\Parameters\FirewallPolicy\FirewallRules"
PRINT = r"HKLM\SYSTEM\ControlSet001\Control\Print"
CLSID = "{11111111-2222-3333-4444-555555555555}"
CHOICE = r"Software\Microsoft\Windows\CurrentVersion\Explorer\FileExts\.bwl\UserChoice"
INTO = f"program = '{STUDIO}\\**'\n"
STEPS = {
    "firewall": f"firewall = '{STUDIO}\\*.exe'\n", "named": "firewall = 'Brindlewort bridge*'\n",
    "app_path": f"app_path = '{STUDIO}\\**'\n",
    "protocol": f"protocol = 'bwtag'\n{INTO}", "com_class": f"com_class = '{STUDIO}\\**'\n",
    "file_type": f"file_type = ['.bwl', '.csv']\n{INTO}", "font": "font = 'Brindlewort Sans*'\n",
    "print_queue": "print_queue = 'Brindlewort labels*'\n", "certificate": f"certificate = '{THUMB.lower()}'\n",
    "recent": f"recent = '{STUDIO}\\**'\n",
}  # fmt: skip
ALL = "".join(f"[[delete]]\n{lines}" for lines in STEPS.values())


def subject(name: str) -> bytes:
    return b"\x06\x03\x55\x04\x03\x0c" + bytes([len(name)]) + name.encode()


def office(folder: Path) -> Bench:
    bench = Bench(folder)
    api = bench.on.api

    def put(path: str, **values: Any) -> None:
        hive, _, below = path.partition("\\")
        api.create(hive, below)
        for name, value in values.items():
            title = "" if name == "default_" else name.replace("__", " ")
            api.set(hive, below, value if isinstance(value, RegValue) else text_value(title, value))

    rule = "v2.30|Action=Allow|Active=TRUE|Dir=In|App={}|Name={}|"
    put(RULES, one=rule.format(rf"{STUDIO}\studio.exe", "Tag Studio"),
        two=rule.format(r"%ProgramFiles%\Stocktake\stocktake.exe", "Stocktake"), three=rule.format("", "Brindlewort bridge (TCP)"),
        four=rule.format(rf"{STUDIO} 2\studio.exe", "Tag Studio 2"))  # fmt: skip
    put(rf"{CURRENT}\App Paths\studio.exe", default_=rf'"{STUDIO}\studio.exe"', Path=STUDIO)
    put(rf"{CURRENT}\App Paths\stocktake.exe", default_=OTHER)
    for name, program in (("bwtag", rf'"{STUDIO}\studio.exe" "%1"'), ("stock", f'"{OTHER}" "%1"')):
        put(rf"{CLASSES}\{name}", default_=f"URL:{name}", URL__Protocol="")
        put(rf"{CLASSES}\{name}\shell\open\command", default_=program)
    put(rf"{CLASSES}\CLSID\{CLSID}", default_="Label preview")
    put(rf"{CLASSES}\CLSID\{CLSID}\InprocServer32", default_=rf"{STUDIO}\preview.dll")
    put(rf"{CLASSES}\CLSID\{CLSID}\ProgID", default_="Brindlewort.Preview")
    put(rf"{CLASSES}\Brindlewort.Preview\CLSID", default_=CLSID)
    put(rf"{CLASSES}\CLSID\{{9}}\InprocServer32", default_=r"C:\Program Files\Stocktake\x.dll")
    put(rf"{CLASSES}\TypeLib\{{7}}\1.0\0\win64", default_=rf"{STUDIO}\types.tlb")
    put(rf"{CLASSES}\TypeLib\{{7}}\2.0\0\win64", default_=r"C:\Program Files\Stocktake\types.tlb")
    put(rf"{CLASSES}\.bwl", default_="Brindlewort.Label")
    put(rf"{CLASSES}\.csv", default_="Brindlewort.Table", Brindlewort_backup="Stock.Table", Content__Type="text/csv")
    put(rf"{CLASSES}\.csv\OpenWithProgids", **{"Brindlewort.Table": "", "Stock.Table": ""})
    for name, program in (("Brindlewort.Label", STUDIO), ("Brindlewort.Table", STUDIO), ("Stock.Table", r"C:\Program Files\Stocktake")):
        put(rf"{CLASSES}\{name}\shell\open\command", default_=rf'"{program}\x.exe" "%1"')
    sid = next(h for h in api.hives() if h != "HKLM")
    put(rf"HKU\{sid}\{CHOICE}", ProgId="Brindlewort.Label", Hash="abc=")
    fonts = {"Brindlewort__Sans__(TrueType)": "bwsans.ttf", "Arial__(TrueType)": "arial.ttf"}
    put(r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Fonts", **fonts)
    for name in fonts.values():
        bench.on.files.add(rf"C:\Windows\Fonts\{name}", name)
    put(rf"{PRINT}\Printers\Brindlewort labels", Port="10.0.0.9")
    put(rf"{PRINT}\Printers\Brindlewort labels (till)", Port="10.0.0.7")
    put(rf"{PRINT}\Printers\Till", Port="10.0.0.7")
    for port in ("10.0.0.9", "10.0.0.7"):
        put(rf"{PRINT}\Monitors\Standard TCP/IP Port\Ports\{port}", HostName=port)
    blob = pack("<III", 3, 1, 4) + b"abcd" + pack("<III", 32, 1, 60) + (subject("Garden CA") + subject("Label bridge")).ljust(60, b"\0")
    for thumb in (THUMB, THUMB[::-1]):
        put(rf"HKLM\SOFTWARE\Microsoft\SystemCertificates\Root\Certificates\{thumb}", Blob=RegValue("Blob", REG_BINARY, blob))
    recent = r"C:\Users\mira\AppData\Roaming\Microsoft\Windows\Recent"
    for name, target in (("beds.lnk", rf"{STUDIO}\labels\beds.bwl"), ("my own.lnk", r"C:\Users\mira\Documents\beds.bwl")):
        bench.on.files.add(rf"{recent}\{name}", made(target))
    bench.on.made_accounts.names = {"bwbridge"}
    return bench


def flat(tree: RegKey | None) -> Any:
    return None if tree is None else ({n: v.raw for n, v in tree.values.items()}, {n: flat(k) for n, k in tree.keys.items()})


def stands(bench: Bench) -> Any:
    registry = bench.on.open().registry
    tops = [KeyRef("HKLM", name) for name in ("SYSTEM", "SOFTWARE")] + [KeyRef("HKU", h) for h in bench.on.api.hives() if h != "HKLM"]
    return [flat(registry.tree(top)) for top in tops], bench.files


def shown(bench: Bench, lines: str) -> dict[str, tuple[str, list[str]]]:
    return {a.target: (a.state, a.shows) for a in bench.plan(f"[[delete]]\n{lines}")}


def test_what_is_found(tmp_path: Path) -> None:
    bench = office(tmp_path)
    assert shown(bench, STEPS["firewall"]) == {"firewall rule Tag Studio": ("to do", [rf"allow in, {STUDIO}\studio.exe"])}
    assert list(shown(bench, STEPS["named"])) == ["firewall rule Brindlewort bridge (TCP)"]
    assert list(shown(bench, STEPS["app_path"])) == ["program name studio.exe"]
    assert list(shown(bench, "app_path = 'stocktake.exe'\n")) == ["program name stocktake.exe"]
    assert list(shown(bench, STEPS["protocol"])) == ["protocol bwtag"]
    assert shown(bench, STEPS["protocol"].replace("bwtag", "stock"))["protocol stock"][0] == "kept"
    classes = shown(bench, STEPS["com_class"])
    assert list(classes) == [f"COM class Label preview {CLSID}", "COM class type library {7} 1.0"]
    assert "all classes and type libraries of the workstation were looked through" in next(iter(classes.values()))[1]
    types = shown(bench, STEPS["file_type"])
    assert list(types) == ["file type .bwl", "file type .csv", "file type handler Brindlewort.Label", "file type handler Brindlewort.Table"]
    assert types["file type .csv"][1] == ["opens by Brindlewort.Table", "gets back what stood there before: Stock.Table"]
    assert types["file type .bwl"][1][-1] == "mira has chosen a program for it; that choice is the system's to protect"
    assert shown(bench, "font = 'Arial*'\n")["font Arial"][0] == "refused"
    queues = shown(bench, STEPS["print_queue"])
    assert [lines for _, lines in queues.values()] == [["prints to 10.0.0.9, which goes too"], ["prints to 10.0.0.7, which stays"]]
    (certificate,) = shown(bench, STEPS["certificate"]).values()
    assert certificate == ("to do", ["of Label bridge, by Garden CA", "in the store Root"])
    assert [target.rpartition("\\")[2] for target in shown(bench, STEPS["recent"])] == ["beds.lnk"]


def test_there_and_back(tmp_path: Path) -> None:
    bench = office(tmp_path)
    before = stands(bench)
    job, ended = bench.run(ALL)
    assert ended.clean, [row.note for row in ended.failed]
    registry = bench.on.open().registry
    assert registry.text(KeyRef("HKLM", r"SOFTWARE\Classes\.csv"), "") == "Stock.Table"
    assert not registry.exists(KeyRef("HKLM", r"SOFTWARE\Classes\.bwl"))
    for gone in ("Brindlewort.Label", "Brindlewort.Table", "bwtag", rf"CLSID\{CLSID}", "Brindlewort.Preview"):
        assert not registry.exists(KeyRef("HKLM", rf"SOFTWARE\Classes\{gone}")), gone
    text = str(stands(bench))
    assert "STUDIO.EXE" not in text.upper().replace("STUDIO 2", "")
    for stays in (["Stocktake", "2.0"][0], "Stock.Table", "10.0.0.7", THUMB[::-1], "arial.ttf"):
        assert stays.upper() in text.upper() or stays.encode("utf-16-le") in repr(text).encode("utf-16-le"), stays
    assert job.undo().stays == []
    assert stands(bench) == before


def test_what_leads_elsewhere_by_then_stays(tmp_path: Path) -> None:
    """Another program has taken the name over between the look and the act."""
    bench = office(tmp_path)
    steps = "".join(f"[[delete]]\n{STEPS[name]}" for name in ("app_path", "protocol", "file_type"))
    job = bench.job(steps)
    preview = job.preview(compared=False)
    for path in (
        rf"{CURRENT}\App Paths\studio.exe",
        rf"{CLASSES}\bwtag\shell\open\command",
        rf"{CLASSES}\Brindlewort.Label\shell\open\command",
    ):
        bench.on.api.set("HKLM", path[5:], text_value("", OTHER))
    job.run(preview, bench.folder / "cases")
    registry = bench.on.open().registry
    for path in (rf"{CURRENT}\App Paths\studio.exe", rf"{CLASSES}\bwtag", rf"{CLASSES}\Brindlewort.Label"):
        assert registry.canonical(path, view=64)
        assert any(registry.exists(key) for key in registry.canonical(path)), path


def test_killed_at_any_write(tmp_path: Path) -> None:
    wanted = stands(office(tmp_path / "whole"))[0]
    steps = "".join(f"[[delete]]\n{STEPS[name]}" for name in ("file_type", "font"))
    for bench, job, before in each_kill(tmp_path, office, steps):
        with suppress(Refused):
            assert job.resume().clean
        assert bench.on.open().registry.text(KeyRef("HKLM", r"SOFTWARE\Classes\.csv"), "") == "Stock.Table", bench.folder
        assert job.undo().stays == []
        assert stands(bench) == (wanted, before)


def test_killed_at_some_writes_of_all(tmp_path: Path) -> None:
    """Of every kind; all the writes of all of them take minutes."""
    whole = office(tmp_path / "whole")
    wanted = stands(whole)
    with killed_at(0, False) as writes:
        whole.run(ALL)
    for number, after in points(writes[0], 7, 4):
        bench = office(tmp_path / f"{number}{after}")
        before = bench.files
        with killed_at(number, after):
            bench.run(ALL)
        with suppress(NeverBegun, StopIteration):
            job = bench.again(bench.job(ALL), next((bench.folder / "cases").iterdir()))
            if job.record().rows:
                with suppress(Refused):
                    assert job.resume().clean
                assert job.undo().stays == []
        assert (stands(bench)[0], bench.files) == (wanted[0], before)


def test_an_account_that_the_product_made(tmp_path: Path) -> None:
    """Below the line of no return; a person's, and the system's own, are never deleted."""
    bench = office(tmp_path)
    step = "[[delete]]\nmade_account = 'BWBridge'\n[[verify]]\nmade_account = 'bwbridge'\n"
    (action, _) = bench.plan(step)
    assert (action.state, action.without_return) == ("to do", True)
    job, ended = bench.run(step)
    assert ended.clean
    assert bench.on.made_accounts.names == set()
    undone = job.undo()
    assert "which was deleted, cannot be taken back" in " ".join(undone.notes + undone.stays)
    bench.on.made_accounts.names = {"mira", "Administrator"}
    for name, why in (("mira", "a person may have worked with it"), ("administrator", "the system's own")):
        (found,) = bench.plan(f"[[delete]]\nmade_account = '{name}'\n")
        assert found.state == "refused"
        assert why in found.reason


@given(st.binary(max_size=200))
def test_whatever_lies_in_a_store(data: bytes) -> None:
    common_names(data)
    common_names(pack("<III", 32, 1, len(data)) + data)


@pytest.mark.parametrize(
    ("lines", "said"),
    [
        ("firewall = 'B*'", "at least 4 letters"),
        ("app_path = '{nowhere}\\x'", "nowhere"),
        ("protocol = 'bw tag'\n" + INTO, "protocol"),
        ("protocol = 'bwtag'", "program"),
        ("com_class = 'x'", "not a whole path"),
        ("file_type = ['bwl']\n" + INTO, "is no ending"),
        ("file_type = ['.b*']\n" + INTO, "is no ending"),
        ("font = '*'", "at least 4 letters"),
        ("print_queue = '?'", "at least 4 letters"),
        ("certificate = 'abc'", "no thumbprint"),
        ("made_account = 'b*'", "made_account"),
        ("recent = ['x']", "not a whole path"),
    ],
)
def test_bad_input(lines: str, said: str) -> None:
    problems = bad_step(lines)
    assert any(said in problem for problem in problems), problems
