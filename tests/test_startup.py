"""What starts with a session on Windows, with the switch that the system keeps beside it: taken away together, given back together."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

from kleff.errors import Refused
from kleff.registry.values import REG_BINARY, RegValue, text_value
from memory import Bench, each_kill
from test_shortcuts import made

RUN = r"Software\Microsoft\Windows\CurrentVersion\Run"
SWITCHES = r"Software\Microsoft\Windows\CurrentVersion\Explorer\StartupApproved"
TRAY = r"C:\Program Files\Brindlewort\tagtray.exe"
STARTUP = r"\AppData\Roaming\Microsoft\Windows\Start Menu\Programs\Startup"
ON, OFF = b"\x02" + bytes(11), b"\x03" + bytes(11)
STEP = "[[stop]]\nstartup = 'tagtray*'\n"


def session(folder: Path) -> Bench:
    bench = Bench(folder)
    api = bench.on.api
    sid = next(h for h in api.hives() if h != "HKLM")

    def put(hive: str, path: str, value: RegValue) -> None:
        api.create(hive, path)
        api.set(hive, path, value)

    for hive, top in (("HKLM", ""), ("HKU", f"{sid}\\")):
        put(hive, top + RUN, text_value("TagTray", f'"{TRAY}" /quiet'))
        put(hive, f"{top}{SWITCHES}\\Run", RegValue("tagtray", REG_BINARY, OFF))
        put(hive, f"{top}{SWITCHES}\\Run", RegValue("Stocktake", REG_BINARY, ON))
    put("HKLM", rf"Software\Wow6432Node\{RUN[9:]}", text_value("TagTray32", TRAY))
    put("HKLM", rf"{SWITCHES}\Run32", RegValue("TagTray32", REG_BINARY, ON))
    put("HKLM", rf"{SWITCHES}\Run32", RegValue("TagTray", REG_BINARY, ON))  # of a start that an uninstaller took away
    home = bench.on.open().accounts.all()[0].home
    bench.on.files.add(f"{home}{STARTUP}\\Labels at the till.lnk", made(TRAY))
    put("HKU", rf"{sid}\{SWITCHES}\StartupFolder", RegValue("Labels at the till.lnk", REG_BINARY, ON))
    bench.on.files.add(f"{home}{STARTUP}\\Notes.lnk", made(r"C:\Tools\notes.exe"))
    return bench


def stands(bench: Bench) -> tuple[dict[str, bytes], list[str]]:
    api, values = bench.on.api, {}
    for hive in api.hives():
        root, top = ("HKLM", "") if hive == "HKLM" else ("HKU", f"{hive}\\")
        wow = rf"Software\Wow6432Node\{RUN[9:]}"
        for path in (RUN, wow, *(f"{SWITCHES}\\{of}" for of in ("Run", "Run32", "StartupFolder"))):
            with suppress(OSError, TypeError):
                values |= {f"{root} {top}{path} {v.name}": v.raw for v in api.contents(root, top + path)[1]}
    return values, sorted("/".join(key) for key in bench.files if key[-1].endswith(".lnk") and ".kleff" not in key)


def test_there_and_back(tmp_path: Path) -> None:
    bench = session(tmp_path)
    before, files = stands(bench), bench.files
    rows = {(a.target, a.account): a.shows for a in bench.plan(STEP)}
    assert len(rows) == 5
    assert [shows[-1] for (target, _), shows in rows.items() if target == "start of TagTray"] == ["switched off"] * 2
    assert rows["switch of TagTray", ""] == ["what it switched does not start any more"]
    job, ended = bench.run(STEP)
    assert ended.clean
    values, links = stands(bench)
    assert {name.rpartition(" ")[2] for name in values} == {"Stocktake"}
    assert [link.rpartition("/")[2] for link in links] == ["Notes.lnk"]
    assert job.undo().stays == []
    assert (stands(bench), bench.files) == (before, files)


def test_killed_at_any_write(tmp_path: Path) -> None:
    wanted = stands(session(tmp_path / "whole"))
    for bench, job, _ in each_kill(tmp_path, session, STEP):
        with suppress(Refused):
            job.resume()
        assert {name.rpartition(" ")[2] for name in stands(bench)[0]} == {"Stocktake"}
        assert job.undo().stays == []
        assert stands(bench) == wanted


def test_a_switch_of_what_still_starts_stays(tmp_path: Path) -> None:
    """Named by its program alone: the name of another's switch says nothing."""
    bench = session(tmp_path)
    assert [a.state for a in bench.plan("[[stop]]\nstartup = 'Stocktake'\n")] == ["to do"] * 2  # left by somebody: no such start
    bench.on.api.set("HKLM", RUN, text_value("Stocktake", r"C:\Stocktake\stocktake.exe"))
    assert [(a.target, a.account != "") for a in bench.plan("[[stop]]\nstartup = 'stocktake.exe'\n")] == [("start of Stocktake", False)]
