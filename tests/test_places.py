"""Places that are hard to handle: layered, deep, large, special, strangely named. Run, report, undo and discard meet them all."""

from __future__ import annotations

import os
import resource
import shutil
import socket
import stat
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from killing import KILLED, points, run_until
from support import IS_ROOT, Kleff, differences, linux_tree, procedure, tree, write

pytestmark = pytest.mark.skipif(not IS_ROOT, reason="needs root: mounts, devices, other owners")
LARGE = int(os.environ.get("KLEFF_LARGE", "30000"))
STEPS = "[[delete]]\npaths = ['/opt/brindlewort']\n"


@contextmanager
def mounted(target: Path, *options: object) -> Iterator[None]:
    done = subprocess.run(["mount", *map(str, options), str(target)], capture_output=True, text=True)
    if done.returncode:
        pytest.skip(f"mount says: {done.stderr.strip()}")
    try:
        yield
    finally:
        subprocess.run(["umount", "-l", str(target)], check=False)


def product(top: Path) -> Path:
    """A product with all that a copy could lose."""
    place = top / "opt/brindlewort"
    write(place / "a/one", "one", mode=0o640)
    write(place / "a/sub/two", os.urandom(300_000))
    (place / "a/link").symlink_to("../../etc/passwd")
    (place / "b").mkdir()
    os.link(place / "a/one", place / "b/again")
    with (place / "holes").open("wb") as file:
        file.truncate(5 << 20)
        file.seek(3 << 20)
        file.write(b"in the middle")
    os.setxattr(place / "a/one", "user.bed", b"7")
    os.mkfifo(place / "pipe", 0o600)
    os.mknod(place / "device", 0o600 | stat.S_IFCHR, os.makedev(1, 3))
    with socket.socket(socket.AF_UNIX) as server:
        here = os.getcwd()
        os.chdir(place)
        server.bind("talk")
        os.chdir(here)
    for path in (place / "a/one", place / "a/sub", place / "b"):
        os.chown(path, 1001, 1002)
    os.chmod(place / "b", 0o2770)
    write(place / "tool", "binds a low port", mode=0o755)
    os.chown(place / "tool", 1001, 1001)
    os.setxattr(place / "tool", "security.capability", bytes.fromhex("0100000200040000000000000000000000000000"))  # cap_net_bind_service
    for number, path in enumerate([*sorted(place.rglob("*")), place]):
        os.utime(path, ns=(5 * 10**17 + number, 6 * 10**17 + number), follow_symlinks=False)
    return place


def blocks(place: Path) -> int:
    return (place / "holes").stat().st_blocks


def test_a_folder_of_a_lower_layer_is_copied(tmp_path: Path) -> None:
    """An overlay does not let such a folder be renamed: copied, read back, then deleted; undo brings all of it back. Killed too."""
    lower = linux_tree(tmp_path / "lower")
    full = blocks(product(lower))
    top, cases, log = tmp_path / "tree", tmp_path / "cases", tmp_path / "log"
    file = procedure(tmp_path / "p.toml", STEPS)

    @contextmanager
    def layered() -> Iterator[None]:
        for name in ("upper", "work", "tree", "cases"):
            shutil.rmtree(tmp_path / name, ignore_errors=True)
            (tmp_path / name).mkdir()
        layers = f"lowerdir={lower},upperdir={tmp_path / 'upper'},workdir={tmp_path / 'work'}"
        with mounted(top, "-t", "overlay", "overlay", "-o", layers):
            yield

    def do(*words: object, write: int = 0, after: bool = False) -> tuple[int, int]:
        return run_until([*map(str, words), "--cases", str(cases), "--quiet"], write, after, log)

    def changed() -> list[str]:
        """Apart from the top itself, which is a new folder with each mount."""
        return [d for d in differences(before, tree(top)) if "var/lib/kleff" not in d and not d.startswith("changed: .:")]

    with layered():
        before = tree(top)
        run_until(["preview", str(file), "--on", f"root:{top}", "--full"], 0, False, log)
        assert "on a layered file system: copied if it cannot be moved, which takes up to" in log.read_text()
        code, writes = do("run", file, "--on", f"root:{top}", "--yes")
        assert code == 0, log.read_text()
        assert not (top / "opt/brindlewort").exists()
        assert do("undo", next(cases.iterdir()), "--yes")[0] == 0, log.read_text()
        assert changed() == []
        assert blocks(top / "opt/brindlewort") <= full
    for number, (at, after) in enumerate(points(writes, 3, 3)):
        with layered():
            assert do("run", file, "--on", f"root:{top}", "--yes", write=at, after=after)[0] == KILLED
            case = next(iter(cases.iterdir()), None)
            if number % 2:
                if not case or do("resume", case)[0]:
                    assert do("run", file, "--on", f"root:{top}", "--yes")[0] == 0, log.read_text()
                assert not (top / "opt/brindlewort").exists()
                case = max(cases.iterdir())
            if case:
                assert do("undo", case, "--yes")[0] in (0, 1, 3), log.read_text()  # 1: it was never begun
            assert changed() == [], (at, after)


def test_what_appears_while_a_folder_is_copied_is_left(tmp_path: Path) -> None:
    """Only what is in the copy is deleted of the original."""
    from kleff.workstation.posix.copying import copy_tree, delete_copied

    place = product(tmp_path)
    fd = os.open(place.parent, os.O_RDONLY)
    copy_tree(fd, "brindlewort", fd, "copy", lambda items, size: None)
    assert differences(tree(place), tree(place.parent / "copy")) == []
    write(place / "a/new", "appeared")
    write(place / "a/one", "changed")
    assert sorted(delete_copied(fd, "brindlewort", fd, "copy")) == ["a/new", "a/one", "b/again"]
    assert sorted(p.name for p in place.rglob("*")) == ["a", "again", "b", "new", "one"]
    os.close(fd)


def test_a_very_deep_path(kleff: Kleff, tmp_path: Path) -> None:
    """1,000 folders in one another (4,000 characters and more), with few open files allowed."""
    top = linux_tree(tmp_path / "tree")
    bottom = os.open(write(top / "opt/brindlewort/x").parent, os.O_RDONLY)
    for number in range(1000):
        name = "dig" if number % 2 else "eel"
        os.mkdir(name, dir_fd=bottom)
        below = os.open(name, os.O_RDONLY, dir_fd=bottom)
        os.close(bottom)
        bottom = below
    with os.fdopen(os.open("deep.txt", os.O_WRONLY | os.O_CREAT, dir_fd=bottom), "w") as file:
        file.write("at the bottom")
    steps = "[keep]\npaths = ['/opt/brindlewort/**/never']\n[[backup]]\nlabel = 'all'\npaths = ['/opt/brindlewort/eel']\n" + STEPS
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (256, hard))
    try:
        file_name = procedure(tmp_path / "p.toml", steps)
        shown = kleff("preview", file_name, "--on", f"root:{top}", installed=True).out
        assert "1,003 items" in shown
        kleff("run", file_name, "--on", f"root:{top}", "--yes", installed=True)
        assert not (top / "opt/brindlewort").exists()
        listed = subprocess.run(["tar", "--zstd", "-tf", next(kleff.case().glob("bag/data/*.tar.zst"))], capture_output=True, text=True)
        assert max(len(line) for line in listed.stdout.splitlines()) > 4000
        kleff("undo", kleff.case(), "--yes", installed=True)
        assert os.stat("deep.txt", dir_fd=bottom).st_size == 13
        kleff("run", procedure(tmp_path / "q.toml", STEPS), "--on", f"root:{top}", "--yes", installed=True)
        kleff("discard", kleff.case(), "--yes", installed=True)
        assert not (top / ".kleff").exists()
    finally:
        resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))
        os.close(bottom)
        subprocess.run(["rm", "-rf", str(top)], check=False)


def test_a_folder_with_very_many_entries(kleff: Kleff, tmp_path: Path) -> None:
    """KLEFF_LARGE of them: counted, set aside, taken back, discarded; a wildcard that means them all is refused."""
    top = linux_tree(tmp_path / "tree")
    place = top / "opt/brindlewort/many"
    place.mkdir(parents=True)
    fd = os.open(place, os.O_RDONLY)
    for number in range(LARGE):
        os.close(os.open(f"label{number:07d}", os.O_WRONLY | os.O_CREAT, dir_fd=fd))
    os.close(fd)
    file = procedure(tmp_path / "p.toml", STEPS)
    assert f"{LARGE + 2:,} items" in kleff("preview", file, "--on", f"root:{top}", timeout=600).out
    wide = procedure(tmp_path / "q.toml", "[[delete]]\npaths = ['/opt/brindlewort/many/label*']\n")
    assert "more than at_most = 50" in kleff("preview", wide, "--on", f"root:{top}", code=3, timeout=600).out
    for verb in ("undo", "discard"):
        kleff("run", file, "--on", f"root:{top}", "--yes", timeout=600)
        kleff(verb, kleff.case(), "--yes", timeout=600)
        assert place.exists() == (verb == "undo")
    assert not (top / ".kleff").exists()
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024
    print(f"{LARGE:,} entries, largest process {peak} MiB")


NAMES = [
    b"new\nline", b"\x1b[2Jcleared", b"\x1b]0;title\x07", b"not \xff\xfe text", "\u05e9\u05dc\u05d5\u05dd \u202e gnp.exe".encode(),
    "\u200bnothing".encode(), b"n" * 255, ("\u00fc" * 127).encode(), b"-rf", b"a|b`c`*_<b>&amp;", b"'quoted\"", b" ",
]  # fmt: skip


def test_strange_names(kleff: Kleff, tmp_path: Path) -> None:
    """Handled, and shown without harm: no output of any command holds a byte that moves a cursor or hides a letter."""
    top = linux_tree(tmp_path / "tree")
    place = top / "opt/brindlewort"
    place.mkdir(parents=True)
    for name in NAMES:
        with os.fdopen(os.open(os.fsencode(place) + b"/" + name, os.O_WRONLY | os.O_CREAT), "wb") as file:
            file.write(name)
    os.mkdir(os.fsencode(place) + b"/dir\n\x1b[31m")
    write(Path(os.fsdecode(os.fsencode(place) + b"/dir\n\x1b[31m")) / "in", "x")
    steps = "[[backup]]\nlabel = 'all'\npaths = ['/opt/brindlewort/**']\n[[delete]]\npaths = ['/opt/brindlewort/*']\n"
    file_name = procedure(tmp_path / "p.toml", steps)
    before = tree(place)
    outputs = [kleff("preview", file_name, "--on", f"root:{top}", *more) for more in ([], ["--json"])]
    outputs.append(kleff("run", file_name, "--on", f"root:{top}", "--yes"))
    assert not list(place.iterdir())
    outputs += [kleff("report", kleff.case(), "--format", form) for form in ("text", "markdown", "json")]
    outputs.append(kleff("undo", kleff.case(), "--yes"))
    assert differences(before, tree(place)) == []
    for done in outputs:
        for text in (done.out, done.err):
            assert not [c for c in text if c != "\n" and (ord(c) < 32 or 0x7F <= ord(c) < 0xA0 or c in "\u202e\u200b\ufffd")], text


def test_special_files_and_mounts_inside(kleff: Kleff, tmp_path: Path) -> None:
    """A pipe, a device and a socket are listed, not read; a mount point inside is refused, at the act too."""
    top = linux_tree(tmp_path / "tree")
    place = product(top)
    os.chown(place / "a/one", 0, 0)  # of somebody else it would not be read, having two names
    before = tree(top)
    steps = "[[backup]]\nlabel = 'all'\npaths = ['/opt/brindlewort']\n" + STEPS
    file = procedure(tmp_path / "p.toml", steps)
    kleff("run", file, "--on", f"root:{top}", "--yes", timeout=60)
    kleff("undo", kleff.case(), "--yes")
    assert [d for d in differences(before, tree(top)) if "var/lib/kleff" not in d] == []
    foreign = write(tmp_path / "foreign/precious", "precious")
    (place / "mnt").mkdir()
    with mounted(place / "mnt", "--bind", foreign.parent):
        done = kleff("run", file, "--on", f"root:{top}", "--yes", code=3)
        assert "it is or holds a mount point" in done.err
        assert (place / "mnt/precious").read_text() == "precious"
    assert foreign.exists()
