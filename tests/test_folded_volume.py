"""A volume on which `Seed.TXT` and `seed.txt` are one file, mounted for real (ntfs-3g): look-ups, globs, guard, setting aside."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from kleff.case.guard.guard import Guard
from kleff.case.guard.kept import Kept
from kleff.engine.job import Job
from kleff.errors import KleffError
from kleff.workstation.lab.workstation import open_lab
from support import IS_ROOT, procedure, tree, write

MOUNT = shutil.which("lowntfs-3g")
pytestmark = pytest.mark.skipif(
    not (IS_ROOT and MOUNT and shutil.which("mkfs.ntfs") and os.path.exists("/dev/fuse")),
    reason="needs root, /dev/fuse and lowntfs-3g (package ntfs-3g)",
)


@pytest.fixture
def folded(lab: Path, tmp_path: Path) -> Iterator[Path]:
    """A lab whose drive D: is such a volume, with part of a product on it."""
    image, volume = tmp_path / "volume.img", lab / "files/D"
    with image.open("wb") as file:
        file.truncate(32 << 20)
    subprocess.run(["mkfs.ntfs", "-F", "-q", image], check=True, capture_output=True)
    volume.mkdir(exist_ok=True)
    subprocess.run([str(MOUNT), "-o", "ignore_case,streams_interface=xattr,umask=0077", image, volume], check=True, capture_output=True)
    try:
        for name in ("Seed.TXT", "Row.dat", "deep/Er/Leaf.bin"):
            write(volume / "Hoe" / name, name)
        write(volume / "Other/Keep.txt", "neighbour")
        yield lab
    finally:
        subprocess.run(["umount", volume], check=True)


def test_names_are_found_however_they_are_spelled(folded: Path) -> None:
    workstation = open_lab(folded)
    files = workstation.files
    spelled = [files.path(text) for text in (r"D:\HOE\SEED.txt", r"d:\hoe\seed.TXT", r"D:\Hoe\Seed.TXT")]
    looks = {files.look(path).identity for path in spelled if path and files.look(path)}
    assert len(looks) == 1
    assert len({path.key for path in spelled if path}) == 1
    assert {files.read(path) for path in spelled if path} == {b"Seed.TXT"}
    split = files.style.split(r"D:\hoe\**\*.BIN")
    assert split
    assert [path.key[1] for path in files.expand(*split)] == [("HOE", "DEEP", "ER", "LEAF.BIN")]
    missing = files.path(r"D:\Hoe\none")
    assert missing
    assert files.look(missing) is None


def test_nothing_is_made_over_another_spelling(folded: Path) -> None:
    """Also not where Kleff itself would see two names."""
    files = open_lab(folded).files
    path = files.path(r"D:\Hoe")
    assert path
    with files.folder(path) as folder:
        with pytest.raises(FileExistsError):
            folder.make_folder("DEEP")
        with pytest.raises(FileExistsError):
            folder.make_link("ROW.DAT", "elsewhere")
    assert files.read(path.child("row.dat")) == b"Row.dat"


def test_the_guard_and_what_is_kept(folded: Path, tmp_path: Path) -> None:
    workstation = open_lab(folded)
    other = workstation.files.path(r"D:\OTHER")
    assert other
    guard = Guard(workstation, Kept(places=[(other, "a neighbour's")]))
    steps = "[[delete]]\npaths = ['D:\\oThEr\\keep.TXT']\n[keep]\npaths = ['D:\\Other\\Keep.txt']\n[[evidence]]\npath = 'D:\\HOE'\n"
    job = Job.open(procedure(tmp_path / "p.toml", steps), on=f"lab:{folded}")
    assert job.survey().present
    assert [a.state for a in job.preview().plan.actions] == ["kept"]
    assert guard.kept.places


def test_setting_aside_is_refused_without_the_rename_that_never_replaces(folded: Path, tmp_path: Path) -> None:
    """Nothing is changed; the message says why."""
    steps = "[[backup]]\nlabel = 'seeds'\npaths = ['D:\\hoe\\*.txt']\n[[delete]]\npaths = ['D:\\hoe']\n"
    job = Job.open(procedure(tmp_path / "p.toml", steps), on=f"lab:{folded}")
    before = tree(folded / "files/D")
    with pytest.raises(KleffError) as refused:
        job.run(job.preview(), tmp_path / "cases")
    assert "has no rename that never replaces" in str(refused.value)
    (case,) = Job.cases(tmp_path / "cases")
    assert list((case / "bag").rglob("*seed*")) or any((case / "bag").iterdir())  # saving goes on reading, and works
    Job.of_case(case).undo()
    after = tree(folded / "files/D")
    assert {path: state[4] for path, state in after.items()} == {path: state[4] for path, state in before.items()}


def test_the_fixture_is_such_a_volume(folded: Path) -> None:
    assert (folded / "files/D/hOE/sEED.txt").read_text() == "Seed.TXT"
    with pytest.raises(FileExistsError):
        os.open(folded / "files/D/Hoe/SEED.TXT", os.O_CREAT | os.O_EXCL)
