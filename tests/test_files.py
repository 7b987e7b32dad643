"""The file tree, worked on by descriptors; and archives of what is in it."""

from __future__ import annotations

import io
import os
import stat
import subprocess
import tarfile
from pathlib import Path

import pytest
import zstandard

from kleff.case.bag.archive import MemberSource, check_archive, write_archive
from kleff.errors import ActionFailed, DamagedCase, LinkOnTheWay, NotTold
from kleff.procedure.globs import POSIX, WINDOWS
from kleff.progress import Silent
from kleff.workstation.linux.accounts import PasswdAccounts
from kleff.workstation.paths import WPath, from_raw
from kleff.workstation.posix.tree import PosixTree
from kleff.workstation.things import Account
from support import IS_ROOT, linux_tree, write


def at(files: PosixTree, text: str) -> WPath:
    path = files.path(text)
    assert path is not None
    return path


def test_counting_agrees_with_du(tmp_path: Path) -> None:
    """Entries and bytes, hard links once, links not followed."""
    for number in range(300):
        write(tmp_path / f"d{number % 17}/e{number % 5}/f{number}", os.urandom(number * 7))
    (tmp_path / "d1/again").hardlink_to(tmp_path / "d1/e1/f1" if (tmp_path / "d1/e1/f1").exists() else next((tmp_path / "d1").rglob("f*")))
    (tmp_path / "d2/link").symlink_to("/usr")
    files = PosixTree(POSIX, {"": tmp_path.parent})
    found = files.measure(at(files, f"/{tmp_path.name}"))
    du = int(subprocess.run(["du", "-s", "--apparent-size", "-B1", tmp_path], capture_output=True, text=True).stdout.split()[0])
    folders = sum(p.stat(follow_symlinks=False).st_size for p in [tmp_path, *tmp_path.rglob("*")] if p.is_dir() and not p.is_symlink())
    links = len("/usr")
    assert found.size == du - folders - links
    assert found.items == 1 + len(list(tmp_path.rglob("*")))
    assert len(list(files.walk(at(files, f"/{tmp_path.name}")))) == found.items


def test_letter_case_of_a_windows_tree(tmp_path: Path) -> None:
    write(tmp_path / "Program Files/Brindlewort/Tag.exe", "x")
    write(tmp_path / "Stra\u00dfe/x")
    files = PosixTree(WINDOWS, {"C:": tmp_path})
    path = at(files, r"c:\PROGRAM FILES\brindleWORT\tag.EXE")
    look = files.look(path)
    assert look is not None
    assert look.is_file
    assert str(files.actual(path)) == r"C:\Program Files\Brindlewort\Tag.exe"
    assert files.look(at(files, r"C:\STRASSE\x")) is None
    assert files.host(path) == str(tmp_path / "Program Files/Brindlewort/Tag.exe")
    assert files.path(r"D:\x") is None
    assert files.path("relative") is None
    assert files.path(r"C:\a\..\b") is None


def test_paths_are_compared_by_names_not_by_text(tmp_path: Path) -> None:
    files = PosixTree(POSIX, {"": tmp_path})
    assert not at(files, "/opt/venv").holds(at(files, "/opt/venv2"))
    assert at(files, "/opt/venv").holds(at(files, "/opt/venv/x"))
    odd = WPath(POSIX, "", ("caf\udce9", "new\nline"))
    assert from_raw(POSIX, odd.raw) == odd


@pytest.mark.skipif(not IS_ROOT, reason="needs root: folders of other owners")
def test_whose_links_are_followed(tmp_path: Path) -> None:
    """An administrator's are resolved, inside the tree; anybody else's are not, wherever they lead."""
    top = linux_tree(tmp_path / "tree")
    write(top / "usr/lib/product/x")
    (top / "var/run").symlink_to("/run")
    write(top / "run/product.pid")
    (top / "home/mira/link").symlink_to("/usr/lib")
    os.chown(top / "home/mira/link", 1001, 1001, follow_symlinks=False)
    (top / "opt/up").symlink_to("../../../../../usr/lib")
    (top / "opt/loop").symlink_to("loop")
    (top / "opt/mine").symlink_to("/usr/lib")
    os.chown(top / "opt/mine", 1001, 1001, follow_symlinks=False)
    files = PosixTree(POSIX, {"": top})
    assert str(files.resolve(at(files, "/lib/product/x")).path) == "/usr/lib/product/x"
    assert str(files.resolve(at(files, "/var/run/product.pid")).path) == "/run/product.pid"
    assert str(files.resolve(at(files, "/opt/up/product")).path) == "/usr/lib/product"
    for text in ("/home/mira/link/product", "/opt/mine/product", "/opt/loop/x"):
        with pytest.raises(LinkOnTheWay):
            files.resolve(at(files, text))
    (top / "opt").chmod(0o777)
    with pytest.raises(LinkOnTheWay):
        files.resolve(at(files, "/opt/up/product"))


def test_looking_never_follows(tmp_path: Path) -> None:
    write(tmp_path / "real/x")
    (tmp_path / "link").symlink_to("real")
    files = PosixTree(POSIX, {"": tmp_path})
    look = files.look(at(files, "/link"))
    assert look is not None
    assert look.is_link
    with pytest.raises(OSError, match="link"):
        files.look(at(files, "/link/x"))
    with pytest.raises(OSError):
        files.read(at(files, "/link"))
    os.mkfifo(tmp_path / "fifo")
    with pytest.raises(OSError):
        files.read(at(files, "/fifo"))  # and does not wait for a writer


def test_archives_hold_what_was_there(tmp_path: Path) -> None:
    """Content, mode, times in ns, links, hard links, extended attributes, names that are not text; sockets are listed."""
    top = tmp_path / "tree/data"
    write(top / "a/one", b"1" * 5000, 0o640)
    os.utime(top / "a/one", ns=(10**18, 10**18 + 123456789))
    os.setxattr(top / "a/one", "user.bed", b"7")
    (top / "a/two").hardlink_to(top / "a/one")
    (top / "link").symlink_to("/etc/passwd")
    os.mkfifo(top / "fifo")
    write(top / "empty", b"")
    Path(os.fsdecode(os.fsencode(top) + b"/caf\xe9")).write_bytes(b"latin")
    files = PosixTree(POSIX, {"": tmp_path / "tree"})
    file = tmp_path / "x.tar.zst"
    mira = Account("mira", "1001", at(files, "/data"), os.geteuid())
    members = write_archive(file, [MemberSource(at(files, "/data"), mira, "user.home", at(files, "/data"))], files, True, Silent())
    check_archive(file, members, Silent())
    assert stat.S_IMODE(file.stat().st_mode) == 0o600
    by_name = {m.member: m for m in members}
    assert set(by_name) >= {"mira/home", "mira/home/a/one", "mira/home/a/two", "mira/home/link", "mira/home/caf%E9", ""}
    assert by_name[""].type == "special"
    raw = zstandard.ZstdDecompressor().stream_reader(io.BytesIO(file.read_bytes())).read()
    with tarfile.open(fileobj=io.BytesIO(raw)) as archive:
        one = archive.getmember("mira/home/a/one")
        assert (one.mode, one.pax_headers["mtime"], one.pax_headers["SCHILY.xattr.user.bed"]) == (0o640, "1000000000.123456789", "7")
        assert archive.getmember("mira/home/a/two").linkname == "mira/home/a/one"
        assert archive.getmember("mira/home/link").linkname == "/etc/passwd"
    by_name["mira/home/a/one"].sha256 = "0" * 64
    with pytest.raises(DamagedCase, match="not what was saved"):
        check_archive(file, members, Silent())


@pytest.mark.skipif(not IS_ROOT, reason="needs root: files of other owners")
def test_a_foreign_file_under_a_second_name_is_not_read(tmp_path: Path) -> None:
    """As administrator: an account could link another's file into its own folder to have it copied."""
    secret = write(tmp_path / "tree/secret")
    os.chown(secret, 1002, 1002)
    (tmp_path / "tree/home").mkdir()
    (tmp_path / "tree/home/mine").hardlink_to(secret)
    files = PosixTree(POSIX, {"": tmp_path / "tree"})
    mira = Account("mira", "1001", at(files, "/home"), 1001)
    with pytest.raises(ActionFailed, match="another account's file"):
        write_archive(tmp_path / "x", [MemberSource(at(files, "/home"), mira)], files, True, Silent())
    assert not (tmp_path / "x").exists()


def test_a_file_that_changes_while_it_is_saved(tmp_path: Path) -> None:
    write(tmp_path / "tree/log", b"x" * 300_000)
    files = PosixTree(POSIX, {"": tmp_path / "tree"})

    class Meddling(Silent):
        def step(self, items: int = 0, size: int = 0) -> None:
            with (tmp_path / "tree/log").open("ab") as log:
                log.write(b"more")

    with pytest.raises(ActionFailed, match="changed while it was saved"):
        write_archive(tmp_path / "x", [MemberSource(at(files, "/log"))], files, True, Meddling())


def test_accounts_and_their_own_settings(tmp_path: Path) -> None:
    top = linux_tree(tmp_path / "tree", {"mira": 1001, "daemon-like": 300, "far": 70000})
    write(top / "etc/login.defs", "# comment\nUID_MIN 1000\nUID_MAX\t60000\n")
    settings = 'XDG_DESKTOP_DIR="$HOME/Tisch"\nXDG_MUSIC_DIR="/srv/music"\nXDG_VIDEOS_DIR="$HOME/"\nXDG_PICTURES_DIR="nonsense"\n'
    write(top / "home/mira/.config/user-dirs.dirs", settings)
    files = PosixTree(POSIX, {"": top})
    accounts = PasswdAccounts(files)
    found = {a.name: a for a in accounts.all()}
    assert {n for n, a in found.items() if a.ordinary} == {"root", "mira"}
    mira = found["mira"]
    expected = {
        "user.desktop": "/home/mira/Tisch", "user.music": "/srv/music", "user.documents": "/home/mira/Documents",
        "user.roaming": "/home/mira/.config", "user.videos": "None", "user.temp": "None",
    }  # fmt: skip
    assert {v: str(accounts.folder(mira, v)).rstrip("/") for v in expected} == expected
    with pytest.raises(NotTold, match="XDG_PICTURES_DIR of mira is set to 'nonsense'"):
        accounts.folder(mira, "user.pictures")
