"""Journal, bag, set-aside area, lock: what must hold whatever happens."""

from __future__ import annotations

import os
import random
import shutil
import stat
import subprocess
import sys
import tempfile
from pathlib import Path

import pexpect
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from killing import run_until
from kleff.case.aside.area import Area
from kleff.case.aside.deleting import delete_tree
from kleff.case.bag.opened import open_bag
from kleff.case.record.folder import open_case
from kleff.cli.settings import Settings, read_settings
from kleff.errors import ActionFailed, DamagedCase, UsageError
from kleff.procedure.globs import POSIX
from kleff.progress import Silent
from kleff.report.case_facts import case_info
from kleff.workstation.posix.tree import PosixTree
from kleff.workstation.this_machine import host
from support import IS_ROOT, Kleff, differences, ended, hives, linux_tree, procedure, tree, write

names = st.sampled_from(["a", "b", "keep.me", "x y", "caf\udce9", "...", "-rf", "\u202ename"])
paths = st.lists(names, min_size=1, max_size=4).map(tuple)


@st.composite
def trees(draw: st.DrawFn) -> dict[tuple[str, ...], object]:
    """Paths of a tree with what stands there: content, a link, a hard link to another, or an empty folder."""
    kinds = st.one_of(st.binary(max_size=50), st.just("folder"), st.just("link"), st.just("hard"))
    return draw(st.dictionaries(paths, kinds, max_size=10))


def grow(top: Path, plan: dict[tuple[str, ...], object]) -> None:
    files: list[Path] = []
    for parts, what in plan.items():
        path = top.joinpath(*parts)
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            if what == "folder":
                path.mkdir(exist_ok=True, mode=0o750)
            elif what == "link":
                path.symlink_to("../../etc/passwd")
            elif what == "hard" and files:
                path.hardlink_to(files[0])
            elif isinstance(what, bytes):
                path.write_bytes(what)
                files.append(path)
                os.utime(path, ns=(10**18 + len(what), 10**18 + len(what) * 7))
        except OSError:
            continue


@given(trees(), st.booleans(), st.booleans())
@settings(max_examples=25, deadline=None)
def test_run_and_undo_are_identity(plan: dict[tuple[str, ...], object], keep: bool, pattern: bool) -> None:
    """Generated trees and procedures: what is named goes, what is kept and everything else stays, undo gives all back."""
    with tempfile.TemporaryDirectory() as folder:
        top = linux_tree(Path(folder) / "tree")
        grow(top / "opt/brindlewort", plan)
        steps = (
            "[[delete]]\npaths = ['/opt/brindlewort/a', '/opt/brindlewort/b/*']\n"
            if pattern
            else "[[delete]]\npaths = ['/opt/brindlewort']\n"
        )
        kept = "[keep]\npaths = ['/opt/brindlewort/**/keep.me']\n" if keep else ""
        file, log = procedure(Path(folder) / "p.toml", kept + steps), Path(folder) / "log"
        before = tree(top)
        words = ["run", str(file), "--on", f"root:{top}", "--yes", "--cases", f"{folder}/cases", "--quiet"]
        assert run_until(words, 0, False, log)[0] == 0, log.read_text(errors="replace")
        after = tree(top)
        base = "opt/brindlewort"
        named = [
            p
            for p in before
            if (p.startswith((f"{base}/a/", f"{base}/b/")) or p == f"{base}/a" if pattern else p == base or p.startswith(base + "/"))
        ]
        saved = {p for p in before if keep and "keep.me" in p.split("/")[2:]}
        stays = (
            saved | {os.path.dirname(p) for p in saved} | {"/".join(p.split("/")[:n]) for p in saved for n in range(1, p.count("/") + 1)}
        )
        assert {p for p in named if p in after and "lib/kleff" not in p} == set(named) & stays
        for path in saved & set(after):
            assert after[path][4] == before[path][4]
        cases = Path(folder) / "cases"
        if cases.exists():
            assert run_until(["undo", str(next(cases.iterdir())), "--yes", "--quiet"], 0, False, log)[0] == 0, log.read_text(
                errors="replace"
            )
        assert [d for d in differences(before, tree(top)) if "lib/kleff" not in d] == []
        assert not (top / ".kleff").exists()


def test_any_flipped_bit_in_a_bag_is_found(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    bag = kleff.case() / "bag"
    count = len(open_bag(bag).sums)
    assert count == len([p for p in (bag / "data").rglob("*") if p.is_file()])
    draw = random.Random(4)
    for file in sorted(p for p in bag.rglob("*") if p.is_file() and p.name != "tagmanifest-sha256.txt"):
        good = file.read_bytes()
        for _ in range(3):
            position = draw.randrange(len(good) * 8)
            bad = bytearray(good)
            bad[position // 8] ^= 1 << position % 8
            file.write_bytes(bad)
            with pytest.raises(DamagedCase):
                open_bag(bag)
        file.write_bytes(good)
    extra = write(bag / "data/extra.txt")
    with pytest.raises(DamagedCase, match="not listed"):
        open_bag(bag)
    extra.unlink()
    (bag / "data/004-licence.tar.zst").unlink()
    with pytest.raises(DamagedCase, match="missing"):
        open_bag(bag)


@pytest.mark.skipif(not IS_ROOT, reason="needs root: another tree")
def test_two_cases_of_one_name_do_not_meet(kleff: Kleff, tmp_path: Path) -> None:
    """Kept in different places, they may be called the same: each has a set-aside area of its own."""
    top = linux_tree(tmp_path / "tree")
    for name in ("one", "two"):
        write(top / f"opt/{name}/file", name)
    before = tree(top / "opt")
    cases = []
    for name in ("one", "two"):
        file = procedure(tmp_path / f"{name}.toml", f"[[delete]]\npaths = ['/opt/{name}']\n")
        kleff("run", file, "--on", f"root:{top}", "--yes", "--cases", tmp_path / name, cases=False)
        cases.append(next((tmp_path / name).iterdir()))
    assert cases[0].name == cases[1].name
    for case in reversed(cases):  # so that the folder above has its own time again
        kleff("undo", case, "--yes", cases=False)
    assert differences(before, tree(top / "opt")) == []
    assert not (top / ".kleff").exists()


def test_archives_open_with_other_tools(kleff: Kleff, lab: Path, tag_studio: Path, tmp_path: Path) -> None:
    import io
    import tarfile

    import zstandard

    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    raw = zstandard.ZstdDecompressor().stream_reader(io.BytesIO((kleff.case() / "bag/data/004-licence.tar.zst").read_bytes())).read()
    with tarfile.open(fileobj=io.BytesIO(raw)) as archive:
        member = archive.getmembers()[0]
        source = archive.extractfile(member)
        assert source is not None
        assert b"7F2A-PLUM-0049-FERN" in source.read()
        assert member.name == "program_data/Brindlewort/licence.bwl" or member.name.endswith("Brindlewort/licence.bwl")


def area(tmp_path: Path) -> tuple[PosixTree, Area]:
    files = PosixTree(POSIX, {"": tmp_path})
    return files, Area(files, "case-1")


def test_a_swap_in_the_last_instant_is_noticed_and_put_back(tmp_path: Path) -> None:
    """Between the look and the rename somebody puts another thing there: it is not taken."""
    write(tmp_path / "opt/product/x", "product")
    files, aside = area(tmp_path)
    target = files.path("/opt/product")
    assert target is not None
    moved = aside.plan(target, 1)
    aside.make({moved.aside.parent})
    (tmp_path / "opt/product").rename(tmp_path / "opt/old")
    write(tmp_path / "opt/product/precious", "mine")
    with pytest.raises(ActionFailed, match="has been replaced"):
        aside.move(moved)
    assert (tmp_path / "opt/product/precious").read_text() == "mine"
    assert list((tmp_path / ".kleff/case-1").iterdir()) == []


def test_the_case_itself_is_not_set_aside(kleff: Kleff, tmp_path: Path) -> None:
    top = linux_tree(tmp_path / "tree")
    write(top / "opt/brindlewort/x")
    kleff.cases = top / "opt/brindlewort/cases"
    file = procedure(tmp_path / "p.toml", "[[delete]]\npaths = ['/opt/brindlewort']")
    assert "holds this very case" in kleff("run", file, "--on", f"root:{top}", "--yes", code=1).err
    assert (top / "opt/brindlewort/x").exists()


def test_exact_paths_in_a_persons_own_folders(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """May be named without a wildcard, also when something inside is kept."""
    steps = "[keep]\npaths = ['{user.documents}\\**\\Sage*']\n[[delete]]\npaths = ['{user.documents}\\Tag Studio']\n"
    before = tree(lab / "files/C")
    write(lab / "files/C/Users/mira/Documents/Tag Studio/Sage, own.tagdesign")
    kleff("run", procedure(tmp_path / "p.toml", steps), "--on", f"lab:{lab}", "--yes")
    left = [p.name for p in (lab / "files/C/Users/mira/Documents/Tag Studio").iterdir()]
    assert all(n.startswith("Sage") for n in left)
    assert left
    kleff("undo", kleff.case(), "--yes")
    (lab / "files/C/Users/mira/Documents/Tag Studio/Sage, own.tagdesign").unlink()
    found = [d for d in differences(before, tree(lab / "files/C")) if "Users/mira/Documents/Tag Studio:" not in d]
    assert found == []


def test_what_is_set_aside_can_be_reached_by_nobody_else(kleff: Kleff, tmp_path: Path) -> None:
    top = linux_tree(tmp_path / "tree")
    write(top / "opt/brindlewort/licence", mode=0o644)
    kleff("run", procedure(tmp_path / "p.toml", "[[delete]]\npaths = ['/opt/brindlewort']"), "--on", f"root:{top}", "--yes")
    for path in (top / ".kleff", *(top / ".kleff").iterdir(), kleff.case()):
        assert stat.S_IMODE(path.stat().st_mode) == 0o700


@pytest.mark.skipif(not IS_ROOT, reason="needs root: another owner")
def test_an_area_that_somebody_else_has_put_there_is_not_used(kleff: Kleff, tmp_path: Path) -> None:
    top = linux_tree(tmp_path / "tree")
    write(top / "opt/brindlewort/x")
    (top / ".kleff").mkdir(mode=0o777)
    os.chown(top / ".kleff", 1001, 1001)
    kleff("run", procedure(tmp_path / "p.toml", "[[delete]]\npaths = ['/opt/brindlewort']"), "--on", f"root:{top}", "--yes", code=0)
    assert list((top / ".kleff").iterdir()) == []
    assert (top / "opt/.kleff").stat().st_uid == 0


@pytest.mark.skipif(not IS_ROOT, reason="needs root: mounts")
def test_discard_never_crosses_a_mount(tmp_path: Path) -> None:
    inside = write(tmp_path / "aside/product/inside/x").parent
    other = write(tmp_path / "other/precious").parent
    subprocess.run(["mount", "--bind", other, inside], check=True)
    try:
        with host().folder(tmp_path / "aside") as folder, pytest.raises(ActionFailed, match="mount point"):
            delete_tree(folder, "product", Silent())
        assert (other / "precious").exists()
    finally:
        subprocess.run(["umount", inside], check=True)


def test_discard_removes_links_as_links(tmp_path: Path) -> None:
    other = write(tmp_path / "other/precious").parent
    (tmp_path / "aside/product").mkdir(parents=True)
    (tmp_path / "aside/product/link").symlink_to(other)
    with host().folder(tmp_path / "aside") as folder:
        delete_tree(folder, "product", Silent())
    assert (other / "precious").exists()
    assert list((tmp_path / "aside").iterdir()) == []


@pytest.mark.skipif(not IS_ROOT, reason="needs root: a tiny tmpfs for the case")
@pytest.mark.parametrize("kib", range(64, 1500, 96))
def test_nothing_is_removed_when_the_disk_is_full(kleff: Kleff, tmp_path: Path, kib: int) -> None:
    """At every 64 KiB on the way: before the bag is whole nothing is removed, and what was begun can be taken back."""
    top = linux_tree(tmp_path / "tree")
    write(top / "opt/brindlewort/big", os.urandom(700_000))
    small = tmp_path / "small"
    small.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={kib}k,mode=700", "tmpfs", small], check=True)
    try:
        kleff.cases = small / "cases"
        steps = "[[backup]]\nlabel='all'\npaths = ['/opt/brindlewort']\n[[delete]]\npaths = ['/opt/brindlewort']\n"
        before = tree(top / "opt")
        done = kleff("run", procedure(tmp_path / "p.toml", steps), "--on", f"root:{top}", "--yes", "--waive", "space", code=None)
        if done.code == 0:
            assert kib > 700
        else:
            assert done.code in (1, 3), done.err
            assert any(text in done.err for text in ("No space left", "disk is full", "disk I/O error", "the run itself needs")), done.err
            assert "What to do" in done.err
            assert kib < 1480
            assert differences(before, tree(top / "opt")) == []
        if done.code == 1:
            assert "Saved in the bag (not complete: nothing may be removed on its strength)" in kleff("report", kleff.case()).out
            kleff("undo", kleff.case(), "--yes", code=None)
            assert differences(before, tree(top / "opt")) == []
    finally:
        subprocess.run(["umount", "-l", small], check=True)


def test_one_at_a_time(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    """A second Kleff is told who works; the lock of one that is gone is no lock."""
    holder = subprocess.Popen(
        [sys.executable, "-c", f"""
import sys, time
from kleff.case.record.unfinished import lock
from kleff.workstation.open import open_workstation
with lock(open_workstation("lab:{lab}"), "running a test"):
    print("held", flush=True)
    time.sleep(60)
"""], stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert holder.stdout is not None
    assert holder.stdout.readline() == "held\n"
    said = kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes", code=3).err
    assert f"in use by process {holder.pid}" in said
    assert not kleff.cases.exists()
    holder.kill()
    holder.wait()
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")


def test_asked_once_on_a_terminal(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    words = ["run", str(tag_studio), "--on", f"lab:{lab}", "--cases", str(kleff.cases), "--answer", "coming-back=no"]
    child = pexpect.spawn(str(kleff.program), words, encoding="utf-8", timeout=60, dimensions=(50, 160))
    child.expect(r"Do this on POTTING-02 \(lab:.*\[y/N\] ")
    child.sendline("n")
    child.expect("not confirmed")
    assert ended(child) == 3
    assert not kleff.cases.exists()
    child = pexpect.spawn(str(kleff.program), words, encoding="utf-8", timeout=60, dimensions=(50, 160))
    child.expect(r"\[y/N\] ")
    assert "\x1b[" in child.before, "a terminal gets colour"
    child.sendline("y")
    child.expect("is gone")
    assert ended(child) == 0


def test_a_copied_case_is_still_the_case(kleff: Kleff, lab: Path, tag_studio: Path, tmp_path: Path) -> None:
    before = tree(lab / "files"), hives(lab)
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    copy = tmp_path / "archive/moved-case"
    copy.parent.mkdir(mode=0o700)
    shutil.move(kleff.case(), copy)
    assert "Brindlewort Tag Studio" in kleff("report", copy).out
    kleff("undo", copy, "--yes")
    assert differences(before[0], tree(lab / "files")) == []
    assert hives(lab) == before[1]


def test_an_edited_export_is_not_put_back(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    file = procedure(tmp_path / "p.toml", "[[delete]]\nkey = 'HKLM\\Software\\Brindlewort\\Stocktake'\nview = 64\n")
    kleff("run", file, "--on", f"lab:{lab}", "--yes")
    export = next((kleff.case() / "undo").glob("*.json"))
    export.write_text(export.read_text().replace("Shelf 01", "Shelf 99"))
    assert "has changed since it was written" in kleff("undo", kleff.case(), "--yes", code=4).out


def finished_case(kleff: Kleff, tmp_path: Path, kind: str) -> Path:
    top = linux_tree(tmp_path / "tree")
    write(top / "opt/brindlewort/licence.bwl", "the only one")
    steps = f"[[backup]]\nlabel = 'licence'\nkind = '{kind}'\npaths = ['/opt/brindlewort']\n[[delete]]\npaths = ['/opt/brindlewort']\n"
    kleff("run", procedure(tmp_path / "p.toml", steps), "--on", f"root:{top}", "--yes")
    return kleff.case()


@pytest.mark.skipif(not IS_ROOT, reason="needs root: a tree that is not a lab")
def test_a_bag_has_a_question_of_its_own(kleff: Kleff, tmp_path: Path) -> None:
    """`--yes` deletes nothing of a case with a bag that may hold a licence; that is asked on a terminal."""
    case = finished_case(kleff, tmp_path, "licence")
    done = kleff("discard", case, "--bag", "--yes", code=3)
    assert done.out == ""  # nothing at all is deleted
    assert "--yes is not enough for this" in done.err
    assert (case / "bag/manifest-sha256.txt").exists()
    assert kleff("cases", "--json").json()["cases"][0]["aside_items"] == 2
    child = pexpect.spawn(str(kleff.program), ["discard", str(case), "--bag"], encoding="utf-8", env={**os.environ, "COLUMNS": "200"})
    child.expect("Delete the saved data for good\\? It may hold the only licence")
    child.sendline("n")
    assert (ended(child), (case / "bag").exists()) == (3, True)
    child = pexpect.spawn(str(kleff.program), ["discard", str(case), "--bag"], encoding="utf-8")
    child.expect("for good\\?")
    child.sendline("y")
    child.expect("Delete this for good\\?")
    child.sendline("y")
    child.expect("The saved data is deleted too")
    assert ended(child) == 0
    assert sorted(p.name for p in case.iterdir()) == ["case.db", "output"]
    assert "Saved in the bag (deleted since)" in kleff("report", case).out
    assert kleff("cases", "--json").json()["cases"][0]["holds"] == []
    kleff("discard", case, "--bag", "--yes")


@pytest.mark.skipif(not IS_ROOT, reason="needs root: a tree that is not a lab")
def test_what_cases_hold_and_when_it_may_go(kleff: Kleff, tmp_path: Path) -> None:
    case = finished_case(kleff, tmp_path, "settings")
    listed = kleff("cases")
    assert "(licence), set aside 12 B in 2 items" in listed.out
    assert len(kleff("cases", "--older-than", "0s", "--json").json()["cases"]) == 1
    assert kleff("cases", "--older-than", "90d", "--json").json()["cases"] == []
    assert "is not a duration such as" in kleff("cases", "--older-than", "soon", code=2).err
    with open_case(case) as opened:
        assert [case_info(opened, limit).due for limit in (None, 0.0, 14 * 86400.0)] == [False, True, False]
    file = write(tmp_path / "settings.toml", 'discard_after = "14d"\n')
    assert read_settings(file).discard_after_seconds == 14 * 86400
    assert read_settings(tmp_path / "none.toml") == Settings()
    for bad in ('discard_after = "later"', "discard = 3", "discard_after = 14", "]["):
        with pytest.raises(UsageError, match="the settings cannot be used"):
            read_settings(write(file, bad))
    kleff("discard", case, "--bag", "--yes")  # settings alone: what is asked apart is answered by --yes
    assert not (case / "bag").exists()


def test_a_case_is_named_without_its_day(kleff: Kleff, tmp_path: Path) -> None:
    """Where only one is called so; where two days have one, nothing is done and both are named."""
    top = linux_tree(tmp_path / "tree")
    write(top / "opt/hoe/x")
    file = procedure(tmp_path / "p.toml", "[[delete]]\npaths = ['/opt/hoe']\n")
    kleff("run", file, "--on", f"root:{top}", "--yes")
    (case,) = kleff.cases.iterdir()
    kleff("report", "sample-1")
    kleff("undo", "sample-1", "--yes")
    assert (top / "opt/hoe/x").exists()
    shutil.copytree(case, kleff.cases / "2001-02-03-sample-1")
    said = kleff("report", "sample-1", code=None)
    assert said.code == 3
    assert "2001-02-03-sample-1" in said.err
    assert case.name in said.err
    assert kleff("report", "ample-1", code=None).code == 3
