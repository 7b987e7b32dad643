"""A restore that is cut off, repeated, short of room or taken back: nothing twice, nothing lost, no other bag."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from pathlib import Path

import pytest

from faulty import Event
from killing import EVERY, KILLED, run_until
from kleff.workstation.lab.replacement import reinstall
from support import IS_ROOT, Kleff, clone, differences, linux_tree, procedure, tree, write
from test_restore import DESIGNS, inform, saved_and_reinstalled

DATABASE = "files/C/ProgramData/Brindlewort/Tag Studio/labels.db"
GARDEN = "[[backup]]\nlabel = 'plants'\npaths = ['/opt/garden']\n[[delete]]\npaths = ['/opt/garden']\n"


def garden(kleff: Kleff, tmp_path: Path, amount: int = 5) -> tuple[Path, Path, dict[str, object]]:
    """A tree whose garden was saved and deleted for good: (the tree, its case, the garden as it was)."""
    top = linux_tree(tmp_path / "tree")
    for number in range(amount):
        write(top / f"opt/garden/bed {number}", os.urandom(9_000))
    was = tree(top / "opt")
    kleff("run", procedure(tmp_path / "p.toml", GARDEN), "--on", f"root:{top}", "--yes")
    case = kleff.case()
    kleff("discard", case, "--yes")
    was.pop(".")  # only what is below: the folder itself is touched
    return top, case, dict(was)


def opt(top: Path) -> dict[str, object]:
    return {k: v for k, v in tree(top / "opt").items() if k != "."}


@pytest.mark.skipif(not IS_ROOT, reason="needs root: another tree")
def test_without_its_bag_nothing_is_taken_away_again(kleff: Kleff, tmp_path: Path) -> None:
    """What was put back may be the only copy then. With the bag there again undo goes on."""
    top, case, was = garden(kleff, tmp_path)
    kleff("restore", case, "--on", f"root:{top}", "--yes")
    restored = kleff.case()
    (case / "bag").rename(tmp_path / "away")
    out = kleff("undo", restored, "--yes", code=4).out
    assert "is not there, and it may be the only copy" in " ".join(out.split())
    assert differences(was, opt(top)) == []
    (tmp_path / "away").rename(case / "bag")
    kleff("undo", restored, "--yes")
    assert not (top / "opt/garden").exists()


@pytest.mark.skipif(not IS_ROOT, reason="needs root: another tree")
def test_changed_at_the_last_moment_of_taking_away(kleff: Kleff, tmp_path: Path) -> None:
    """Between the look and the move: looked at again where nobody reaches it, and given back as it is."""
    top, case, _ = garden(kleff, tmp_path)
    kleff("restore", case, "--on", f"root:{top}", "--yes")
    changed, log = top / "opt/garden/bed 3", tmp_path / "log"
    event = Event("rename", 1, top / "opt", lambda: write(changed, "watered") and None)
    words = ["undo", str(kleff.case()), "--yes", "--quiet"]
    assert run_until(words, 0, False, log, prepare=event.arm)[0] == 4, log.read_text()
    assert "has changed since it was put there; left as it is" in " ".join(log.read_text().split())
    assert changed.read_text() == "watered"
    assert len(list((top / "opt/garden").iterdir())) == 5


@pytest.mark.skipif(not IS_ROOT, reason="needs root: another tree")
def test_changed_before_the_last_look(kleff: Kleff, tmp_path: Path) -> None:
    """What somebody writes into a file right after it was put in place is seen in the end, and told."""
    top, case, _ = garden(kleff, tmp_path)
    changed, log = top / "opt/garden/bed 3", tmp_path / "log"
    event = Event("fsync", 1, top / "opt", lambda: changed.write_text("weeds") and None)
    words = ["restore", str(case), "--on", f"root:{top}", "--yes", "--quiet", "--cases", str(kleff.cases)]
    assert run_until(words, 0, False, log, prepare=event.arm)[0] == 4, log.read_text()
    assert f"{changed.relative_to(top)} is not what was saved" in " ".join(log.read_text().split())


@pytest.mark.skipif(not IS_ROOT, reason="needs root: another tree")
def test_an_archive_exchanged_after_it_was_verified(kleff: Kleff, tmp_path: Path) -> None:
    """Of a bag that was carried here, on a volume that others may write: nothing of it is put in place."""
    top, case, _ = garden(kleff, tmp_path)
    bag = Path(shutil.copytree(case / "bag", tmp_path / "stick"))
    for number in range(5):
        write(top / f"opt/garden/bed {number}", os.urandom(9_000))
    file = procedure(tmp_path / "p.toml", GARDEN)
    kleff("run", file, "--on", f"root:{top}", "--yes")
    other, log = next((kleff.case() / "bag/data").glob("*.zst")), tmp_path / "log"
    event = Event("mkdir", 1, top, lambda: shutil.copy(other, next((bag / "data").glob("*.zst"))) and None)
    words = ["restore", str(bag), "--procedure", str(file), "--on", f"root:{top}", "--yes", "--quiet", "--cases", str(kleff.cases)]
    assert run_until(words, 0, False, log, prepare=event.arm)[0] != 0
    assert "has changed since it was verified: /opt/garden" in " ".join(log.read_text().split())
    assert not (top / "opt/garden").exists()


@pytest.mark.skipif(not IS_ROOT, reason="needs root: another tree")
def test_it_goes_on_with_the_same_bag_only(kleff: Kleff, tmp_path: Path) -> None:
    top, case, _ = garden(kleff, tmp_path)
    kept = Path(shutil.copytree(case / "bag", tmp_path / "kept"))
    log, words = tmp_path / "log", ["restore", str(case), "--on", f"root:{top}", "--yes", "--quiet", "--cases", str(kleff.cases)]
    writes = run_until(words, 0, False, log)[1]
    kleff("undo", kleff.case(), "--yes")
    assert run_until(words, writes // 2, False, log)[0] == KILLED
    half = max(kleff.cases.iterdir())
    index = next((case / "bag/data").glob("*.index.json"))
    index.write_text(json.dumps({**json.loads(index.read_text()), "line": 7}))
    inform(case / "bag", (case / "bag/bag-info.txt").read_text())
    before = opt(top)
    assert "another than the one that was agreed on" in kleff("resume", half, code=3).err
    assert differences(before, opt(top)) == []
    shutil.rmtree(case / "bag")
    shutil.copytree(kept, case / "bag")
    kleff("resume", half)
    assert len(list((top / "opt/garden").iterdir())) == 5


@pytest.mark.skipif(not IS_ROOT or not shutil.which("mount"), reason="needs root and mount: a volume that is too small")
def test_no_room_for_what_is_put_back(kleff: Kleff, tmp_path: Path) -> None:
    """Told before anything is begun; and where the room goes meanwhile, what was half unpacked goes again."""
    place = tmp_path / "tree/opt"
    place.mkdir(parents=True)
    top, case, was = garden(kleff, tmp_path, 20)
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=300k,mode=755", "tmpfs", place], check=True)
    try:
        filler, words = place / "filler", ["restore", str(case), "--on", f"root:{top}", "--yes"]
        filler.write_bytes(bytes(200_000))
        err = kleff(*words, code=3).err
        assert "175.8 KiB are to be put back" in err
        assert "make room; nothing was changed" in err
        filler.unlink()
        log = tmp_path / "log"
        event = Event("open", 25, place, lambda: filler.write_bytes(bytes(200_000)) and None)
        words += ["--quiet", "--cases", str(kleff.cases)]
        assert run_until(words, 0, False, log, prepare=event.arm)[0] == 1, log.read_text()
        said = " ".join(log.read_text().split())
        assert "cannot be put back: No space left on device" in said
        assert "make room" in said
        assert not (place / "garden").exists()
        assert set(opt(top)) == {"filler"}
        filler.unlink()
        kleff("resume", max(kleff.cases.iterdir()))
        assert differences(was, opt(top)) == []
    finally:
        subprocess.run(["umount", "-l", place], check=True)


def test_what_was_being_taken_in_when_it_was_cut_off_is_not_taken_in_again(
    kleff: Kleff, lab_master: Path, tag_studio: Path, tmp_path: Path
) -> None:
    """Killed at any journal write: every row is there once, since it is known whether the command was started and how it ended. Where
    that is not known, it is said.
    """
    lab, cases, log = clone(lab_master, tmp_path / "lab"), kleff.cases, tmp_path / "log"
    case = saved_and_reinstalled(kleff, lab, tag_studio)
    ready, kept = clone(lab, tmp_path / "ready"), Path(shutil.copytree(cases, tmp_path / "kept"))
    words = ["restore", str(case), "--only", "label database", "--on", f"lab:{lab}", "--yes", "--quiet", "--cases", str(cases)]
    ended, writes = 0, run_until(words, 0, False, log)[1]
    every = [(n, after) for n in range(1, writes + 1) for after in (True, False)]
    nearest = sorted(every, key=lambda p: abs(p[0] + p[1] - writes // 2 - 1))  # the command stands in the middle
    for number, after in every if EVERY else nearest[:6]:
        for folder, master in ((lab, ready), (cases, kept)):
            shutil.rmtree(folder)
            shutil.copytree(master, folder, symlinks=True)
        cases.chmod(0o700)
        assert run_until(words, number, after, log)[0] == KILLED
        made = max(cases.iterdir(), key=lambda p: p.name)
        if made == case or not (made / "case.db").exists():
            continue
        done = kleff("resume", made, code=None)
        rows = (lab / DATABASE).read_text().count("INSERT") if (lab / DATABASE).exists() else 0
        if done.code == 0:
            assert rows == 40, number
            ended += 1
        else:
            assert any(text in done.err for text in ("never begun", "before its plan", "the case is finished")), done.err
    assert ended >= 3


def test_nobody_knows_how_far_it_came(kleff: Kleff, lab: Path, tag_studio: Path, tmp_path: Path) -> None:
    """The supervisor was killed too, so that nobody saw the end: it is not run again, but left to the technician."""
    case = saved_and_reinstalled(kleff, lab, tag_studio)
    words = ["restore", str(case), "--only", "label database", "--on", f"lab:{lab}", "--yes", "--quiet", "--cases", str(kleff.cases)]
    writes = run_until(words, 0, False, tmp_path / "log")[1]
    kleff("undo", kleff.case(), "--yes", code=None)
    shutil.rmtree(kleff.case())
    record = None
    for number in sorted(range(1, writes + 1), key=lambda n: abs(n - writes // 2 - 1)):
        (lab / DATABASE).unlink(missing_ok=True)
        assert run_until(words, number, False, tmp_path / "log")[0] == KILLED
        record = next(iter(kleff.case().glob("output/*.run")), None)
        if record is None:
            kleff("undo", kleff.case(), "--yes", code=None)
            shutil.rmtree(kleff.case())
            continue
        record.write_text('{"program": 999999, "started": 1.0}')
        done = kleff("resume", kleff.case(), code=None)
        if "was being taken in when the last try was cut off" in done.err:
            break
        assert done.code in (0, 3), done.err
        shutil.rmtree(kleff.case())
    skipped = kleff("resume", kleff.case(), "--skip", "1", "--because", "looked at it", code=None)
    assert skipped.code in (0, 4), skipped.err


def test_a_command_that_failed_is_run_again(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    """One that ended badly says so; the next try runs it once more."""
    case = saved_and_reinstalled(kleff, lab, tag_studio)
    file = lab / "lab.toml"
    text = file.read_text()
    file.write_text(text.replace("keeps = ", 'secret = "marigold"\nkeeps = '))
    words = ("restore", case, "--only", "label database", "--on", f"lab:{lab}", "--yes")
    assert "wrong password" in kleff(*words, code=1).err
    assert not (lab / DATABASE).exists()
    file.write_text(text)
    kleff("resume", kleff.case())
    assert (lab / DATABASE).read_text().count("INSERT") == 40


def test_what_is_left_to_a_person_is_no_clean_end(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    """The program that would take it in is not installed: said, listed in the end, and exit code 4."""
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    case = kleff.case()
    min((lab / DESIGNS).iterdir()).unlink()
    words = ("restore", case, "--only", "label database", "--only", "designs", "--on", f"lab:{lab}", "--yes")
    done = kleff(*words, code=4)
    assert "tagdb.exe is not there; install the product first" in " ".join(done.out.split())
    assert any((lab / DESIGNS).iterdir())
    assert "not all of it is in place: 1 thing missing" in kleff("report", kleff.case()).out
    reinstall(lab)
    kleff(*words)
    assert (lab / DATABASE).read_text().count("INSERT") == 40


def test_a_name_that_a_program_could_take_for_an_option(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """Of a list that the product tells; it is left to a person, the others are saved."""
    (lab / DATABASE).write_text("INSERT INTO labels VALUES (1, '--output=C:\\x');\nINSERT INTO labels VALUES (2, 'Bed 2');\n")
    program = "'%ProgramFiles%\\Brindlewort\\Tag Studio 4\\bin\\tagdb.exe'"
    body = f"[[backup]]\nlabel = 'beds'\ncommand = [{program}, 'export', '{{item}}']\nlists = [{program}, 'list']\n"
    body += "saves_as = '{item}.sql'\n[[delete]]\npaths = ['C:\\Garden']\n"
    write(lab / "files/C/Garden/x")
    file = procedure(tmp_path / "p.toml", body)
    out = " ".join(kleff("preview", file, "--on", f"lab:{lab}").out.split())
    assert "the program could take its name for an option; export by hand" in out
    assert "to do Bed 2.sql runs: " in out
