"""Rescue: people's own documents inside places that will be deleted; and places that a sync program watches."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

import pytest

from killing import KILLED, points, run_until
from kleff.registry.values import text_value
from kleff.workstation.lab.workstation import open_lab
from support import IS_ROOT, Kleff, clone, differences, linux_tree, procedure, tree, write

STUDIO = "files/C/Users/mira/AppData/Local/Brindlewort/Tag Studio"


def rescued(folder: Path) -> Path:
    found = [p for p in folder.iterdir() if p.name.startswith("Rescued from")]
    assert len(found) == 1, found
    return found[0]


def test_documents_are_found_and_copied_to_the_desktop(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    """With collisions numbered, times kept, and an index; a shortcut is only listed. Undo takes the folder away again."""
    write(lab / "files/C/Program Files/Brindlewort/Tag Studio 4/manual.pdf", "came with it")
    os.utime(lab / "files/C/Program Files/Brindlewort/Tag Studio 4/manual.pdf", (10**9, 10**9))
    own = sorted((lab / STUDIO / "exports").rglob("*.p*"))
    before = tree(lab / "files/C")
    wanted = {p.read_bytes(): p.stat().st_mtime_ns for p in own}
    shown = kleff("preview", tag_studio, "--on", f"lab:{lab}").out
    assert shown.index("RESCUED FIRST: 3 files of mira") < shown.index("Before anything is done")
    assert "manual.pdf" not in shown
    assert r"only listed: C:\Users\mira\AppData\Local\Brindlewort\Tag Studio\exports\Price list.lnk, a shortcut" in shown
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    folder = rescued(lab / "files/C/Users/mira/Desktop")
    assert sorted(p.name for p in folder.iterdir()) == [
        "Herb tags (2).pdf", "Herb tags.pdf", "Stand at the fair.png", "Where these files came from.txt",
    ]  # fmt: skip
    assert {p.read_bytes(): p.stat().st_mtime_ns for p in folder.glob("*.p*")} == wanted
    index = (folder / "Where these files came from.txt").read_text()
    assert "exports\\April\\Herb tags.pdf" in index
    assert "Price list.lnk" in index
    assert "rescued" in kleff("report", kleff.case()).out.lower()
    kleff("undo", kleff.case(), "--yes")
    assert differences(before, tree(lab / "files/C")) == []


def test_what_is_changed_since_stays(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    folder = rescued(lab / "files/C/Users/mira/Desktop")
    write(folder / "Stand at the fair.png", "painted over")
    out = kleff("undo", kleff.case(), "--yes", code=4).out
    assert "has changed since it was put there; left as it is" in " ".join(out.split())
    assert (folder / "Stand at the fair.png").read_text() == "painted over"


@pytest.mark.skipif(not IS_ROOT, reason="needs root: owners")
def test_by_who_made_them(kleff: Kleff, tmp_path: Path) -> None:
    """In a shared place by the owner; what is another's, or has no content here, is only listed and never read."""
    top = linux_tree(tmp_path / "tree")
    place = top / "opt/studio"
    write(place / "share/help.pdf", "came with it")
    theirs = write(place / "out/Order 7.pdf", "tomas made this")
    os.chown(theirs, 1002, 1002)
    secret = write(top / "home/tomas/private.pdf", "tomas's own", mode=0o600)
    os.chown(secret, 1002, 1002)
    os.chmod(secret.parent, 0o700)
    (top / "home/mira/.cache").mkdir()
    (top / "home/mira/.cache/studio").mkdir()
    os.link(secret, top / "home/mira/.cache/studio/mine.pdf")
    roots = write(top / "home/mira/.cache/studio/backup of the keys.pdf", "the administrator's", mode=0o600)
    with (top / "home/mira/.cache/studio/cloud.jpg").open("wb") as file:
        file.truncate(1 << 20)
    write(top / "home/mira/.cache/studio/a.csv", "mine")
    write(top / "home/mira/.cache/studio/notes.bed", "mine")
    for path in (top / "home/mira/.cache").rglob("*"):
        if path != roots and (path.stat().st_nlink == 1 or path.is_dir()):
            os.chown(path, 1001, 1001)
    os.chown(top / "home/mira/.cache", 1001, 1001)
    (top / "home/mira/Desktop").mkdir()
    os.chown(top / "home/mira/Desktop", 1001, 1001)
    body = "[[delete]]\npaths = ['/opt/studio', '{user.home}/.cache/studio']\n"
    file = procedure(tmp_path / "p.toml", body)
    file.write_text(file.read_text().replace('name = "Sample"', 'name = "Sample"\ndocuments = ["*.bed"]'))
    shown = kleff("preview", file, "--on", f"root:{top}").out
    assert "only listed: /home/mira/.cache/studio/backup of the keys.pdf, belongs to another account" in shown
    kleff("run", file, "--on", f"root:{top}", "--yes")
    mine = rescued(top / "home/mira/Desktop")
    assert sorted(p.name for p in mine.iterdir()) == ["Where these files came from.txt", "a.csv", "notes.bed"]
    text = (mine / "Where these files came from.txt").read_text()
    assert "mine.pdf\n    belongs to another account" in text
    assert "backup of the keys.pdf\n    belongs to another account" in text
    assert "cloud.jpg\n    a placeholder" in text
    tomas = rescued(top / "home/tomas")
    assert sorted(p.name for p in tomas.iterdir()) == ["Order 7.pdf", "Where these files came from.txt"]
    assert {(p.stat().st_uid, p.stat().st_gid) for p in (tomas, *tomas.iterdir())} == {(1002, 1002)}


def test_a_step_that_says_rescue(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    body = "[[backup]]\nlabel = 'settings'\nrescue = true\npaths = ['{user.roaming}\\Brindlewort\\Tag Studio']\nonly = ['*.ini']\n"
    file = procedure(tmp_path / "p.toml", body + "[[delete]]\npaths = ['{user.roaming}\\Brindlewort\\Tag Studio']\n")
    kleff("run", file, "--on", f"lab:{lab}", "--yes")
    for name in ("mira", "tomas", "till"):
        assert (rescued(lab / f"files/C/Users/{name}/Desktop") / "settings.ini").exists()


def test_killed_while_rescuing(lab_master: Path, tag_studio: Path, tmp_path: Path) -> None:
    """Nothing is lost: there is one whole folder in the end, and no half one."""
    lab, log = clone(lab_master, tmp_path / "lab"), tmp_path / "log"
    original = clone(lab, tmp_path / "original")
    body = "[[delete]]\npaths = ['{user.local}\\Brindlewort\\Tag Studio']\n"
    file = procedure(tmp_path / "p.toml", body)
    words = ["run", str(file), "--on", f"lab:{lab}", "--yes", "--quiet", "--cases", str(tmp_path / "cases")]
    code, writes = run_until(words, 0, False, log)
    assert code == 0, log.read_text()
    for number, after in points(writes, seed=3, wanted=2):
        shutil.rmtree(lab)
        shutil.rmtree(tmp_path / "cases")
        clone(original, lab)
        assert run_until(words, number, after, log)[0] == KILLED
        case = next((tmp_path / "cases").iterdir())
        log.write_text("")
        code, _ = run_until(["resume", str(case), "--quiet"], 0, False, log)
        if code == 0:
            assert len(list(rescued(lab / "files/C/Users/mira/Desktop").iterdir())) == 4, (number, after)
        else:
            assert any(t in log.read_text() for t in ("never begun", "before its plan", "nothing to resume")), log.read_text()


def test_what_a_sync_program_watches(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """Said, and only done if that is agreed."""
    write(lab / "files/C/Users/mira/Greenhouse Cloud/Tag Studio/plan.txt")
    registry = open_lab(lab).registry
    assert registry is not None
    path = r"SOFTWARE\Microsoft\Windows\CurrentVersion\Explorer\SyncRootManager\Greenhouse!S-1-5!mira"
    registry.api.create("HKLM", path + r"\UserSyncRoots")
    registry.api.set("HKLM", path, text_value("DisplayNameResource", "Greenhouse Cloud"))
    registry.api.set("HKLM", path + r"\UserSyncRoots", text_value("S-1-5", r"C:\Users\mira\Greenhouse Cloud"))
    registry.api.flush()
    file = procedure(tmp_path / "p.toml", "[[delete]]\npaths = ['{user.home}\\Greenhouse Cloud\\Tag Studio']\n")
    assert "Greenhouse Cloud keeps this in step" in kleff("preview", file, "--on", f"lab:{lab}").out
    assert "pause that first, or  --waive synced" in kleff("run", file, "--on", f"lab:{lab}", "--yes", code=3).err
    assert (lab / "files/C/Users/mira/Greenhouse Cloud/Tag Studio").exists()
    kleff("run", file, "--on", f"lab:{lab}", "--yes", "--waive", "synced")
    assert not (lab / "files/C/Users/mira/Greenhouse Cloud/Tag Studio").exists()
