"""A bag that is locked with a passphrase: nothing of it is readable without, everything with it."""

from __future__ import annotations

import io
import random
import re
import shutil
import tarfile
from pathlib import Path

import pytest
import zstandard

from killing import KILLED, points, run_until
from kleff.case.bag.encryption import PASSPHRASE, make_key, open_key, work_of
from kleff.case.bag.manifests import comparing
from kleff.case.bag.opened import open_bag
from kleff.errors import DamagedCase, Refused
from kleff.workstation.lab.replacement import reinstall
from support import Kleff, clone, differences, tree

pyrage = pytest.importorskip("pyrage", reason="needs the extra secure")
WORDS = "three beds of sage, é"
GIVEN = {"KLEFF_SECRET_PASSPHRASE_OF_THE_BAG": WORDS}
PLAIN = (b"7F2A-PLUM", b"INSERT INTO", "Changed".encode("utf-16-le"), b"width=", b"licence.bwl", WORDS.encode())


def test_nothing_is_readable_without_the_passphrase_and_all_with_it(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    on = ("--on", f"lab:{lab}", "--yes")
    assert f"the secret is not given: {PASSPHRASE}" in kleff("run", tag_studio, *on, "--passphrase", code=3).err
    assert not kleff.cases.exists()
    kleff("run", tag_studio, *on, "--passphrase", env=GIVEN)
    case = kleff.case()
    for folder in ("bag", "output"):
        for file in (p for p in (case / folder).rglob("*") if p.is_file()):
            data = file.read_bytes()
            assert not [text for text in PLAIN if text in data], file
    assert WORDS.encode() not in (case / "case.db").read_bytes()
    with comparing(case / "bag"):
        pass
    # As docs/bag.md says: the key with the passphrase, everything else with the key.
    identity = pyrage.x25519.Identity.from_str(pyrage.passphrase.decrypt((case / "bag/key.age").read_bytes(), WORDS).decode())
    archive = pyrage.decrypt((case / "bag/data/004-licence.tar.zst.age").read_bytes(), [identity])
    raw = zstandard.ZstdDecompressor().stream_reader(io.BytesIO(archive)).read()
    with tarfile.open(fileobj=io.BytesIO(raw)) as opened:
        member = opened.extractfile(opened.getmembers()[0])
        assert member is not None
        assert b"7F2A-PLUM" in member.read()
    assert pyrage.decrypt(next((case / "bag/data").rglob("labels.sql.age")).read_bytes(), [identity]).count(b"INSERT") == 40

    kleff("discard", case, "--yes")
    assert list((case / "undo").rglob("*.reg")) == []
    for file in (p for p in (*case.rglob("*"), *(lab / "files/C/.kleff").rglob("*")) if p.is_file()):
        assert not [text for text in PLAIN[:3] if text in file.read_bytes()], file  # names are in the journal, contents are not
    reinstall(lab)
    before = tree(lab / "files/C")
    assert "the secret is not given" in kleff("restore", case, *on, code=3).err
    wrong = kleff("restore", case, *on, code=3, env={"KLEFF_SECRET_PASSPHRASE_OF_THE_BAG": "two beds"}).err
    assert "the passphrase does not open the bag" in wrong
    assert differences(before, tree(lab / "files/C")) == []
    kleff("restore", case, *on, env=GIVEN)
    assert b"7F2A-PLUM" in (lab / "files/C/ProgramData/Brindlewort/licence.bwl").read_bytes()
    assert (lab / "files/C/ProgramData/Brindlewort/Tag Studio/labels.db").read_text().count("INSERT") == 40
    restored = kleff.case()
    assert not [p for p in restored.rglob("*") if p.is_fifo()]
    assert WORDS.encode() not in b"".join(p.read_bytes() for p in restored.rglob("*") if p.is_file())


def test_a_key_that_asks_for_too_much_work_is_not_called_a_wrong_passphrase(tmp_path: Path) -> None:
    """A busy workstation may measure that it can do less than what the key was made with."""
    file, made = tmp_path / "key.age", make_key(WORDS).file
    file.write_bytes(re.sub(rb"(-> scrypt \S+) \d+", rb"\1 40", made))
    assert (work_of(file.read_bytes()), work_of(b"no key")) == (40, 0)
    assert 10 <= work_of(made) < 40
    with pytest.raises(Refused, match="more work than this workstation can do now") as refused:
        open_key(file, WORDS)
    assert "try again" in refused.value.remedy


def test_what_undo_may_still_need_is_not_discarded(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    """A case that was taken back can be asked once more for what could not be; its exports stay."""
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes", "--passphrase", env=GIVEN)
    case = kleff.case()
    exports = sorted((case / "undo").rglob("*.reg"))
    assert exports
    kleff("undo", case, "--yes")
    kleff("discard", case, "--yes")
    assert sorted((case / "undo").rglob("*.reg")) == exports


def test_killed_while_saving(lab_master: Path, tag_studio: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Resumed with the passphrase, with no plain text left behind; any flipped bit is found."""
    monkeypatch.setenv("KLEFF_SECRET_PASSPHRASE_OF_THE_BAG", WORDS)
    lab, cases, log = clone(lab_master, tmp_path / "lab"), tmp_path / "cases", tmp_path / "log"
    words = ["run", str(tag_studio), "--on", f"lab:{lab}", "--yes", "--quiet", "--passphrase", "--cases", str(cases)]
    for number, after in points(30, seed=2, wanted=2)[1:-1]:
        shutil.rmtree(lab)
        shutil.rmtree(cases, ignore_errors=True)
        clone(lab_master, lab)
        assert run_until(words, number, after, log)[0] == KILLED
        case = next(cases.iterdir())
        log.write_text("")
        code, _ = run_until(["resume", str(case), "--quiet"], 0, False, log)
        if "never begun" in log.read_text() or "before its plan" in log.read_text():
            continue
        assert code == 0, log.read_text()
        for file in (p for f in ("bag", "output") for p in (case / f).rglob("*") if p.is_file()):
            assert not [text for text in PLAIN if text in file.read_bytes()], file
    bag = next(cases.iterdir()) / "bag"
    key, draw = open_key(bag / "key.age", WORDS), random.Random(1)
    for file in sorted((bag / "data").glob("*.age"))[:6]:
        good = file.read_bytes()
        bad = bytearray(good)
        bad[draw.randrange(len(good))] ^= 1 << draw.randrange(8)
        file.write_bytes(bad)
        with pytest.raises(DamagedCase):
            open_bag(bag, unlock=lambda _: key)
        file.write_bytes(good)
    assert open_bag(bag, unlock=lambda _: key).items
