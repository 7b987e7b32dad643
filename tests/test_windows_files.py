"""Files of a running Windows, as far as Wine can show it: what is read-only, held, long, many or large, and what belongs to a file."""

from __future__ import annotations

import errno
import hashlib
import itertools
import os
import subprocess
from collections.abc import Iterator
from pathlib import Path
from threading import Timer

import pytest

from kleff.procedure.globs import WINDOWS
from kleff.workstation.files.protocol import Folder
from kleff.workstation.paths import WPath
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.system.files.handles import ATTRIBUTES, CREATED
from kleff.workstation.windows.system.files.tree import NtTree
from support import until
from wine.fixtures import on_wine
from wine.remote import WINE, environment

pytestmark = on_wine

numbers = itertools.count()
HIDDEN, READ_ONLY = 0x2, 0x1


class Place:
    """A folder of a test's own on drive C, which is open."""

    def __init__(self, files: NtTree, drive: Path) -> None:
        self.files, self.name = files, f"files {next(numbers)}"
        self.real = drive / self.name
        self.real.mkdir()
        self.path = WPath(WINDOWS, "C:", (self.name,))


@pytest.fixture
def place(api: Api, prefix: Path) -> Place:
    return Place(NtTree(api, {"C:": prefix / "drive_c"}), prefix / "drive_c")


@pytest.fixture
def folder(place: Place) -> Iterator[Folder]:
    with place.files.folder(place.path) as opened:
        yield opened


def test_what_belongs_to_a_file(place: Place, folder: Folder) -> None:
    """Hidden and read-only, and its times to 100 ns, are copied with it; of what was copied only the same is deleted."""
    file = folder.create("beds.txt")
    file.write(b"sage\n")
    file.set_times((1_700_000_000_123_456_700, 1_600_000_000_765_432_100))
    file.set_attribute(ATTRIBUTES, (HIDDEN | READ_ONLY).to_bytes(4, "little"))
    file.close()
    look = folder.look_at("beds.txt")
    assert look.times == (1_700_000_000_123_456_700, 1_600_000_000_765_432_100)
    assert not look.mode & 0o222
    folder.make_folder("other")
    with folder.folder("other") as other:
        assert folder.copy_file("beds.txt", other, "copy.txt", look) == hashlib.sha256(b"sage\n").hexdigest()
        assert other.look_at("copy.txt").times == look.times
        with other.file("copy.txt") as copy:
            assert int.from_bytes(copy.attributes()[ATTRIBUTES], "little") & 0x3 == HIDDEN | READ_ONLY
            assert CREATED in copy.attributes()
        with pytest.raises(OSError, match="has changed"):
            folder.copy_file("beds.txt", other, "again.txt", other.look_at("copy.txt"))
        assert folder.delete_copied("beds.txt", other, "copy.txt") == []
        assert folder.names() == ["other"]
    (place.real / "other/more.txt").write_text("not copied")
    folder.make_folder("copied")
    told: list[tuple[int, int]] = []
    folder.copy_tree("other", folder, "twice", lambda items, size: told.append((items, size)))
    assert sum(items for items, _ in told) == 3
    (place.real / "twice/more.txt").unlink()
    assert folder.delete_copied("other", folder, "twice") == ["other\\more.txt"]
    assert (place.real / "other/more.txt").exists()


def test_what_is_read_only_is_deleted_all_the_same(place: Place) -> None:
    with place.files.folder(place.path) as folder:
        for name in ("one", "two"):
            file = folder.create(name)
            file.set_mode(0o444)
            file.close()
        folder.remove("one")
    with place.files.parent(place.path) as (top, name):
        top.delete_tree(name, lambda count: None)
    assert not place.real.exists()


def test_what_somebody_holds(place: Place, folder: Folder, prefix: Path, service: str) -> None:
    """Held without sharing it cannot be removed or renamed, and says so by a number that every system has; it is there afterwards."""
    path = f"C:\\{place.name}\\held.txt"
    words = [WINE, r"C:\program.exe", "hold", path, "0"]
    with subprocess.Popen(words, env=environment(prefix), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as holder:
        try:
            assert until(lambda: (place.real / "held.txt").exists() and _is_held(folder))
            for act in (
                lambda: folder.remove("held.txt"),
                lambda: folder.rename("held.txt", folder, "other"),
                lambda: folder.sha256("held.txt"),
            ):
                with pytest.raises(OSError) as caught:
                    act()
                assert caught.value.errno == errno.EBUSY
            assert folder.look_at("held.txt").is_file
        finally:
            holder.kill()
    assert folder.names() == ["held.txt"]


def _is_held(folder: Folder) -> bool:
    try:
        folder.sha256("held.txt")
    except OSError:
        return True
    return False


def test_long_many_and_large(place: Place) -> None:
    """Paths of more than 260 characters, more names than are told at once, a file of several pieces, read from anywhere."""
    deep = place.path.child(*(f"{'deep' * 10} {n}" for n in range(12)))
    for end in range(2, len(deep.parts) + 1):
        with place.files.folder(WPath(WINDOWS, "C:", deep.parts[: end - 1])) as above:
            above.make_folder(deep.parts[end - 1], 0o755)
    assert len(str(deep)) > 500
    assert sum(1 for _ in place.files.walk(place.path)) == 13
    names = {f"{n:04} {'seed' * 10}" for n in range(1500)}
    (place.real / "many").mkdir()
    for name in names:
        (place.real / "many" / name).touch()
    assert set(place.files.names(place.path.child("many"))) == names
    data = os.urandom(3_000_001)
    with place.files.folder(place.path) as folder:
        file = folder.create("large")
        file.write(data)
        file.write_at(b"beds", 2_000_000)
        file.flush()
        file.close()
        data = data[:2_000_000] + b"beds" + data[2_000_004:]
        assert folder.sha256("large") == hashlib.sha256(data).hexdigest()
    with place.files.reading(place.path.child("LARGE")) as read:
        read.seek(-1000, os.SEEK_END)
        assert read.read() == data[-1000:]
        read.seek(1_999_990)
        assert read.read(20) == data[1_999_990:2_000_010]
    assert place.files.space(place.path).free > 0
    with place.files.parent(place.path) as (top, name):
        gone: list[int] = []
        top.delete_tree(name, gone.append)
        assert sum(gone) == 12 + 1 + 1500 + 1
    assert not place.real.exists()


def test_names_that_other_programs_trip_over(place: Place, folder: Folder) -> None:
    """A trailing dot or space, names of devices, letters of any script: as they are, never another file."""
    for name in ("end.", "end ", "end", "con", "aux.txt", "nul", "\u00e9", "e\u0301", "\U0001f331", "x" * 200):
        folder.create(name).close()
    assert sorted(folder.names()) == sorted(["end.", "end ", "end", "con", "aux.txt", "nul", "\u00e9", "e\u0301", "\U0001f331", "x" * 200])
    folder.remove("end.")
    assert {"end ", "end"} <= set(folder.names())
    with pytest.raises(FileExistsError):
        folder.create("CON")
    assert place.files.look(place.path.child("AUX.TXT")) is not None


def test_somebody_looks_into_it_for_a_moment(place: Place, folder: Folder, prefix: Path, service: str) -> None:
    """What is to go is waited for a little; who holds it on is told of."""
    folder.create("held.txt").close()
    words = [WINE, r"C:\program.exe", "hold", f"C:\\{place.name}\\held.txt", "0"]
    with subprocess.Popen(words, env=environment(prefix), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as holder:
        try:
            assert until(lambda: _is_held(folder), 60)
            Timer(0.2, holder.kill).start()
            folder.rename("held.txt", folder, "moved.txt")
        finally:
            holder.kill()
    assert folder.names() == ["moved.txt"]


def _is_held(folder: Folder) -> bool:
    try:
        folder.rename("held.txt", folder, "held.txt.moved")
    except OSError as error:
        return error.errno == errno.EBUSY
    try:
        folder.rename("held.txt.moved", folder, "held.txt")
    except FileExistsError:  # in this very moment it was opened, and so made anew
        folder.remove("held.txt.moved")
        return True
    return False
