"""What the guard refuses and keeps, seen at the command line: each with its reason, exit 3, and nothing touched.

Which places those are is asked of the engine itself, in `test_engine.py`.
"""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

import pytest

from support import IS_ROOT, Kleff, differences, linux_tree, procedure, tree, write


def refused(kleff: Kleff, on: str, top: Path, path: str) -> str:
    """Run a one-step procedure that must be refused; returns what was said."""
    file = procedure(kleff.folder / "p.toml", f"[[delete]]\npaths = ['{path}']")
    before = tree(top, skip=())
    done = kleff("run", file, "--on", on, "--yes", code=3)
    assert not kleff.cases.exists()
    changed = [d for d in differences(before, tree(top, skip=())) if "changed: state/lock" not in d]
    assert changed == []
    assert kleff("preview", file, "--on", on, code=3).out.count("REFUSED") >= 1
    assert "nothing was changed" in done.err
    return done.err


@pytest.mark.parametrize(
    ("path", "why"),
    [
        ("C:\\", "root of a volume"),
        (r"C:\Users", "holds the home folder"),
        (r"{user.documents}\**", "without a wildcard"),
        (r"C:\Windows\System32\drivers\bu*.sys", "at least three letters"),
    ],
)
def test_places_of_a_windows_workstation(kleff: Kleff, lab: Path, path: str, why: str) -> None:
    assert why in refused(kleff, f"lab:{lab}", lab, path)


@pytest.mark.parametrize(
    ("key", "why"),
    [
        (r"HKLM\Software\Microsoft", "system's own"),
        (r"HKLM\Software\Microsoft\Windows\CurrentVersion\Run", "system's own"),
    ],
)
def test_keys_of_the_system(kleff: Kleff, lab: Path, key: str, why: str) -> None:
    before = tree(lab / "registry")
    done = kleff("run", procedure(kleff.folder / "p.toml", f"[[delete]]\nkey = {key!r}"), "--on", f"lab:{lab}", "--yes", code=3)
    assert why in done.err
    assert differences(before, tree(lab / "registry")) == []


@pytest.mark.parametrize(
    ("path", "why"),
    [
        ("/", "root of a volume"),
        ("/bin", "system's own"),
        ("/usr/bin/ta*", "four letters"),
        ("/usr/share/app/**/deep", None),
    ],
)
def test_places_of_a_linux_workstation(kleff: Kleff, tmp_path: Path, path: str, why: str | None) -> None:
    top = linux_tree(tmp_path / "tree")
    write(top / "opt/brindlewort/x")
    write(top / "usr/bin/tagbridge", mode=0o755)
    write(top / "usr/share/app/a/deep")
    if why is None:
        kleff("preview", procedure(kleff.folder / "p.toml", f"[[delete]]\npaths = [{path!r}]"), "--on", f"root:{top}")
    else:
        assert why in refused(kleff, f"root:{top}", top, path)


def test_a_glob_that_matches_too_much(kleff: Kleff, tmp_path: Path) -> None:
    top = linux_tree(tmp_path / "tree")
    for number in range(51):
        write(top / f"opt/brindlewort/cache/{number}")
    assert "more than at_most = 50" in refused(kleff, f"root:{top}", top, "/opt/brindlewort/cache/*")


def test_links_on_the_way_are_never_followed_where_others_can_change_them(kleff: Kleff, lab: Path) -> None:
    """A folder of an account that is a link to somewhere else: refused; what it leads to is not touched."""
    outside = write(lab / "files/C/Data/Brindlewort/Tag Studio/precious.txt").parent.parent
    roaming = lab / "files/C/Users/mira/AppData/Roaming/Brindlewort"
    shutil.rmtree(roaming)
    roaming.symlink_to(os.path.relpath(outside, roaming.parent))
    said = refused(kleff, f"lab:{lab}", lab, r"{user.roaming}\Brindlewort\Tag Studio")
    assert "is a link to" in said
    assert (outside / "Tag Studio/precious.txt").exists()


def test_a_link_itself_is_removed_as_a_link(kleff: Kleff, lab: Path) -> None:
    target = write(lab / "files/C/Data/neighbour/precious.txt").parent
    link = lab / "files/C/Users/mira/.brindlewort/studio"
    link.symlink_to("../../../Data/neighbour")
    file = procedure(kleff.folder / "p.toml", "[[delete]]\npaths = ['{user.home}\\.brindlewort\\studio']")
    assert "only the link goes" in kleff("preview", file, "--on", f"lab:{lab}").out
    kleff("run", file, "--on", f"lab:{lab}", "--yes")
    assert not link.is_symlink()
    assert (target / "precious.txt").exists()
    kleff("undo", kleff.case(), "--yes")
    assert os.readlink(link) == "../../../Data/neighbour"


def test_links_of_the_system_are_resolved_and_the_real_place_is_judged(kleff: Kleff, tmp_path: Path) -> None:
    top = linux_tree(tmp_path / "tree")
    write(top / "usr/lib/brindlewort/x")
    file = procedure(kleff.folder / "p.toml", "[[delete]]\npaths = ['/lib/brindlewort']")
    out = kleff("preview", file, "--on", f"root:{top}").out
    assert "to do      /usr/lib/brindlewort" in out
    assert "reached by the link /lib -> usr/lib" in out


@pytest.mark.skipif(not IS_ROOT, reason="needs root: other owners and bind mounts")
def test_folders_that_lead_elsewhere_and_mounts(kleff: Kleff, tmp_path: Path) -> None:
    top = linux_tree(tmp_path / "tree")
    write(top / "home/mira/.config/user-dirs.dirs", 'XDG_DOCUMENTS_DIR="/etc/brindlewort"\n')
    write(top / "etc/brindlewort/labels/x")
    write(top / "home/tomas/.config/app/x")
    file = procedure(kleff.folder / "p.toml", "[[delete]]\npaths = ['{user.documents}/labels']\n[[delete]]\npaths = ['{user.roaming}/app']")
    os.chown(top / "home/tomas/.config", 1001, 1001)
    found = kleff("preview", file, "--on", f"root:{top}", "--json").json()["actions"]
    states = {a["target"]: (a["state"], a["reason"]) for a in found if a["state"] != "absent"}
    assert states["/etc/brindlewort/labels"] == ("kept", "the folder /etc/brindlewort of mira lies outside the home folder")
    assert states["/home/tomas/.config/app"] == ("kept", "the folder /home/tomas/.config does not belong to tomas")
    mount = write(top / "opt/brindlewort/inside/x").parent
    other = write(tmp_path / "other/precious").parent
    subprocess.run(["mount", "--bind", other, mount], check=True)
    try:
        assert "mount point" in refused(kleff, f"root:{top}", top, "/opt/brindlewort")
    finally:
        subprocess.run(["umount", mount], check=True)


@pytest.mark.skipif(not IS_ROOT, reason="needs root: files of other accounts")
def test_what_others_can_change_is_not_trusted(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    """The procedure, the case folder: refused as administrator when another account could have written them."""
    before = tree(lab / "files")
    tag_studio.chmod(0o666)
    assert "others than an administrator can change the procedure" in kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes", code=3).err
    tag_studio.chmod(0o644)
    os.chown(tag_studio, 1001, 1001)
    assert "can change the procedure" in kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes", code=3).err
    os.chown(tag_studio, 0, 0)
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    case = kleff.case()
    kleff.cases.chmod(0o777)
    assert "can change the case" in kleff("undo", case, "--yes", code=3).err
    kleff.cases.chmod(0o700)
    kleff("undo", case, "--yes")
    assert differences(before, tree(lab / "files")) == []


@pytest.mark.skipif(not IS_ROOT, reason="needs root: files of other accounts")
def test_in_a_persons_own_lab_nothing_need_be_safer_than_the_lab(kleff: Kleff, tmp_path: Path) -> None:
    """The demo works in anybody's folder, also when an administrator starts it there."""
    home = tmp_path / "somebody"
    home.mkdir()
    os.chown(home, 1001, 1001)
    assert "nothing is left" in kleff("demo", home / "demo").out


def test_a_neighbours_folder_inside_a_named_one_stays(kleff: Kleff, lab: Path) -> None:
    file = procedure(kleff.folder / "p.toml", "[[delete]]\npaths = ['C:\\Program Files\\Brindlewort']")
    before = tree(lab / "files/C/Program Files/Brindlewort/Stocktake")
    out = kleff("preview", file, "--on", f"lab:{lab}").out
    assert "it belongs to Brindlewort Stocktake 2.1.0, which stays" in out
    kleff("run", file, "--on", f"lab:{lab}", "--yes")
    left = sorted(os.listdir(lab / "files/C/Program Files/Brindlewort"))
    assert left == ["Stocktake", "Tag Studio 3", "Tag Studio 4"]  # every one of them is registered, and stays
    assert differences(before, tree(lab / "files/C/Program Files/Brindlewort/Stocktake")) == []


def test_what_another_procedure_claims_stays_while_its_product_is_there(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    library = tmp_path / "library"
    library.mkdir()
    other = "[[evidence]]\nentry = 'Brindlewort Stocktake'\n[[delete]]\npaths = ['{program_data}\\Brindlewort\\Stocktake']\n"
    procedure(library / "stocktake.toml", other).write_text(
        (library / "stocktake.toml").read_text().replace('id = "sample"', 'id = "stocktake"')
    )
    write(library / "broken.toml", "format = ")
    file = procedure(tmp_path / "p.toml", "[[delete]]\npaths = ['{program_data}\\Brindlewort']")
    said = kleff("preview", file, "--on", f"lab:{lab}", "--library", library).out
    assert "the procedure of Sample, which is present, claims it" in said
    kleff("run", file, "--on", f"lab:{lab}", "--library", library, "--yes")
    assert sorted(p.name for p in (lab / "files/C/ProgramData/Brindlewort").iterdir()) == ["Stocktake"]
