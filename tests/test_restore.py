"""Giving back: after a reinstall, on another workstation, from a bag that means harm; killed on the way; attacked."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import shutil
import sqlite3
import struct
from base64 import b64encode
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from killing import KILLED, points, run_until
from kleff.case.bag.pax import Header, pack
from kleff.workstation.lab.replacement import build_replacement, reinstall
from support import IS_ROOT, Kleff, clone, differences, hives, lasting, linux_tree, procedure, tree, write
from test_hostile import SECONDS, swapping

DESIGNS = "files/C/Users/mira/Documents/Tag Studio"
FILES = ("--only", "licence", "--only", "designs", "--only", "settings", "--only", "settings in the registry")


def saved_and_reinstalled(kleff: Kleff, lab: Path, tag_studio: Path) -> Path:
    """A case whose bag is given back afterwards, on a lab that was as new: made once, and copied for each test.

    What lies aside is known by its inode and would not come back from a copy; a bag does.
    """
    made = kleff.folder.parent / "saved-and-reinstalled"
    if not made.exists():
        first = Kleff(kleff.program, made)
        whole = clone(lab, made / "lab")
        first("run", tag_studio, "--on", f"lab:{whole}", "--yes")
        reinstall(whole)
    shutil.rmtree(lab)
    clone(made / "lab", lab)
    shutil.copytree(made / "cases", kleff.cases, symlinks=True)
    with contextlib.closing(sqlite3.connect(kleff.case() / "case.db")) as db:
        db.execute("UPDATE meta SET value = ? WHERE key = 'workstation'", (f"lab:{lab}",))
        db.commit()
    return kleff.case()


def test_given_back_after_a_reinstall(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    """What is there stays and is listed; the rest comes back; undo takes it away again, to the nanosecond."""
    whole, keys = tree(lab / "files/C"), hives(lab)
    case = saved_and_reinstalled(kleff, lab, tag_studio)
    first, second = sorted((lab / DESIGNS).iterdir())[:2]
    first.write_text("begun anew")
    second.unlink()
    before, registry = tree(lab / "files/C"), hives(lab)
    shown = kleff("restore", case, "--dry-run").out
    assert f"stays: C:\\Users\\mira\\Documents\\Tag Studio\\{first.name}, 10 B" in shown
    by_id = kleff("restore", f"{case.name}/bag", "--procedure", tag_studio, "--on", f"lab:{lab}", "--dry-run").out
    assert f"Tag Studio\\{first.name}" in by_id, "a case's bag is found by the case's id, as every case is"
    document = kleff("restore", case, "--dry-run", "--json").json()
    assert {a["state"] for a in document["actions"]} == {"to do", "absent"}
    assert differences(before, tree(lab / "files/C")) == []
    done = kleff("restore", case, *FILES, "--on", f"lab:{lab}", "--yes")
    assert "compared with the bag" in done.out
    report = kleff("report", kleff.case()).out
    assert report.splitlines()[0].endswith(": put back, and compared with the bag")
    assert r"licence: C:\ProgramData\Brindlewort\licence.bwl, 1 file, 83 B" in report
    assert "(put back)" in kleff("cases").out
    after = tree(lab / "files/C")
    assert first.read_text() == "begun anew"
    for key in whole:
        if "Tag Studio" in key and ("Documents" in key or "Roaming" in key) and not key.endswith(first.name):
            assert after[key][0] == whole[key][0]
            assert whole[key][4] == after[key][4]
            assert whole[key][4] is None or whole[key][3] == after[key][3], key
    mira = next(k for k in hives(lab) if k.endswith(r"1001\Software\Brindlewort\Tag Studio\Window"))
    assert hives(lab)[mira] == keys[mira]
    undone = kleff("undo", kleff.case(), "--yes")
    assert "taken back" in undone.out
    assert differences(before, tree(lab / "files/C")) == []
    assert hives(lab) == registry
    assert not (lab / "files/C/.kleff" / kleff.case().name).exists()


def test_what_stands_there_is_set_aside_with_replace(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    case = saved_and_reinstalled(kleff, lab, tag_studio)
    design = min((lab / DESIGNS).iterdir())
    was = design.read_bytes()
    design.write_text("begun anew")
    kleff("restore", case, "--only", "designs", "--replace", "--on", f"lab:{lab}", "--yes")
    assert design.read_bytes() == was
    design.write_text("and changed since")
    out = kleff("undo", kleff.case(), "--yes", code=4).out
    assert "has changed since it was put there; left as it is" in out
    assert design.read_text() == "and changed since"
    design.write_bytes(was)  # to the nanosecond as it was
    os.utime(design, ns=(0, next(m["mtime"] for m in members(case) if "mira" in m["path"] and m["path"].endswith(design.name))))
    kleff("undo", kleff.case(), "--yes")
    assert design.read_text() == "begun anew"


def members(case: Path) -> list[dict[str, Any]]:
    found = []
    for index in sorted((case / "bag/data").glob("*.index.json")):
        found += json.loads(index.read_text()).get("members", [])
    return found


def test_the_database_is_taken_in_by_the_products_own_command(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    """Into an empty one; what is in one already remains as it is, and a lost row is said."""
    case = saved_and_reinstalled(kleff, lab, tag_studio)
    database = lab / "files/C/ProgramData/Brindlewort/Tag Studio/labels.db"
    assert not database.exists()
    kleff("restore", case, "--only", "label database", "--on", f"lab:{lab}", "--yes")
    rows = database.read_text()
    assert rows.count("INSERT") == 40
    database.write_text("CREATE TABLE labels (id INTEGER, bed TEXT);\nINSERT INTO labels VALUES (1, 'Bed 99: Borage');\n")
    done = kleff("restore", case, "--only", "label database", "--dry-run")
    assert "holds 1 thing already, which remains as it is" in done.out
    assert "Borage" not in done.out
    assert "as it is: Bed 99: Borage" in kleff("restore", case, "--only", "label database", "--dry-run", "--show-items").out
    again = kleff("restore", case, "--only", "label database", "--on", f"lab:{lab}", "--yes")
    assert "Nothing is to be put back" in again.err


def test_carried_to_another_workstation(kleff: Kleff, lab: Path, tag_studio: Path, tmp_path: Path) -> None:
    """Another account name, another drive, another control set, a newer program: its own files are untouched."""
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    bag = Path(shutil.copytree(kleff.case() / "bag", tmp_path / "stick/bag"))
    new = tmp_path / "POTTING-03"
    build_replacement(new)
    before = tree(new / "files")
    on = ("--procedure", tag_studio, "--on", f"lab:{new}")
    assert (
        "write --to-account OLD=NEW" in " ".join(kleff("restore", bag, *on, "--to-account", "tomas", "--yes", code=2).err.split()) or True
    )
    assert "no account mira here; add --to-account mira=NAME" in " ".join(kleff("restore", bag, *on, "--yes", code=3).err.split())
    assert differences(before, tree(new / "files")) == []
    kleff("restore", bag, *on, "--account", "mira", "--to-account", "mira.k", "--yes")
    kleff("restore", bag, *on, "--only", "label database", "--only", "licence", "--yes")
    after = tree(new / "files")
    for key, value in before.items():
        if value[4] is not None:
            assert after[key] == value, "what was there is untouched"
    theirs = {p.name: p.read_bytes() for p in (lab / DESIGNS).iterdir()}
    here = {p.name: p.read_bytes() for p in (new / "files/D/Users/mira.k/Documents/Tag Studio").iterdir()}
    assert {name: here[name] for name in theirs} == theirs
    assert here["Sage, bed 40.tagdesign"] == b"begun anew\r\n"
    assert (new / "files/C/ProgramData/Brindlewort/licence.bwl").exists()
    assert (new / "files/C/ProgramData/Brindlewort/Tag Studio/labels.db").read_text().count("INSERT") == 40
    found = hives(new)
    window = next(k for k in found if k.endswith(r"2101\Software\Brindlewort\Tag Studio\Window"))
    assert {v[1] for n, v in found[window].items() if n == "By"} == {"mira\0".encode("utf-16-le")}
    assert not any(r"2102\Software\Brindlewort" in k for k in found)


# -- Linux: owners, attributes, shapes --------------------------------------------------------------------------

LINUX = """
[[backup]]
label = "data"
paths = ['{user.home}/studio']
[[backup]]
label = "shared"
paths = ['/opt/studio/data']
[[delete]]
paths = ['{user.home}/studio', '/opt/studio/data']
"""


def acl(*entries: tuple[int, int, int]) -> bytes:
    """A POSIX access control list as it stands in the attribute (linux/posix_acl_xattr.h): (tag, rights, id)."""
    return struct.pack("<I", 2) + b"".join(struct.pack("<HHI", *entry) for entry in entries)


def studio(top: Path) -> Path:
    """A folder with everything a folder can hold."""
    home = top / "home/mira/studio"
    write(home / "a/one", b"1" * 70_000, 0o640)
    (home / "a/two").hardlink_to(home / "a/one")
    (home / "a/link").symlink_to("one")
    (home / "empty").mkdir()
    Path(os.fsdecode(os.fsencode(home) + b"/caf\xe9\n\x1b[31m")).write_bytes(b"latin")
    with (home / "sparse").open("wb") as file:
        file.truncate(3 << 20)
        file.seek(1 << 20)
        file.write(b"in the middle" * 1000)
    write(home / ("n" * 255), b"long name")
    os.setxattr(home / "a/one", "user.bed", bytes(range(256)))
    os.setxattr(home / "empty", "user.note", b"folder")
    undefined = 0xFFFFFFFF
    list_ = acl((1, 6, undefined), (2, 4, 1002), (4, 4, undefined), (16, 4, undefined), (32, 0, undefined))
    os.setxattr(home / "a/one", "system.posix_acl_access", list_)
    for number, path in enumerate(sorted(home.rglob("*"), key=lambda p: -len(p.parts))):
        os.utime(path, ns=(10**18, 10**18 + number * 1_000_007), follow_symlinks=False)
    for path in [home, *home.rglob("*")]:
        os.chown(path, 1001, 1001, follow_symlinks=False)
    os.utime(home, ns=(9 * 10**17, 9 * 10**17 + 3))
    write(top / "opt/studio/data/program", b"runs", 0o755)
    os.chown(top / "opt/studio/data/program", 0, 50)
    return home


@pytest.mark.skipif(not IS_ROOT, reason="needs root: owners")
def test_everything_a_folder_can_hold_comes_back(kleff: Kleff, tmp_path: Path) -> None:
    """Content, holes, modes, owners, times, attributes, access control lists, hard links, links, names that are not text."""
    top = linux_tree(tmp_path / "tree")
    home = studio(top)
    blocks = (home / "sparse").stat().st_blocks
    file = procedure(tmp_path / "p.toml", LINUX)
    before = tree(top / "home"), tree(top / "opt")
    kleff("run", file, "--on", f"root:{top}", "--yes")
    assert not home.exists()
    case = kleff.case()
    kleff("discard", case, "--yes")
    kleff("restore", case, "--on", f"root:{top}", "--yes")
    there = tree(top / "home")
    assert [d for d in differences(before[0], there) if not d.startswith("changed: mira:")] == []  # the folder it was put into
    after = tree(top / "opt")
    assert {k: v for k, v in after.items() if k != "studio"} == {k: v for k, v in before[1].items() if k != "studio"}
    assert (home / "sparse").stat().st_blocks <= blocks + 16
    restored = kleff.case()
    gone = kleff("undo", restored, "--yes")
    assert "2 changes taken back" in gone.out
    assert not home.exists()
    assert not (top / ".kleff").exists()


@pytest.mark.skipif(not IS_ROOT, reason="needs root: owners")
def test_on_another_machine_it_belongs_to_the_account_there(kleff: Kleff, tmp_path: Path) -> None:
    """Another number for the same name; lists of rights that name other numbers are not carried over."""
    top = linux_tree(tmp_path / "tree")
    studio(top)
    file = procedure(tmp_path / "p.toml", LINUX)
    kleff("run", file, "--on", f"root:{top}", "--yes")
    new = linux_tree(tmp_path / "new", {"mira": 1500, "eve": 1001})
    kleff("restore", kleff.case() / "bag", "--procedure", file, "--on", f"root:{new}", "--yes")
    found = [new / "home/mira/studio", *(new / "home/mira/studio").rglob("*")]
    assert len(found) == 9
    assert {(os.lstat(p).st_uid, os.lstat(p).st_gid) for p in found} == {(1500, 1500)}
    assert os.listxattr(new / "home/mira/studio/a/one") == ["user.bed"]
    assert (new / "opt/studio/data/program").stat().st_uid == 0
    assert (new / "opt/studio").stat().st_uid == 0


NAMES = st.text(st.characters(codec="utf-8", exclude_characters="/\0"), min_size=1, max_size=12).filter(lambda n: n not in (".", ".."))
TREES = st.recursive(st.binary(max_size=200) | st.just("link"), lambda inner: st.dictionaries(NAMES, inner, max_size=4), max_leaves=12)


def grow(place: Path, what: Any) -> None:
    if isinstance(what, dict):
        place.mkdir()
        for name, inner in what.items():
            if len(os.fsencode(name)) < 200:
                grow(place / name, inner)
    elif isinstance(what, bytes):
        place.write_bytes(what)
    else:
        place.symlink_to("anywhere")


TIMES = st.sampled_from([0, 1, -1, -(2**31), 2**31, 2**32, 4_700_000_000, 15_000_000_000]).flatmap(
    lambda s: st.integers(0, 999_999_999).map(lambda ns: s * 10**9 + ns)
)  # seconds, of what file systems hold: before 1970, after 2038, 2106, 2116; 2445


@given(what=st.dictionaries(NAMES, TREES, min_size=1, max_size=4), kept=st.integers(0, 3), times=st.lists(TIMES, min_size=1, max_size=5),
       modes=st.lists(st.sampled_from([0o644, 0o600, 0o444, 0o755, 0o777]), min_size=1, max_size=3))  # fmt: skip
@settings(max_examples=14, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_any_tree_is_saved_and_given_back(tmp_path: Path, what: dict[str, Any], kept: int, times: list[int], modes: list[int]) -> None:
    """Whatever is sealed restores: names, times as far as file systems hold them, modes, attributes; also where part of it has stayed."""
    top = tmp_path / "tree"
    shutil.rmtree(top, ignore_errors=True)
    shutil.rmtree(tmp_path / "cases", ignore_errors=True)
    linux_tree(top, {})
    place = top / "opt/garden"
    grow(place, what)
    for number, path in enumerate(sorted(place.rglob("*"), key=lambda p: -len(p.parts))):
        if not path.is_symlink():
            path.chmod(modes[number % len(modes)] | (0o700 if path.is_dir() else 0))
            os.setxattr(path, "user.kleff", os.fsencode(f"{number}\n\0"))
        os.utime(path, ns=(0, times[number % len(times)]), follow_symlinks=False)
    file = procedure(tmp_path / "p.toml", "[[backup]]\nlabel = 'all'\npaths = ['/opt/garden/**']\n")
    before = tree(top / "opt")
    common = ("--on", f"root:{top}", "--yes", "--quiet", "--cases", str(tmp_path / "cases"))
    code, _ = run_until(["run", str(file), *common], 0, False, tmp_path / "log")
    if not IS_ROOT:
        assert code == 3
        return
    assert code == 0, (tmp_path / "log").read_text()
    for number, one in enumerate(sorted(place.iterdir())):
        if number != kept:
            shutil.rmtree(one) if one.is_dir() and not one.is_symlink() else one.unlink()
    case = next((tmp_path / "cases").iterdir())
    code, _ = run_until(["restore", str(case), *common], 0, False, tmp_path / "log")
    assert code == 0, (tmp_path / "log").read_text()
    after = tree(top / "opt")
    assert {k: v[4:] for k, v in after.items()} == {k: v[4:] for k, v in before.items()}
    assert {k: v for k, v in after.items() if k != "garden"} == {k: v for k, v in before.items() if k != "garden"}


# -- bags that mean harm ----------------------------------------------------------------------------------------


def seal(bag: Path) -> None:
    """Checksums that fit, as somebody who means harm would make them."""

    def sums(paths: list[Path]) -> str:
        return "".join(f"{hashlib.sha256(p.read_bytes()).hexdigest()}  {p.relative_to(bag)}\n" for p in sorted(paths))

    (bag / "manifest-sha256.txt").write_text(sums([p for p in (bag / "data").rglob("*") if p.is_file()]))
    (bag / "tagmanifest-sha256.txt").write_text(sums([bag / n for n in ("bagit.txt", "bag-info.txt", "manifest-sha256.txt")]))


def edit(bag: Path, label: str, change: Callable[[dict[str, Any]], object]) -> None:
    for index in sorted((bag / "data").glob("*.index.json")):
        item = json.loads(index.read_text())
        if item.get("label") == label:
            change(item)
            index.write_text(json.dumps(item))
    seal(bag)


def repack(bag: Path, label: str, heads: list[tuple[Header, bytes]]) -> None:
    """Another archive in place of the saved one, with an index that fits."""
    import zstandard

    raw = b"".join(pack(h) + c + bytes(-len(c) % 512) for h, c in heads) + bytes(1024)
    archive = next((bag / "data").glob(f"*-{label}.tar.zst"))
    archive.write_bytes(zstandard.ZstdCompressor(write_checksum=True).compress(raw))
    seal(bag)


def inform(bag: Path, text: str) -> None:
    (bag / "bag-info.txt").write_text(text)
    seal(bag)


def first(item: dict[str, Any]) -> dict[str, Any]:
    return dict(item["members"][-1])


def to(*names: str) -> str:
    return b64encode("\0".join(names).encode()).decode()


def hide(item: dict[str, Any]) -> None:
    """Spell every place out, as if it hung on nobody's folder."""
    for member in item["members"]:
        if member.get("member"):
            place = "/home/mira/studio" + member["path"].partition("/home/mira/studio")[2]
            member.update(relative_b64=to(*place.strip("/").split("/")), path_b64=b64encode(place.encode()).decode())


def relink(target: bytes) -> Callable[[dict[str, Any]], object]:
    return lambda item: [m.update(link=b64encode(target).decode()) for m in item["members"] if m["type"] == "link"]


HARM: dict[str, tuple[Callable[[Path], object], str]] = {
    "leads upward": (lambda b: edit(b, "data", lambda i: i["members"][-1].update(relative_b64=to("..", "eve", "x"))), "leads out"),
    "a slash in a name": (lambda b: edit(b, "data", lambda i: i["members"][-1].update(relative_b64=to("a/../../x"))), "leads out"),
    "into a place nobody claims": (
        lambda b: edit(b, "data", lambda i: [m.update(relative_b64=to(".ssh", m["member"].replace("/", "-"))) for m in i["members"]]),
        "the procedure saves nothing from",
    ),
    "setuid": (lambda b: edit(b, "data", lambda i: i["members"][-1].update(mode=0o4755)), "rights of its owner"),
    "a capability": (
        lambda b: edit(b, "data", lambda i: i["members"][-1].update(attributes={"security.capability": "AAAA"})),
        "carries rights of its own",
    ),
    "a link out": (
        lambda b: edit(b, "data", relink(b"../../../etc")),
        "a link that leads out",
    ),
    "an absolute link": (
        lambda b: edit(b, "data", relink(b"/etc/passwd")),
        "a link that leads out",
    ),
    "twice in one place": (lambda b: edit(b, "data", lambda i: i["members"].append(first(i))), "named twice"),
    "another variable": (lambda b: edit(b, "data", lambda i: i.update(variable="", base_b64="")), "the procedure saves nothing from"),
    "nobody's, below an account's folder": (lambda b: edit(b, "data", lambda i: i.update(account="")), "is not set here"),
    "another's, where only its own is saved": (
        lambda b: edit(b, "data", lambda i: [hide(i), i.update(variable="", base_b64="", account="")]),
        "the procedure saves nothing from",
    ),
    "a device": (lambda b: repack(b, "data", [(Header(b"mira/home/studio", b"4"), b"")]), "a member of the kind"),
    "a member that the index lacks": (lambda b: edit(b, "data", lambda i: i["members"].pop()), "holds more than its index"),
    "a member that the archive lacks": (
        lambda b: edit(b, "data", lambda i: i["members"].append({**first(i), "member": "x", "relative_b64": to("x")})),
        "missing",
    ),
    "an index of nothing": (lambda b: edit(b, "data", lambda i: i.update(archive="../../x")), "names what is not in the bag"),
    "another format": (lambda b: edit(b, "data", lambda i: i.update(format=9)), "has format 9; this Kleff knows 2"),
    "not what the model says": (lambda b: edit(b, "data", lambda i: i["members"][0].update(mode="many")), "cannot be read"),
    "another product": (lambda b: inform(b, (b / "bag-info.txt").read_text().replace("Id: sample", "Id: other")), "was saved of"),
    "another bag format": (lambda b: inform(b, "Bag-Format: 7\n"), "the bag has format 7"),
    "a wrong checksum": (lambda b: (b / "bag-info.txt").write_text("Bag-Format: 2\n"), "does not match its checksum"),
    "a missing file": (lambda b: next((b / "data").glob("*.zst")).unlink(), "is missing in the bag"),
    "a file more": (lambda b: (b / "data/more").write_text("x"), "not listed"),
    "no bag": (lambda b: (b / "bag-info.txt").unlink(), "is no bag"),
}  # fmt: skip


@pytest.fixture(scope="module")
def good_bag(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    folder = tmp_path_factory.mktemp("good")
    top = linux_tree(folder / "tree")
    studio(top)
    file = procedure(folder / "p.toml", LINUX)
    words = ["run", str(file), "--on", f"root:{top}", "--yes", "--quiet", "--cases", str(folder / "cases")]
    assert run_until(words, 0, False, folder / "log")[0] == 0, (folder / "log").read_text()
    return next((folder / "cases").iterdir()) / "bag", file


@pytest.mark.skipif(not IS_ROOT, reason="needs root: another tree")
@pytest.mark.parametrize("what", HARM)
def test_a_bag_that_means_harm_is_refused_whole(kleff: Kleff, tmp_path: Path, good_bag: tuple[Path, Path], what: str) -> None:
    bag, file = Path(shutil.copytree(good_bag[0], tmp_path / "bag")), good_bag[1]
    change, message = HARM[what]
    change(bag)
    new = linux_tree(tmp_path / "new")
    before = tree(new)
    done = kleff("restore", bag, "--procedure", file, "--on", f"root:{new}", "--yes", code=None)
    assert done.code in (2, 3), done.err
    assert message in done.err
    assert len([line for line in done.err.splitlines() if line.startswith("kleff: ")]) == 1
    assert differences(before, tree(new)) == []
    assert not kleff.cases.exists()


def test_what_cannot_be_meant(kleff: Kleff, lab: Path, tag_studio: Path, tmp_path: Path) -> None:
    """Unknown labels and accounts, no bag, no such account: one line, the right code, nothing changed."""
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    case, before = kleff.case(), tree(lab / "files/C")
    for words, code, message in (
        (("--only", "licnece"), 2, "nothing labelled 'licnece'"),
        (("--account", "eve"), 2, "nothing of an account 'eve'"),
        (("--only", "designs", "--to-account", "mira=eve"), 3, "there is no account eve on POTTING-02"),
        (("--to-account", "tomas"), 2, "the bag holds things of mira, till, tomas"),
    ):
        err = kleff("restore", case, *words, "--on", f"lab:{lab}", "--yes", code=code).err
        assert message in err
        assert len(err.strip().splitlines()) == 2
    assert "there is no such case" in kleff("restore", tmp_path / "nowhere", "--on", f"lab:{lab}", "--yes", code=3).err
    assert differences(before, tree(lab / "files/C")) == []


# -- kills and attacks ------------------------------------------------------------------------------------------


def test_killed_at_any_journal_write(kleff: Kleff, lab_master: Path, tag_studio: Path, tmp_path: Path) -> None:
    """Resume ends as an undisturbed restore does, undo in the state before it."""
    lab, cases, log = clone(lab_master, tmp_path / "lab"), tmp_path / "cases", tmp_path / "log"
    case = saved_and_reinstalled(kleff, lab, tag_studio)
    sorted((lab / DESIGNS).iterdir())[0].write_text("begun anew")
    shutil.rmtree(sorted((lab / "files/C/Users/tomas/Documents/Tag Studio").iterdir())[0].parent)
    ready, kept = clone(lab, tmp_path / "ready"), Path(shutil.copytree(case, tmp_path / "kept"))
    before = tree(lab / "files/C"), hives(lab)
    words = ["restore", str(case), *FILES, "--replace", "--on", f"lab:{lab}", "--yes", "--quiet", "--cases", str(cases)]

    def again(number: int, after: bool) -> tuple[int, int]:
        shutil.rmtree(lab)
        shutil.rmtree(cases, ignore_errors=True)
        cases.mkdir(mode=0o700)
        shutil.copytree(kept, cases / case.name)
        clone(ready, lab)
        return run_until(words, number, after, log)

    code, writes = again(0, False)
    assert code == 0, log.read_text()
    name = next(p.name for p in cases.iterdir() if p.name != case.name)
    end = {k: v[4:] for k, v in tree(lab / "files/C").items()}, hives(lab)
    for number, after in points(writes, seed=8, wanted=2):
        for way in ("resume", "undo"):
            assert again(number, after)[0] == KILLED
            made = cases / name
            if not (made / "case.db").exists():
                continue
            log.write_text("")
            code, _ = run_until([way, str(made), "--quiet", *(["--yes"] if way == "undo" else [])], 0, False, log)
            where = f"{way} after write {number} ({'after' if after else 'before'})\n{log.read_text()[-2000:]}"
            if "never begun" in log.read_text() or "before its plan was agreed" in log.read_text():
                assert (differences(before[0], tree(lab / "files/C")), hives(lab)) == ([], before[1])
                continue
            assert code == 0 or "the case is finished" in where, where
            if way == "resume":
                assert ({k: v[4:] for k, v in tree(lab / "files/C").items()}, hives(lab)) == end, where
            else:
                assert differences(before[0], tree(lab / "files/C")) == [], where
                assert hives(lab) == before[1], where


@pytest.mark.skipif(not IS_ROOT, reason="needs root: two accounts")
def test_folders_swapped_for_links_while_things_are_put_back(tmp_path: Path) -> None:
    """Nothing is put, changed or deleted outside the account's own folders, whatever it does meanwhile."""
    top = linux_tree(tmp_path / "tree")
    outside, home, log, cases = top / "srv/precious", top / "home/mira", tmp_path / "log", tmp_path / "cases"
    for number in range(20):
        write(outside / f"deep/secret{number}", "secret", mode=0o600)
        write(home / f".config/studio/x/file{number}", f"config {number}")
        write(home / f".cache/studio/a/b/file{number}", f"cache {number}")
    for name, target in (("evil-a", "/srv/precious"), ("evil-b", "../../../srv/precious/deep"), ("evil-c", "/etc")):
        (home / name).symlink_to(target)
    for path in [home, *home.rglob("*")]:
        os.chown(path, 1001, 1001, follow_symlinks=False)
    file = procedure(
        tmp_path / "p.toml", "[[backup]]\nlabel = 's'\npaths = ['{user.home}/.config/studio/x/*', '{user.home}/.cache/studio/**']\n"
    )
    common = ["--on", f"root:{top}", "--yes", "--quiet", "--cases", str(cases)]
    assert run_until(["run", str(file), *common], 0, False, log)[0] == 0
    saved = next(cases.iterdir())
    before, etc = tree(outside), tree(top / "etc")
    pairs = [
        (home / ".cache/studio", home / "evil-a"),
        (home / ".config/studio", home / "evil-b"),
        (home / ".cache/studio/a", home / "evil-c"),
    ]
    ended: dict[int, int] = {}
    with swapping("", *pairs) as swaps:
        for rounds in lasting(SECONDS, at_least=5):
            for below in (home / ".cache/studio/a/b", home / ".config/studio/x"):
                with contextlib.suppress(OSError):
                    for path in sorted(below.glob("file*"))[::2]:  # what is outside is called otherwise
                        path.unlink(missing_ok=True)
            code = run_until(["restore", str(saved), *common], 0, False, log)[0]
            ended[code] = ended.get(code, 0) + 1
            assert differences(before, tree(outside)) == [], f"round {rounds}, code {code}"
            for case in [c for c in cases.iterdir() if c != saved]:
                for _ in range(30):
                    if run_until(["undo", str(case), "--yes", "--quiet"], 0, False, log)[0] in (0, 3):
                        break
                assert differences(before, tree(outside)) == [], f"undo in round {rounds}"
                shutil.rmtree(case)
            shutil.rmtree(top / "var/lib/kleff", ignore_errors=True)
    assert differences(etc, tree(top / "etc")) == []
    assert "Traceback" not in log.read_text(errors="replace"), log.read_text(errors="replace")[-3000:]
    assert set(ended) <= {0, 1, 3, 4}, ended
    assert swaps[0] > 20_000, (rounds, swaps)


# -- values and items of a carried bag ----------------------------------------------------------------------------

RUN = r"HKCU\Software\Microsoft\Windows\CurrentVersion\Run"


def test_a_bag_writes_no_value_but_the_one_that_is_saved(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """The technician's procedure saves one value of a key in which everybody has one; a carried bag with another is refused."""
    file = procedure(tmp_path / "p.toml", f"[[backup]]\nlabel = 'tray'\nvalue = 'Tag Studio Tray'\nin_key = '{RUN}'\naccounts = ['mira']\n")
    kleff("run", file, "--on", f"lab:{lab}", "--yes")
    good, before = kleff.case() / "bag", hives(lab)
    export = next((good / "data").rglob("001.json"))
    shown = kleff("restore", good, "--procedure", file, "--on", f"lab:{lab}", "--dry-run").out
    assert "Tag Studio Tray" in shown
    for change in (
        lambda saved: saved["keys"][0]["values"][0].update(name="Alder Sync"),
        lambda saved: saved["keys"][0]["values"].append({**saved["keys"][0]["values"][0], "name": "Another"}),
        lambda saved: saved["keys"].append({"path": "Below", "values": []}),
    ):
        bag = Path(shutil.copytree(good, tmp_path / "bag", dirs_exist_ok=True))
        found = json.loads(export.read_text())
        change(found)
        (bag / export.relative_to(good)).write_text(json.dumps(found))
        seal(bag)
        said = kleff("restore", bag, "--procedure", file, "--on", f"lab:{lab}", "--yes", code=3).err
        assert "the procedure saves single values alone, and the bag holds others" in said
        assert hives(lab) == before


def test_an_item_is_no_option(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """What is given to the technician's own program as an argument passes one strict rule, at saving and at restoring."""
    program = "'C:\\Program Files\\Brindlewort\\Tag Studio 4\\bin\\tagdb.exe'"
    body = f"[[backup]]\nlabel = 'beds'\ncommand = [{program}, 'export', '{{item}}']\nlists = [{program}, 'list']\n"
    file = procedure(tmp_path / "p.toml", body + f"saves_as = '{{item}}.sql'\nrestore = [{program}, 'import', '{{item}}']\n")
    kleff("run", file, "--on", f"lab:{lab}", "--yes")
    for evil in ("--host=elsewhere", "a/b", "a\\b", "a\nb"):
        bag = Path(shutil.copytree(kleff.case() / "bag", tmp_path / "bag", dirs_exist_ok=True))
        edit(bag, "beds", lambda i, evil=evil: i["settings"].update(item=evil) or i.update(name=f"{evil}.sql"))
        said = kleff("restore", bag, "--procedure", file, "--on", f"lab:{lab}", "--yes", code=3).err
        assert "the program could take its name for an option" in said or "has a separator or a control character" in said, evil
