"""A bag from elsewhere: what is no bag is not opened, what others can change is copied first, what has no end is not waited for."""

from __future__ import annotations

import contextlib
import json
import os
import pty
import shutil
import signal
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from killing import KILLED, run_until
from kleff.case.bag.opened import open_bag
from kleff.case.bag.pax import Header, pack
from kleff.engine.cases.restoring import carried_bag
from kleff.errors import DamagedCase
from kleff.objects.base.secrets import Secrets
from kleff.progress import Silent
from kleff.workstation.open import open_workstation
from support import IS_ROOT, Kleff, differences, linux_tree, tree, until
from test_restore import edit, good_bag, repack, seal

__all__ = ["good_bag"]  # a fixture
pytestmark = pytest.mark.skipif(not IS_ROOT, reason="needs root: another tree, devices, whose a file is")


def archive(bag: Path) -> Path:
    return next((bag / "data").glob("*-data.tar.zst"))


def instead(make: Callable[[Path], object], name: str = "") -> Callable[[Path], object]:
    """Something else in place of one of a bag's files."""

    def change(bag: Path) -> None:
        place = bag / name if name else archive(bag)
        place.rename(bag.parent / "moved")
        make(place)

    return change


def link(place: Path) -> None:
    place.symlink_to(place.parent.parent / "moved" if place.parent.name == "data" else "../moved")


def device(place: Path) -> None:
    os.mknod(place, 0o600 | 0o020000, os.makedev(1, 5))  # zeros without end


STRANGE: dict[str, Callable[[Path], object]] = {
    "bagit.txt a pipe": instead(os.mkfifo, "bagit.txt"),
    "bag-info.txt a device": instead(device, "bag-info.txt"),
    "the manifest a pipe": instead(os.mkfifo, "manifest-sha256.txt"),
    "the tag manifest a link": instead(link, "tagmanifest-sha256.txt"),
    "data a link": instead(link, "data"),
    "an archive a pipe": instead(os.mkfifo),
    "an archive a device": instead(device),
    "an archive a link": instead(link),
    "a key that is a pipe": lambda bag: os.mkfifo(bag / "key.age"),
    "a folder that is a link": lambda bag: (bag / "data/more").symlink_to("/etc"),
}


@pytest.mark.parametrize("what", STRANGE)
def test_what_is_no_bag_is_not_opened(kleff: Kleff, tmp_path: Path, good_bag: tuple[Path, Path], what: str) -> None:
    new = linux_tree(tmp_path / "new")
    before = tree(new)
    for weak in (False, True):
        bag = Path(shutil.copytree(good_bag[0], tmp_path / f"stick{weak}/bag"))
        STRANGE[what](bag)
        if weak:
            os.chown(bag, 1001, 1001)
        done = kleff("restore", bag, "--procedure", good_bag[1], "--on", f"root:{new}", "--yes", code=3)
        assert "neither a file nor a folder" in done.err
        assert [line for line in done.err.splitlines() if line.startswith("kleff: ")] == done.err.splitlines()[-2:-1]
    assert differences(before, tree(new)) == []
    assert not kleff.cases.exists() or list(kleff.cases.iterdir()) == []


@pytest.mark.parametrize("weak", ["the folder", "a file", "the folder above"])
def test_a_bag_that_others_can_change_is_copied_first(kleff: Kleff, tmp_path: Path, good_bag: tuple[Path, Path], weak: str) -> None:
    above = tmp_path / "stick"
    bag = Path(shutil.copytree(good_bag[0], above / "bag"))
    os.chown({"the folder": bag, "a file": archive(bag), "the folder above": above}[weak], 1001, 1001)
    new = linux_tree(tmp_path / "new")
    words = ("restore", bag, "--procedure", good_bag[1], "--on", f"root:{new}")
    before = tree(new / "home")
    assert "others can change the bag: it is copied first" in kleff(*words, "--dry-run").err
    assert differences(before, tree(new / "home")) == []
    assert list(kleff.cases.iterdir()) == []
    kleff(*words, "--yes")
    assert (new / "home/mira/studio").is_dir()
    assert [p.name for p in kleff.cases.iterdir()] == [kleff.case().name]
    assert not (kleff.case() / "carried").exists()
    assert str(bag) in kleff("report", kleff.case()).out
    kleff("undo", kleff.case(), "--yes")
    assert differences(before, tree(new / "home")) == []


def test_the_copy_is_what_is_used(tmp_path: Path, good_bag: tuple[Path, Path]) -> None:
    """Whatever becomes of the original once the copy is made, and whatever the original was while it was made."""
    stick, cases = tmp_path / "stick/bag", tmp_path / "cases"
    shutil.copytree(good_bag[0], stick)
    os.chown(stick, 1001, 1001)
    workstation = open_workstation(f"root:{linux_tree(tmp_path / 'new')}")
    (cases / ".carried-7/carried").mkdir(parents=True)  # of a Kleff that was killed
    (cases / ".carried-7/lock").touch()
    with carried_bag(stick, workstation, cases, Silent(), Secrets()) as bag:
        assert not (cases / ".carried-7").exists()
        archive(stick).write_bytes(b"another")
        assert bag.folder != stick
        assert bag.original == stick
        assert open_bag(bag.folder).sums == bag.sums
    assert list(cases.iterdir()) == []


def test_killed_while_the_copy_is_used(tmp_path: Path, good_bag: tuple[Path, Path]) -> None:
    """Resumed with the copy, whatever has become of the original; or taken back."""
    log, cases = tmp_path / "log", tmp_path / "cases"
    stick, new = tmp_path / "stick/bag", linux_tree(tmp_path / "new")
    before, resumed = tree(new / "home"), 0
    for number in range(1, 40, 3):
        shutil.rmtree(cases, ignore_errors=True)
        shutil.rmtree(stick, ignore_errors=True)
        shutil.copytree(good_bag[0], stick)
        os.chown(stick, 1001, 1001)
        words = ["restore", str(stick), "--procedure", str(good_bag[1]), "--on", f"root:{new}", "--yes", "--cases", str(cases)]
        if run_until(words, number, number % 2 == 0, log)[0] != KILLED:
            break
        archive(stick).write_bytes(b"another")
        case = next((p for p in cases.iterdir() if (p / "case.db").exists()), None)
        if case is None:
            continue
        code = run_until(["resume", str(case)], 0, False, log)[0]
        resumed += code == 0
        assert code in (0, 3), log.read_text()[-2000:]
        assert code == 3 or not (case / "carried").exists()
        assert code == 3 or (new / "home/mira/studio").is_dir()
        archive(stick).write_bytes(archive(good_bag[0]).read_bytes())
        assert run_until(["undo", str(case), "--yes"], 0, False, log)[0] in (0, 3), log.read_text()[-2000:]
        assert differences(before, tree(new / "home")) == [], number
        shutil.rmtree(new / "var/lib/kleff", ignore_errors=True)
    assert resumed > 2


def test_what_is_fed_is_what_was_verified(tmp_path: Path, good_bag: tuple[Path, Path]) -> None:
    bag = open_bag(Path(shutil.copytree(good_bag[0], tmp_path / "bag")))
    name = archive(bag.folder).name
    saved = archive(bag.folder).read_bytes()
    with bag.feeding(name, tmp_path / "pipe") as (_, source):
        os.rename(archive(bag.folder), tmp_path / "moved")
        bag.payload(name).write_bytes(b"another")
        assert source is not None
        assert source.read() == saved
    with pytest.raises(DamagedCase, match="changed since it was verified"), bag.feeding(name, tmp_path / "pipe"):
        pass


# -- without end --------------------------------------------------------------------------------------------------


def zeros(bag: Path) -> None:
    """An archive of some hundred kilobytes that unpacks to 20 GiB of nothing behind its end."""
    import zstandard

    raw = zstandard.ZstdDecompressor().stream_reader(archive(bag).read_bytes()).read()
    compressor = zstandard.ZstdCompressor().compressobj()
    parts = [compressor.compress(raw), *(compressor.compress(bytes(1 << 26)) for _ in range(8)), compressor.flush()]
    archive(bag).write_bytes(b"".join(parts))
    seal(bag)


def records(bag: Path) -> None:
    head = Header(b"x", b"0", extended={b"%d" % n: b"" for n in range(100_000)})
    repack(bag, "data", [(head, b"")])


def change(**fields: Any) -> Callable[[Path], object]:
    return lambda bag: edit(bag, "data", lambda item: item["members"][-1].update(fields))


ENDLESS: dict[str, tuple[Callable[[Path], object], str]] = {
    "zeros behind the archive's end": (zeros, "something behind its end"),
    "a header of very many records": (records, "is missing in the archive"),
    "a large tag file": (lambda bag: os.truncate(bag / "bagit.txt", 1 << 40), "is no bag"),
    "a large manifest": (lambda bag: os.truncate(bag / "manifest-sha256.txt", 1 << 40), "is larger than 64.0 MiB"),
    "a NUL in a link": (
        lambda bag: edit(bag, "data", lambda i: [m.update(link="YQBi") for m in i["members"] if m["type"] == "link"]),
        "is a link to a name that cannot be one",
    ),
    "a NUL in an attribute": (change(attributes={"user.a\0b": "AAAA"}), "has an attribute with a name that cannot be one"),
    "an attribute without a name": (change(attributes={"": "AAAA"}), "has an attribute with a name that cannot be one"),
    "a number of 5,000 digits": (lambda bag: digits(bag), "cannot be read"),
    "nested very deeply": (lambda bag: deep(bag), "cannot be read"),
}  # fmt: skip


def digits(bag: Path) -> None:
    index = next((bag / "data").glob("*.index.json"))
    index.write_text(index.read_text().replace('"format": 2', '"format": ' + "9" * 5000))
    seal(bag)


def deep(bag: Path) -> None:
    index = next((bag / "data").glob("*.index.json"))
    found = json.loads(index.read_text())
    index.write_text(
        json.dumps({**found, "settings": {}}).replace('"settings": {}', '"settings": ' + '{"a":' * 50_000 + "1" + "}" * 50_000)
    )
    seal(bag)


@pytest.mark.parametrize("what", ENDLESS)
def test_no_bag_is_without_end(kleff: Kleff, tmp_path: Path, good_bag: tuple[Path, Path], what: str) -> None:
    bag = Path(shutil.copytree(good_bag[0], tmp_path / "bag"))
    new = linux_tree(tmp_path / "new")
    ENDLESS[what][0](bag)
    said = kleff("restore", bag, "--procedure", good_bag[1], "--on", f"root:{new}", "--yes", code=3).err
    assert ENDLESS[what][1] in said
    assert "Traceback" not in said


# -- signals before a case ------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def slow_bag(tmp_path_factory: pytest.TempPathFactory, good_bag: tuple[Path, Path]) -> Path:
    """A bag that takes a long time to read: 16 GiB, as its index says."""
    import zstandard

    bag = Path(shutil.copytree(good_bag[0], tmp_path_factory.mktemp("slow") / "bag"))
    size = 1 << 34

    def enlarge(item: dict[str, Any]) -> None:
        item["members"] = [{**next(m for m in item["members"] if m["type"] == "file"), "size": size}]

    edit(bag, "data", enlarge)
    found = json.loads(next((bag / "data").glob("*-data.index.json")).read_text())["members"][0]["member"]
    compressor = zstandard.ZstdCompressor().compressobj()
    parts = [compressor.compress(pack(Header(found.encode(), b"0", size))), *(compressor.compress(bytes(1 << 26)) for _ in range(16))]
    archive(bag).write_bytes(b"".join([*parts, compressor.flush()]))
    seal(bag)
    return bag


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGHUP, signal.SIGINT])
def test_asked_to_stop_while_a_bag_is_read(
    kleff: Kleff, tmp_path: Path, slow_bag: Path, good_bag: tuple[Path, Path], number: signal.Signals
) -> None:
    new = linux_tree(tmp_path / "new")
    words = ["restore", slow_bag, "--procedure", good_bag[1], "--on", f"root:{new}", "--yes", "--cases", tmp_path / "cases"]
    child = subprocess.Popen([str(w) for w in (kleff.program, *words)], stderr=subprocess.PIPE, text=True)
    assert until(lambda: reads(child.pid, archive(slow_bag)))
    child.send_signal(number)
    assert child.wait(60) == 130
    assert child.stderr is not None
    said = child.stderr.read()
    assert "kleff: stopped at once" in said
    assert "Traceback" not in said
    assert not (tmp_path / "cases").exists()


def reads(pid: int, file: Path) -> bool:
    with contextlib.suppress(OSError):
        return any(os.readlink(f"/proc/{pid}/fd/{fd}") == str(file) for fd in os.listdir(f"/proc/{pid}/fd"))
    return False


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGHUP, signal.SIGINT])
def test_asked_to_stop_at_the_question(kleff: Kleff, lab: Path, tag_studio: Path, tmp_path: Path, number: signal.Signals) -> None:
    child, terminal = at_the_question(kleff, lab, tag_studio, tmp_path)
    child.send_signal(number)
    assert child.wait(60) == 130
    os.close(terminal)
    assert not (tmp_path / "cases").exists()


def test_what_is_to_be_ignored_is(kleff: Kleff, lab: Path, tag_studio: Path, tmp_path: Path) -> None:
    """As `nohup` asks for."""
    child, terminal = at_the_question(kleff, lab, tag_studio, tmp_path, lambda: signal.signal(signal.SIGHUP, signal.SIG_IGN))
    child.send_signal(signal.SIGHUP)
    os.write(terminal, b"n\nn\nn\n")
    assert child.wait(60) == 3
    os.close(terminal)


def at_the_question(
    kleff: Kleff, lab: Path, tag_studio: Path, tmp_path: Path, first: Callable[[], object] | None = None
) -> tuple[subprocess.Popen[bytes], int]:
    terminal, end = pty.openpty()
    words = [kleff.program, "run", tag_studio, "--on", f"lab:{lab}", "--cases", tmp_path / "cases"]
    log = tmp_path / "said"
    with log.open("wb") as out:
        child = subprocess.Popen([str(w) for w in words], stdin=end, stdout=subprocess.DEVNULL, stderr=out, preexec_fn=first)
    os.close(end)

    assert until(lambda: log.read_bytes().rstrip().endswith((b"[y/N]", b"[y/n]", b"[Y/n]")))
    return child, terminal
