"""Taking back after more than one pass, in part, from an open case; and what a restart, and a discard, mean for it."""

from __future__ import annotations

import errno
from pathlib import Path
from typing import Any

import pytest

from kleff.case.aside.spare import Spare
from kleff.case.aside.spare_index import SparedItem
from kleff.case.effects.base import TakenBack
from kleff.case.effects.moved import Moved
from kleff.case.hands import Hands
from kleff.case.record.effect import Journaled
from kleff.case.record.folder import open_case
from kleff.engine.cases.rows import rows
from kleff.engine.checking.static import always_refused
from kleff.engine.job import Job
from kleff.engine.library import parse
from kleff.errors import RestartNeeded, Stopped
from kleff.progress import Silent
from kleff.report.case_facts import case_info
from kleff.workstation.files.protocol import Folder
from kleff.workstation.memory.facets import MemoryServices
from kleff.workstation.memory.packages import MemoryPackages
from kleff.workstation.paths import WPath
from kleff.workstation.things import Service
from memory import Bench, delete
from support import Kleff, procedure, write

HOE = r"C:\Program Files\Rakeworks\Hoe"


def test_what_appeared_again_stays_aside(folder: Path) -> None:
    """It was set aside in a later pass; undone, the original is back, the other is named and can be discarded."""
    bench = Bench(folder)
    bench.on.files.add(rf"{HOE}\own", "original")
    bench.on.files.add(r"C:\Shed\x", "y")

    class Again(Silent):
        """Something makes the folder again, once, while it is looked whether it is gone."""

        def say(self, line: str) -> None:
            if "looking whether" in line:
                bench.on.files.add(rf"{HOE}\again", "another")

    job = bench.job(delete(HOE) + delete(r"C:\Shed"))
    case, ended = job.run(job.preview(), bench.folder / "cases", progress=Again())
    job = bench.again(job, case)
    assert ended.clean, ended.verification.open
    undone = job.undo()
    assert undone.stays == []
    assert any("had appeared again" in note and "stays set aside" in note for note in undone.notes), undone.notes
    assert bench.names(HOE) == ["own"]
    with open_case(job.folder()) as case:
        assert case_info(case).aside_items == 2
    held = job.discard()
    assert held.items == 2
    assert bench.names(HOE) == ["own"]


def test_a_part_of_an_open_case(folder: Path) -> None:
    """One label is taken back while the case is stopped; the rest goes on, and that part stays as it is."""
    bench = Bench(folder)
    for name in ("one", "two"):
        bench.on.files.add(rf"C:\Shed {name}\x")
    bench.on.entry("Hoe", "Rakeworks Hoe", "2.0", "", "", "Rakeworks")
    body = "[[uninstall]]\nentry = 'Rakeworks Hoe'\nafter_restart = false\n"
    job = bench.job(delete(r"C:\Shed one", more="label = 'first'\n") + delete(r"C:\Shed two") + body)
    made = job.preview()
    assert [a.phase for a in made.plan.actions if a.state == "manual"] == ["uninstall"]
    with pytest.raises(Stopped):
        job.run(made, bench.folder / "cases")
    case = bench.again(job, Job.cases(bench.folder / "cases")[0])
    assert case.record().state == "open"
    done = case.undo(only={1})
    assert done.count == 0
    assert case.record().state == "open"


def test_a_part_while_it_waits_for_a_restart(folder: Path) -> None:
    bench = Bench(folder)
    for name in ("one", "two", "three"):
        bench.on.files.add(rf"C:\Shed {name}\x")
    job = bench.job(delete(r"C:\Shed one") + delete(r"C:\Shed two") + delete(r"C:\Shed three", more="after_restart = true\n"))
    with pytest.raises(RestartNeeded):
        job.run(job.preview(), bench.folder / "cases")
    case = bench.again(job, Job.cases(bench.folder / "cases")[0])
    assert case.undo(only={1}).count == 1
    assert bench.on.files.look(bench.on.files.path(r"C:\Shed one\x")) is not None
    assert case.record().state == "waiting"
    bench.on.boot = "2"
    ended = bench.again(job, case.folder()).resume()
    with open_case(case.folder()) as opened:
        assert [r.state for r in rows(opened)] == ["undone", "done", "done"]
    assert not ended.clean  # what was taken back is there, and told
    bench.again(job, case.folder()).undo()
    assert [bench.on.files.look(bench.on.files.path(rf"C:\Shed {n}\x")) is not None for n in ("one", "two", "three")] == [True] * 3


def test_what_another_action_removed_says_which(folder: Path) -> None:
    """A label whose things an uninstaller took along: undone alone it names the action that has them."""
    bench = Bench(folder)
    bench.on.entry("Hoe", "Rakeworks Hoe", "2.0", HOE, rf"{HOE}\unins.exe", "Rakeworks")
    bench.on.files.add(rf"{HOE}\data\x")

    def behaves(argv: object) -> tuple[int, str]:
        bench.on.api.delete_key("HKLM", r"SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Hoe")
        for name in (r"\data\x", r"\data"):
            bench.on.files.remove_single(bench.on.files.path(HOE + name))
        return 0, ""

    bench.on.behaves(rf"{HOE}\unins.exe", behaves)
    body = (
        "[[uninstall]]\nentry = 'Rakeworks Hoe'\npublisher = 'Rakeworks'\n" + delete(rf"{HOE}\data", more="label = 'data'\n") + delete(HOE)
    )
    job, ended = bench.run(body)
    assert ended.clean
    undone = job.undo(only={2})
    assert undone.count == 0
    assert any("was removed by action 1" in note for note in undone.notes), undone.notes


def test_a_restart_that_is_always_wanted(folder: Path) -> None:
    """Whatever was removed, not only by programs."""
    bench = Bench(folder)
    bench.on.files.add(r"C:\Shed\x")
    job = bench.job(delete(r"C:\Shed"), head='restart = "always"\n')
    with pytest.raises(RestartNeeded):
        job.run(job.preview(), bench.folder / "cases")


def test_what_is_there_only_after_the_restart(folder: Path) -> None:
    """Absent at the preview, there after the restart: it goes then."""
    bench = Bench(folder)
    bench.on.files.add(r"C:\Shed\x")
    job = bench.job(delete(r"C:\Shed") + delete(r"C:\Late", r"C:\Pots\Later*", more="after_restart = true\n"), head='restart = "always"\n')
    with pytest.raises(RestartNeeded):
        job.run(job.preview(), bench.folder / "cases")
    for name in ("Late", r"Pots\Later 1", r"Pots\Later 2"):
        bench.on.files.add(rf"C:\{name}\x")
    bench.on.boot = "2"
    ended = bench.again(job, Job.cases(bench.folder / "cases")[0]).resume()
    assert [bench.on.files.look(bench.on.files.path(rf"C:\{n}")) for n in ("Late", r"Pots\Later 1", r"Pots\Later 2")] == [None] * 3
    assert ended.clean, ended.verification.open
    case = bench.again(job, Job.cases(bench.folder / "cases")[0])
    assert case.undo().stays == []
    assert bench.on.files.look(bench.on.files.path(r"C:\Pots\Later 2\x")) is not None
    text = 'format = 1\n[product]\nid = "sample"\nname = "Sample"\nrestart = "never"\n[[evidence]]\npath = \'C:\\x\'\n'
    found = always_refused(parse((text + delete(r"C:\Shed", more="after_restart = true\n")).encode(), "p.toml"))
    assert found == [(8, 'after_restart, but [product] says  restart = "never"; take out one of the two')]


def test_every_question_before_the_first_deletion(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """A bag that may hold a licence, and nobody there to answer: nothing at all is deleted."""
    write(lab / "files/C/Garden/seed.txt")
    step = "[[backup]]\nlabel = 'licence'\nkind = 'licence'\npaths = ['C:\\Garden']\n[[delete]]\npaths = ['C:\\Garden']\n"
    kleff("run", procedure(tmp_path / "p.toml", step), "--on", f"lab:{lab}", "--yes")
    case = kleff.case()
    assert "answer on a terminal" in kleff("discard", case, "--bag", "--yes", code=3).err
    assert (case / "bag").exists()
    kleff("undo", case, "--yes")
    assert (lab / "files/C/Garden/seed.txt").exists()
    plain = step.replace("licence", "settings")
    kleff("run", procedure(tmp_path / "q.toml", plain), "--on", f"lab:{lab}", "--yes")
    case = kleff.case()
    kleff("discard", case, "--bag", "--yes")
    assert not (case / "bag").exists()


def test_no_program_is_started_before_what_failed_is_back(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A service would make its data anew where the old cannot be put back: it waits, and the same command ends it."""
    bench = Bench(folder, "linux")
    bench.on.files.add("/var/lib/beds/rows", "7")
    bench.on.services.add("beds")
    job, _ = bench.run("[[stop]]\nservice = 'beds'\n[[delete]]\npaths = ['/var/lib/beds', '/srv/other']\n")
    before = bench.files
    started = MemoryServices.restore

    def makes_its_data(self: MemoryServices, service: Service) -> None:
        started(self, service)
        if bench.on.files.look(bench.on.files.path("/var/lib/beds")) is None:
            bench.on.files.add("/var/lib/beds/rows", "none")

    def busy(self: Moved, one: Journaled, hands: Hands) -> TakenBack:
        raise OSError(errno.ETXTBSY, "Text file busy", "/var/lib/beds")

    monkeypatch.setattr(MemoryServices, "restore", makes_its_data)
    with monkeypatch.context() as patch:
        patch.setattr(Moved, "undo", busy)
        done = bench.undo(job)
    assert list(done.failed) == [2]
    assert "waits until action 2 is taken back" in done.waits[1]
    assert bench.files == before
    done = bench.undo(bench.again(job, job.folder()))
    assert (done.failed, done.waits, done.stays) == ({}, {}, [])
    assert bench.on.files.read(bench.on.files.path("/var/lib/beds/rows")) == b"7"
    assert bench.on.services.get("beds").running


def test_what_the_system_does_not_let_back_is_not_lost(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A package's script has made a file anew, the original's way back is barred once: the next undo brings it, not the script's."""
    bench = Bench(folder, "linux")
    bench.on.packages.add("hoe", "1.0", ["/usr/bin/hoe"], folders=["/var/lib/hoe"])
    bench.on.files.add("/var/lib/hoe/rows", "seven")
    before = bench.files
    job, _ = bench.run("[[purge]]\npackage = 'hoe'\n[[delete]]\npaths = ['/var/lib/hoe']\n")
    put_back, bring = MemoryPackages.put_back, Spare._bring_file

    def with_its_script(self: MemoryPackages, *arguments: Any) -> None:
        put_back(self, *arguments)
        path = bench.on.files.path("/var/lib/hoe/rows")
        if bench.on.files.look(path) is not None:
            bench.on.files.remove_single(path)
        bench.on.files.add("/var/lib/hoe/rows", "none")

    def busy(self: Spare, kept: SparedItem, path: WPath, to: Folder, name: str) -> list[str]:
        if name == "rows":
            raise OSError(errno.EBUSY, "Device or resource busy", name)
        return bring(self, kept, path, to, name)

    monkeypatch.setattr(MemoryPackages, "put_back", with_its_script)
    with monkeypatch.context() as patch:
        patch.setattr(Spare, "_bring_file", busy)
        done = bench.undo(job)
    assert "rows cannot be brought back: Device or resource busy" in done.failed[1]
    done = bench.undo(bench.again(job, job.folder()))
    assert (done.failed, done.stays) == ({}, [])
    assert bench.on.files.read(bench.on.files.path("/var/lib/hoe/rows")) == b"seven"
    assert bench.files == before
