"""Stopping: programs by name, place, window and port, watchdogs, services with what depends on them, tasks, starts, commands."""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import time
from pathlib import Path

import pytest

from kleff.registry.values import list_value, number_value
from kleff.workstation.lab.lab import Lab
from kleff.workstation.lab.workstation import open_lab
from kleff.workstation.memory.facets import MemoryServices
from kleff.workstation.things import Service
from memory import Bench, Killed
from support import IS_ROOT, Kleff, describe, differences, hives, procedure, tree, write

PROGRAM = "C:\\\\Program Files\\\\Brindlewort\\\\Tag Studio 4"
RUN = r"Software\Microsoft\Windows\CurrentVersion\Run"
GARDEN = "[[delete]]\npaths = ['C:\\Garden']\n"


@pytest.fixture
def garden(lab: Path) -> Path:
    return write(lab / "files/C/Garden/seed.txt").parent


def names(lab: Path) -> set[str]:
    return {str(p["name"]) for p in Lab(lab).state().processes}


def test_programs_by_place_window_and_port(kleff: Kleff, lab: Path, garden: Path, tmp_path: Path) -> None:
    """With their children; the neighbour's goes on."""
    describe(lab, name="hub.exe", path=r"C:\Tools\hub.exe", listens=[8010])
    describe(lab, name="wizard.exe", path=r"C:\Tools\w.exe", title="Tag Studio - first steps", account="tomas")
    body = "[places]\nprogram = ['%ProgramFiles%\\Brindlewort\\Tag Studio 4']\n"
    steps = "[[stop]]\nprocess = '{program}\\**\\*.exe'\nwithin = '1s'\n[[stop]]\nwindow = \"tag studio - *\"\n[[stop]]\nport = 8010\n"
    file = procedure(tmp_path / "p.toml", body + steps + GARDEN)
    shown = kleff("preview", file, "--on", f"lab:{lab}").out
    assert "what listens on port 8010" in shown
    assert "the program with the window tag studio - *" in shown
    kleff("run", file, "--on", f"lab:{lab}", "--yes")
    assert names(lab) == {"stocktake.exe", "explorer.exe"}
    noted = kleff("undo", kleff.case(), "--yes").out
    assert r"hub.exe, number" in noted
    assert "start it again if it is wanted" in noted


def test_a_watchdog_is_named(kleff: Kleff, lab: Path, garden: Path, tmp_path: Path) -> None:
    describe(lab, name="tagguard.exe", path=r"C:\Tools\tagguard.exe", account="till")
    describe(lab, name="tagsync.exe", path=r"C:\Tools\tagsync.exe", kept_by="tagguard.exe")
    file = procedure(tmp_path / "p.toml", '[[stop]]\nprocess = "tagsync.exe"\n' + GARDEN)
    err = kleff("run", file, "--on", f"lab:{lab}", "--yes", code=1).err
    assert "tagsync.exe was started again by tagguard.exe (number" in err
    assert "of till)" in err
    assert "stop tagguard.exe first, in a [[stop]] before this one" in err
    kleff("undo", kleff.case(), "--yes")
    both = procedure(tmp_path / "q.toml", '[[stop]]\nprocess = "tagguard.exe"\n[[stop]]\nprocess = "tagsync.exe"\n' + GARDEN)
    kleff("run", both, "--on", f"lab:{lab}", "--yes")
    assert not names(lab) & {"tagguard.exe", "tagsync.exe"}


def test_a_service_with_what_depends_on_it(kleff: Kleff, lab: Path, garden: Path, tmp_path: Path) -> None:
    """Stopped in order, kept from starting until the end, and as before after undo."""
    registry = open_lab(lab).registry
    assert registry is not None
    for name, needs in (("LabelQueue", "BrindlewortPrintBridge"), ("LabelWatch", "labelqueue"), ("Other", "Spooler")):
        path = rf"SYSTEM\ControlSet001\Services\{name}"
        registry.api.create("HKLM", path)
        registry.api.set("HKLM", path, number_value("Start", 2))
        registry.api.set("HKLM", path, list_value("DependOnService", [needs]))
    registry.api.flush()
    describe(lab, name="x.exe", path=r"C:\Tools\x.exe")
    before = hives(lab), sorted(Lab(lab).state().running_services)
    file = procedure(tmp_path / "p.toml", '[[stop]]\nservice = "BrindlewortPrintBridge"\n' + GARDEN)
    shown = kleff("preview", file, "--on", f"lab:{lab}").out
    assert "stops first what depends on it: LabelWatch, LabelQueue" in shown
    kleff("run", file, "--on", f"lab:{lab}", "--yes")
    case = kleff.case()
    assert sorted(Lab(lab).state().running_services) == ["Spooler", "StocktakeSync"]
    assert hives(lab) == before[0], "in the end they may be started again"
    kleff("undo", case, "--yes")
    assert (hives(lab), sorted(Lab(lab).state().running_services)) == before


def test_services_that_depend_on_each_other(kleff: Kleff, lab: Path, garden: Path, tmp_path: Path) -> None:
    """A ring has no order: each is stopped once, and started again."""
    registry = open_lab(lab).registry
    assert registry is not None
    for name, needs in (("LabelQueue", ["BrindlewortPrintBridge", "LabelWatch"]), ("LabelWatch", ["LabelQueue"])):
        path = rf"SYSTEM\ControlSet001\Services\{name}"
        registry.api.create("HKLM", path)
        registry.api.set("HKLM", path, number_value("Start", 2))
        registry.api.set("HKLM", path, list_value("DependOnService", needs))
    registry.api.flush()
    describe(lab, name="x.exe", path=r"C:\Tools\x.exe")
    before = hives(lab), sorted(Lab(lab).state().running_services)
    kleff("run", procedure(tmp_path / "p.toml", '[[stop]]\nservice = "BrindlewortPrintBridge"\n' + GARDEN), "--on", f"lab:{lab}", "--yes")
    assert sorted(Lab(lab).state().running_services) == ["Spooler", "StocktakeSync"]
    kleff("undo", kleff.case(), "--yes")
    assert (hives(lab), sorted(Lab(lab).state().running_services)) == before


def test_what_would_start_it_again(kleff: Kleff, lab: Path, garden: Path, tmp_path: Path) -> None:
    """Tasks are switched off, entries taken away, in every account; undo gives all back."""
    xml = "<Task><Exec><Command>C:\\Tools\\tagupdate.exe</Command><Arguments>/quiet</Arguments></Exec></Task>"
    write(lab / "files/C/Windows/System32/Tasks/Brindlewort/Label update", xml.encode("utf-16"))
    write(lab / "files/C/Windows/System32/Tasks/Watering", "<Task><Command>water.exe</Command></Task>")
    before = tree(lab / "files"), hives(lab), Lab(lab).state().disabled_tasks
    steps = '[[stop]]\ntask = "tagupdate.exe"\n[[stop]]\ntask = "nothing*"\n[[stop]]\nstartup = "tagtray.exe"\n'
    file = procedure(tmp_path / "p.toml", steps + GARDEN)
    shown = kleff("preview", file, "--on", f"lab:{lab}").out
    assert r"runs: C:\Tools\tagupdate.exe /quiet" in shown
    kleff("run", file, "--on", f"lab:{lab}", "--yes")
    assert Lab(lab).state().disabled_tasks == ["Brindlewort\\Label update"]
    left = [name for key, values in hives(lab).items() if key.endswith(r"CurrentVersion\Run") for name in values]
    assert sorted(left) == ["Notes", "Notes", "Notes", "Stocktake"]
    kleff("undo", kleff.case(), "--yes")
    assert differences(before[0], tree(lab / "files")) == []
    assert (hives(lab), Lab(lab).state().disabled_tasks) == before[1:]


def test_the_products_own_command(kleff: Kleff, lab: Path, garden: Path, tmp_path: Path) -> None:
    """One that cannot be taken back is marked, and stands before everything that is removed."""
    command = "command = ['%ProgramFiles%\\Brindlewort\\Tag Studio 4\\bin\\tagdb.exe', 'list']\n"
    file = procedure(tmp_path / "p.toml", f"[[stop]]\nlabel = 'seat'\n{command}without_return = true\n" + GARDEN)
    shown = kleff("preview", file, "--on", f"lab:{lab}").out
    assert shown.index("line of no return") < shown.index(r"C:\Garden")
    kleff("run", file, "--on", f"lab:{lab}", "--yes")
    assert "tagdb.exe list has done cannot be taken back" in kleff("undo", kleff.case(), "--yes", code=4).out
    assert garden.exists()
    plain = procedure(tmp_path / "q.toml", f"[[stop]]\n{command}" + GARDEN)
    before = tree(lab / "files")
    kleff("run", plain, "--on", f"lab:{lab}", "--yes")
    assert not garden.exists()
    kleff("undo", kleff.case(), "--yes")
    assert differences(before, tree(lab / "files")) == []


def test_what_still_has_files_open(kleff: Kleff, lab: Path, garden: Path, tmp_path: Path) -> None:
    """Named with program, number and account; ended if that is said."""
    describe(lab, name="viewer.exe", path=r"C:\Tools\viewer.exe", opens=[r"C:\Garden\seed.txt"], account="mira")
    file = procedure(tmp_path / "p.toml", "[places]\nprogram = ['C:\\Windows']\n" + GARDEN)
    shown = kleff("preview", file, "--on", f"lab:{lab}").out
    assert "explorer.exe" not in shown, "what runs from a place of the system's own is nobody's holder"
    assert "no step stops it;  --stop-holder viewer.exe  does" in shown
    done = kleff("run", file, "--on", f"lab:{lab}", "--yes")
    assert r"still open: C:\Garden\seed.txt, by viewer.exe, number" in done.err
    assert "viewer.exe" in names(lab)
    kleff("undo", kleff.case(), "--yes")
    kleff("run", file, "--on", f"lab:{lab}", "--yes", "--stop-holder", "viewer.exe")
    assert "viewer.exe" not in names(lab)
    assert kleff("preview", file, "--on", f"lab:{lab}", "--json").json()["holders"] == []


# -- real programs of this machine ------------------------------------------------------------------------------

LISTENS = """
import os, socket, sys, time
s = socket.socket(); s.bind(("127.0.0.1", int(sys.argv[1]))); s.listen()
f = open(sys.argv[2]); print("up", flush=True); time.sleep(300)
"""
GUARDS = """
import subprocess, sys
while True:
    subprocess.Popen([sys.executable, *sys.argv[1:]], stdout=sys.stdout).wait()
"""


@pytest.mark.skipif(not IS_ROOT, reason="needs root: whose port it is")
@pytest.mark.usefixtures("this_machine")
def test_a_real_program_on_a_real_port_with_a_real_watchdog(kleff: Kleff, tmp_path: Path) -> None:
    place = write(Path("/opt/brindlewort-greenhouse/data/seed")).parent
    try:
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        script, guard = write(tmp_path / "listens.py", LISTENS), write(tmp_path / "guards.py", GUARDS)
        words = [sys.executable, str(guard), str(script), str(port), str(place / "seed")]
        child = subprocess.Popen(words, stdout=subprocess.PIPE, text=True)
        assert child.stdout is not None
        assert child.stdout.readline() == "up\n"
        body = f"[[stop]]\nport = {port}\nwithin = '1s'\n[[delete]]\npaths = ['{place.parent}']\n"
        file = procedure(tmp_path / "p.toml", body)
        shown = kleff("preview", file, "--on", "this").out
        assert f"{place}/seed   stopped by a step" in shown
        deadline = time.monotonic() + 60
        while True:  # its watchdog needs a moment
            err = kleff("run", file, "--on", "this", "--yes", code=None).err
            if "was started again by" in err or time.monotonic() > deadline:
                break
            kleff("undo", kleff.case(), "--yes")
            assert child.stdout.readline() == "up\n"
        assert f"(number {child.pid} of root)" in err, err
        child.kill()
        child.wait()
        kleff("resume", kleff.case())
        assert not place.exists()
        with socket.socket() as again:
            again.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            again.bind(("127.0.0.1", port))
        kleff("discard", kleff.case(), "--yes")
    finally:
        child.kill()
        subprocess.run(["pkill", "-f", str(tmp_path / "listens.py")], check=False)
        subprocess.run(["rm", "-rf", "/opt/brindlewort-greenhouse"], check=True)


@pytest.mark.skipif(not IS_ROOT, reason="needs root: another tree")
def test_starts_of_a_linux_session(kleff: Kleff, tmp_path: Path) -> None:
    from support import linux_tree

    top = linux_tree(tmp_path / "tree")
    own = write(top / "home/mira/.config/autostart/bridge.desktop", "[Desktop Entry]\nExec=/usr/bin/tagbridge --tray\n")
    theirs = write(top / "home/mira/.config/autostart/notes.desktop", "[Desktop Entry]\nExec=notes\n")
    for path in (own, theirs, own.parent, own.parent.parent):
        os.chown(path, 1001, 1001)
    all_ = write(top / "etc/xdg/autostart/label-tray.desktop", "[Desktop Entry]\nExec=/usr/bin/tagbridge\n")
    before = tree(top)
    file = procedure(tmp_path / "p.toml", '[[stop]]\nstartup = "tagbridge"\n[[delete]]\npaths = ["/opt/x"]\n')
    kleff("run", file, "--on", f"root:{top}", "--yes")
    assert (own.exists(), theirs.exists(), all_.exists()) == (False, True, False)
    kleff("undo", kleff.case(), "--yes")
    assert [d for d in differences(before, tree(top)) if "lib/kleff" not in d] == []


def test_cut_off_once_a_service_is_held(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Held and not stopped yet: the next try sees a service that cannot start, and does not take that for how it was."""
    bench = Bench(folder, "linux")
    bench.on.services.add("beds", running=True, start="enabled")
    body = "[[stop]]\nservice = 'beds'\n"
    halted = MemoryServices.stop

    def killed(self: MemoryServices, name: str) -> None:
        raise Killed

    monkeypatch.setattr(MemoryServices, "stop", killed)
    with pytest.raises(Killed):
        bench.run(body)
    job = bench.again(bench.job(body), next((bench.folder / "cases").iterdir()))
    with pytest.raises(Killed):
        job.resume()
    monkeypatch.setattr(MemoryServices, "stop", halted)
    done = bench.undo(bench.again(job, job.folder()))
    assert done.failed == {}
    assert bench.on.services.get("beds") == Service("beds", True, "enabled")
