"""What can only be known before a removal is noted when a case begins, and lived on afterwards."""

from __future__ import annotations

import itertools
import sqlite3
from contextlib import closing
from pathlib import Path

from kleff.case.record.beforehand import Beforehand, Clue, read_beforehand
from kleff.case.record.effect import dump, load
from kleff.case.record.folder import open_case
from kleff.engine.job import Job
from kleff.workstation.identity import PathId
from kleff.workstation.paths import from_raw
from memory import Bench, delete, killed_at
from support import Kleff, write
from test_entries import STEP, bench, procedure

OTHER = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Rake"
HOE = r"C:\Program Files\Rakeworks\Hoe"
UNINSTALL = r"SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Hoe"
RAKE = r"C:\Program Files\Rakeworks\Rake"


def noted_by(case: Path) -> Beforehand:
    with open_case(case) as opened:
        return read_beforehand(opened)


def test_what_a_removal_takes_away_is_noted(tag_studio: Path, lab: Path, tmp_path: Path) -> None:
    """Where it is installed, what its services run, what its keys name, what has to stay, and whose numbers are whose."""
    job = Job.open(tag_studio, f"lab:{lab}")
    folder, _ = job.run(job.preview(), tmp_path / "cases")
    noted, style = noted_by(folder), job.workstation.style
    clues = {(str(from_raw(style, c.place.path)), c.how, c.by) for c in noted.clues}
    program = r"C:\Program Files\Brindlewort\Tag Studio 4"
    assert (program, "installed in", "Brindlewort Tag Studio 4.2") in clues
    assert (rf"{program}\uninstall.exe", "uninstalls", "Brindlewort Tag Studio 4.2") in clues
    assert (rf"{program}\bin\printbridge.exe", "run by", "service BrindlewortPrintBridge") in clues
    named = {place for place, how, _ in clues if how == "named in"}
    assert rf"{program}\tagtray.exe" in named
    assert not any("Stocktake" in place or "System32" in place for place, _, _ in clues)
    stays = {str(from_raw(style, s.place.path)) for s in noted.stays}
    assert {r"C:\Program Files\Brindlewort\Stocktake", r"C:\Program Files\Brindlewort\Tag Studio 3"} <= stays
    assert {n.name for n in noted.numbers} >= {"mira", "tomas", "till"}


def test_what_had_to_stay_stays_after_a_restart(kleff: Kleff, tmp_path: Path) -> None:
    """The uninstaller takes a neighbour's registration along: its folder is still the neighbour's when the case goes on."""
    lab = bench(tmp_path / "lab", exit=3010, also={OTHER: {"DisplayName": "Rake 1", "InstallLocation": RAKE}}, deletes_keys=[
        r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Hoe", OTHER,
    ])  # fmt: skip
    write(lab / "files/C/Program Files/Rakeworks/Rake/rake.exe")
    write(lab / "files/C/Program Files/Rakeworks/left.txt")
    steps = STEP + "[[delete]]\npaths = ['C:\\Program Files\\Rakeworks']\nafter_restart = true\n"
    kleff("run", procedure(tmp_path / "p.toml", steps), "--on", f"lab:{lab}", "--yes", code=5)
    kleff("lab", "restart", lab)
    kleff("resume", kleff.case(), code=None)
    assert (lab / "files/C/Program Files/Rakeworks/Rake/rake.exe").exists()
    assert not (lab / "files/C/Program Files/Rakeworks/left.txt").exists()
    assert "it belongs to Rake 1, which stays" in kleff("report", kleff.case()).out


def test_it_is_an_error_when_it_cannot_be_read(kleff: Kleff, tmp_path: Path) -> None:
    lab = bench(tmp_path / "lab", exit=3010)
    kleff("run", procedure(tmp_path / "p.toml", STEP), "--on", f"lab:{lab}", "--yes", code=5)
    kleff("lab", "restart", lab)
    with closing(sqlite3.connect(kleff.case() / "case.db")) as db:
        db.execute("UPDATE meta SET value = replace(value, '\"stays\":[', '\"stays\":[7') WHERE key = 'beforehand'")
        db.commit()
    assert "what was noted when the case began cannot be read" in kleff("resume", kleff.case(), code=1).err
    assert "what was noted when the case began cannot be read" in kleff("undo", kleff.case(), "--yes", code=4).out


def test_names_that_are_no_text_are_noted() -> None:
    noted = Beforehand(clues=[Clue(place=PathId(b"C:\xff\x00\xed\xb0\x80"), how="open in", by="a\udc80b")])
    assert load(dump(noted), Beforehand) == noted


def test_a_start_type_that_kleff_has_set_is_no_stranger_s(folder: Path) -> None:
    """Killed at every journal write around an uninstaller whose service Kleff holds: taken back without a remark, to the last value."""
    writes = 0
    for at in itertools.count(1):
        on = Bench(folder / str(at))
        on.on.entry("Hoe", "Rakeworks Hoe", "2.0", HOE, rf"{HOE}\unins.exe", "Rakeworks")
        on.on.service("hoesvc", rf'"{HOE}\svc.exe"')
        on.on.files.add(rf"{HOE}\svc.exe")
        on.on.behaves(rf"{HOE}\unins.exe", lambda argv, on=on: (on.on.api.delete_key("HKLM", UNINSTALL), (0, ""))[1])
        before = on.files, values(on)
        job = on.job("[[stop]]\nservice = 'hoesvc'\n[[uninstall]]\nentry = 'Rakeworks Hoe'\npublisher = 'Rakeworks'\n" + delete(HOE))
        made = job.preview()
        with killed_at(at, after=True) as seen:
            job.run(made, on.folder / "cases")
        found = Job.cases(on.folder / "cases")
        case = on.again(job, found[0]) if found else None
        if case is not None and case.record().state != "new":
            assert case.undo().stays == [], at
            assert (on.files, values(on)) == before, at
        writes = seen[0]
        if writes < at:
            break
    assert writes > 10


def values(on: Bench) -> list[tuple[str, bytes]]:
    registry = on.on.open().registry
    assert registry is not None
    found = registry.values(registry.canonical(r"HKLM\SYSTEM\CurrentControlSet\Services\hoesvc")[0])
    return [(v.name, v.raw) for v in found]
