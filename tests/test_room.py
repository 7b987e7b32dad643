"""A volume that is full is often the very reason to remove something: what the run itself needs is made first, or it is not begun."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from killing import KILLED, points, run_until
from support import IS_ROOT, Kleff, differences, linux_tree, procedure, tree, write

pytestmark = pytest.mark.skipif(not IS_ROOT or not shutil.which("mount"), reason="needs root and mount: a volume that is full")


@contextmanager
def volume(place: Path, options: str) -> Iterator[Path]:
    place.mkdir(parents=True, exist_ok=True)
    subprocess.run(["mount", "-t", "tmpfs", "-o", f"mode=755,{options}", "tmpfs", place], check=True)
    try:
        yield place
    finally:
        subprocess.run(["umount", "-l", place], check=True)


def fill(place: Path, what: str) -> None:
    """Until there is no room for one more file, or for one more byte."""
    try:
        for number in range(100_000):
            (place / f"{number:06d}").write_bytes(b"" if what == "names" else bytes(1 << 14))
    except OSError:
        return


GARDEN = "[[delete]]\npaths = ['/srv/garden/old', '/srv/garden/more']\n"


@pytest.mark.parametrize(("what", "options"), [("names", "size=8m,nr_inodes=64"), ("bytes", "size=1m")])
def test_where_nothing_more_fits(kleff: Kleff, tmp_path: Path, what: str, options: str) -> None:
    """Refused before anything is done, with what to free, and what a discard gives back; as soon as that is free it works."""
    top = linux_tree(tmp_path / "tree")
    file = procedure(tmp_path / "p.toml", GARDEN)
    words = ("run", file, "--on", f"root:{top}", "--yes")
    with volume(top / "srv/garden", options) as garden:
        write(garden / "old/seeds", bytes(300_000))
        kleff(*words)  # an earlier case, which holds something there
        write(garden / "old/seeds", bytes(200_000))
        write(garden / "more/beds", "x")
        shutil.rmtree(garden / ".kleff/none", ignore_errors=True)
        fill(garden, what)
        before, cases = tree(garden), sorted(kleff.cases.iterdir())
        said = kleff(*words, code=None)
        if said.code == 0:
            pytest.fail("it was not full")
        assert said.code == 3
        assert "the volume of /srv/garden has" in said.err
        assert "the run itself needs" in said.err
        assert "discarding this case later gives back 195.3 KiB there" in said.err
        assert f"kleff discard {cases[0]}  gives back 293.0 KiB there now" in said.err
        assert differences(before, tree(garden)) == []
        assert sorted(kleff.cases.iterdir()) == cases
        kleff("discard", cases[0], "--yes")
        kleff(*words)
        assert not (garden / "old").exists()


def test_the_case_has_room_of_its_own(kleff: Kleff, tmp_path: Path) -> None:
    """The volume of the case becomes full while the run is at work: what is journaled has its place."""
    top, log = linux_tree(tmp_path / "tree"), tmp_path / "log"
    for number in range(250):
        write(top / f"srv/hoe/{number}", "x")
    body = "".join(f"[[delete]]\npaths = ['/srv/hoe/{number}']\n" for number in range(250))
    file, before = procedure(tmp_path / "p.toml", body), tree(top / "srv")
    with volume(tmp_path / "small", "size=2m") as small:
        kleff.cases = small / "cases"
        words = ["run", str(file), "--on", f"root:{top}", "--yes", "--cases", str(kleff.cases)]
        assert run_until(words, 6, False, log)[0] == KILLED
        assert len(list((top / "srv/hoe").iterdir())) > 50
        fill(small, "bytes")
        done = run_until(["resume", str(kleff.case())], 0, False, log)[0]
        assert done == 0, log.read_text()
        assert list((top / "srv/hoe").iterdir()) == []
        assert not (kleff.case() / "reserve").exists()
        kleff("undo", kleff.case(), "--yes")
        assert differences(before, tree(top / "srv")) == []


def test_killed_while_room_is_made(tmp_path: Path) -> None:
    """Nothing of it stays."""
    top, log, cases = linux_tree(tmp_path / "tree"), tmp_path / "log", tmp_path / "cases"
    write(top / "srv/garden/old", "x")
    file = procedure(tmp_path / "p.toml", "[[delete]]\npaths = ['/srv/garden/old']\n")
    words = ["run", str(file), "--on", f"root:{top}", "--yes", "--quiet", "--cases", str(cases)]
    before = tree(top / "srv", skip=())
    writes = run_until(words, 0, False, log)[1]
    assert run_until(["undo", str(next(cases.iterdir())), "--yes"], 0, False, log)[0] == 0
    for number, after in points(writes, 100, 1):
        shutil.rmtree(cases)
        shutil.rmtree(top / "var/lib/kleff", ignore_errors=True)
        assert run_until(words, number, after, log)[0] == KILLED
        for case in cases.iterdir():
            code = run_until(["undo", str(case), "--yes", "--quiet"], 0, False, log)[0]
            assert code in (0, 3), log.read_text()[-2000:]
        assert differences(before, tree(top / "srv", skip=())) == [], (number, after)
        assert not (top / ".kleff").exists(), (number, after)


def test_an_area_that_was_not_needed_is_taken_away(tmp_path: Path) -> None:
    """What was to be set aside is gone before its turn comes: a person has deleted it while the case was open."""
    top, log, cases = linux_tree(tmp_path / "tree"), tmp_path / "log", tmp_path / "cases"
    file = procedure(tmp_path / "p.toml", "[[delete]]\npaths = ['/srv/garden/old']\n")
    words = ["run", str(file), "--on", f"root:{top}", "--yes", "--quiet", "--cases", str(cases)]
    made = 0
    for number in range(1, 12):
        write(top / "srv/garden/old/seeds", "x")
        shutil.rmtree(cases, ignore_errors=True)
        shutil.rmtree(top / "var/lib/kleff", ignore_errors=True)
        shutil.rmtree(top / ".kleff", ignore_errors=True)
        if run_until(words, number, False, log)[0] != KILLED:
            break
        made += (top / ".kleff").exists() and (top / "srv/garden/old").exists()
        shutil.rmtree(top / "srv/garden/old", ignore_errors=True)
        code = run_until(["resume", str(next(cases.iterdir()))], 0, False, log)[0]
        assert code in (0, 3), log.read_text()[-2000:]
        aside = [path for path in (top / ".kleff").rglob("*") if path.name == "seeds"] if (top / ".kleff").exists() else []
        assert code == 3 or aside or not (top / ".kleff").exists(), number
    assert made
