"""Drivers that came with a product: the devices first, then the package; the neighbours of the class stay, and undo brings all back."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest

from kleff.errors import Refused
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef
from kleff.registry.values import text_value
from kleff.workstation.lab.making.drivers import add_driver
from kleff.workstation.windows.drivers import read_inf
from memory import Bench, each_kill, states
from needs.lab import put
from support import Kleff, bad_step, procedure

STEP = '[[uninstall]]\ndriver = "Brindlewort soil probe*"\nprovider = "Brindlewort*"\n[[verify]]\ndriver = "bwk*.inf"\n'


def workshop(folder: Path) -> Bench:
    bench = Bench(folder)

    def key(path: str, values: dict[str, str]) -> None:
        bench.on.api.create("HKLM", path[5:])
        for name, text in values.items():
            bench.on.api.set("HKLM", path[5:], text_value(name, text))

    file = bench.on.files.add
    add_driver(file, key, 3, "rwgauge", "Rakeworks", "Rakeworks gauge")
    add_driver(file, key, 12, "bwkprobe", "Brindlewort Garden Works", "Brindlewort soil probe (COM4)")
    add_driver(file, key, 13, "bwkrelay", "Brindlewort Garden Works", "Brindlewort relay", utf16=False)
    add_driver(file, key, 20, "odd", "Microsoft", "Brindlewort soil probe, by the system")
    bench.on.files.add(r"C:\Windows\INF\usbser.inf", "of the system's own")
    return bench


def keys(bench: Bench) -> list[Any]:
    registry = bench.on.open().registry
    tops = (registry.tree(KeyRef("HKLM", rf"SYSTEM\ControlSet001\{name}")) for name in ("Enum", r"Control\Class"))
    return [_flat(top) for top in tops]


def _flat(tree: RegKey | None) -> Any:
    return None if tree is None else ({n: v.raw for n, v in tree.values.items()}, {n: _flat(k) for n, k in tree.keys.items()})


def test_there_and_back(tmp_path: Path) -> None:
    bench = workshop(tmp_path)
    before = bench.files, keys(bench)
    planned = bench.plan(STEP)
    (row,) = (a for a in planned if a.phase == "uninstall")
    assert row.target == "driver Brindlewort soil probe (COM4)"
    assert row.shows[0] == "bwkprobe.inf by Brindlewort Garden Works, Ports, version 4.2.0.12"
    assert r"its device goes first: Brindlewort soil probe (COM4) (USB\VID_04D8&PID_BWKPROBE\5&1&12)" in row.shows
    stays = [s.removeprefix("stays, of the same sort: ") for s in row.shows if s.startswith("stays")]
    assert stays[:2] == ["Brindlewort relay (oem13.inf)", "Brindlewort soil probe, by the system (oem20.inf)"]
    job, ended = bench.run(STEP.replace("bwk*", "bwkprobe"))
    assert ended.clean
    names = bench.names(r"C:\Windows\INF")
    assert names == ["oem13.PNF", "oem13.inf", "oem20.PNF", "oem20.inf", "oem3.PNF", "oem3.inf", "usbser.inf"]
    assert bench.on.files.look(bench.on.files.path(r"C:\Windows\System32\drivers\bwkprobe.sys")) is not None  # a step of its own
    assert "oem12" not in str(keys(bench))
    saved = [r for r in job.record().rows if r.action.phase == "drivers"]
    assert [(r.state, r.items) for r in saved] == [("done", 2)]  # .inf and .cat in the bag
    assert job.undo().stays == []
    assert (bench.files, keys(bench)) == before


def test_killed_at_any_write(tmp_path: Path) -> None:
    wanted = keys(workshop(tmp_path / "whole"))
    for bench, job, before in each_kill(tmp_path, workshop, STEP.replace("bwk*", "bwkprobe")):
        with suppress(Refused):
            assert job.resume().clean
        assert "oem12.inf" not in bench.names(r"C:\Windows\INF")
        assert job.undo().stays == []
        assert (bench.files, keys(bench)) == (before, wanted)


def test_which_are_meant(tmp_path: Path) -> None:
    bench = workshop(tmp_path)
    found = {
        'driver = "bwk*.inf"': {"driver Brindlewort soil probe (COM4)": "refused", "driver Brindlewort relay": "refused"},
        'driver = "bwk*.inf"\nprovider = "Brindlewort*"': {
            "driver Brindlewort soil probe (COM4)": "to do",
            "driver Brindlewort relay": "to do",
        },
        'driver = "bwkrelay"\nclass = "Ports"': {"driver Brindlewort relay": "to do"},
        'driver = "bwkrelay"\nclass = "Printer"': {"driver bwkrelay": "absent"},
        'driver = "bwk*.inf"\nprovider = "Rakeworks"': {"driver bwk*.inf": "absent"},
        'driver = "bwk*.inf"\nprovider = "Brindlewort*"\nat_most = 1': {
            "driver Brindlewort soil probe (COM4)": "refused",
            "driver Brindlewort relay": "refused",
        },
        'driver = "odd.inf"': {"driver Brindlewort soil probe, by the system": "refused"},
    }
    for lines, rows in found.items():
        plan = [a for a in bench.plan(f"[[uninstall]]\n{lines}\n") if a.phase == "uninstall"]
        assert {target: state for target, (state, _) in states(plan).items()} == rows, lines


def test_one_that_is_plugged_in_asks_for_a_restart(kleff: Kleff, tmp_path: Path) -> None:
    lab = tmp_path / "lab"
    put(lab, {"driver": [{"name": "bwprobe", "provider": "Brindlewort", "title": "Brindlewort soil probe", "number": 12}]})
    file = lab / "lab.toml"
    file.write_text(file.read_text().replace("format = 1", "format = 1\nconnected = ['USB\\VID_04D8&PID_BWPROBE\\5&1&12']"))
    own = procedure(tmp_path / "p.toml", '[[uninstall]]\ndriver = "bwprobe.inf"\nprovider = "Brindlewort"\n')
    assert "a restart is needed" in kleff("run", own, "--on", f"lab:{lab}", "--yes", code=5).err
    kleff("lab", "restart", lab, cases=False)
    assert "nothing is left" in kleff("resume").out
    kleff("undo", kleff.case(), "--yes")
    assert (lab / "files/C/Windows/INF/oem12.inf").exists()


@pytest.mark.parametrize("data", [b"", b"\xff\xfe", b"[Version]\nProvider=%a%\n", b"[Version\nx=y", b"\0" * 40, b"=\n[]\n[ ]\n==\n"])
def test_settings_that_are_odd(data: bytes) -> None:
    assert set(read_inf(data)) <= {"provider"}


@pytest.mark.parametrize(
    ("lines", "said"),
    [("driver = ''", "driver"), ("driver = 'bwkprobe'\nclas = 'Ports'", "clas"), ("driver = 3", "driver")],
)
def test_bad_input(lines: str, said: str) -> None:
    assert any(said in problem for problem in bad_step(lines, "uninstall"))
