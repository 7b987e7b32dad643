"""Junctions, which Wine has not, imitated where calls are made: what Kleff does when it is told of one, and what it reads in one."""

from __future__ import annotations

import errno
import itertools
from pathlib import Path
from struct import pack

import pytest

from kleff.errors import LinkOnTheWay
from kleff.procedure.globs import WINDOWS
from kleff.workstation.paths import WPath
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.native.caller import Call
from kleff.workstation.windows.system.files import security
from kleff.workstation.windows.system.files.links import junction, target_in
from kleff.workstation.windows.system.files.tree import NtTree
from wine.fixtures import on_wine
from wine.imitated import Junctions
from wine.policy import Guarded, Unsafe
from wine.remote import RemoteCaller

numbers = itertools.count()
MIRA = "S-1-5-21-1004336348-1177238915-682003330-1107"


def test_what_a_link_holds() -> None:
    """The name for people, else the other without its prefix; of an unknown sort nothing."""
    assert target_in(junction(r"D:\Beds")) == r"D:\Beds"
    real = r"\??\C:\Beds".encode("utf-16-le")
    data = pack("<HHHHI", 0, len(real), len(real), 0, 0) + real
    assert target_in(pack("<IHH", c.IO_REPARSE_TAG_SYMLINK, len(data), 0) + data) == r"C:\Beds"
    for odd in (b"", bytes(40), pack("<IHH", 0x9000001A, 32, 0) + bytes(32)):
        with pytest.raises(OSError) as caught:
            target_in(odd)
        assert caught.value.errno == errno.EINVAL


def test_who_may_change_a_thing() -> None:
    """By hand-made descriptors: another owner, an entry for everybody, one for what is made in it only, a list that denies, none at all."""
    alone = security.for_admins_alone()
    assert security.owner(alone) == security.ADMINISTRATORS
    assert security.only_admin(alone)
    everybody = bytes.fromhex("010100000000000100000000")  # S-1-1-0
    for kind, flags, mask, safe in (
        (0, 0, 0x2, False), (0, 0, 0x1200A9, True), (0, 0x8, 0x1F01FF, True), (1, 0, 0x1F01FF, True), (0, 0x3, 0x40, False),
        (0, 0, 0x40000000, False),
    ):  # fmt: skip
        entry = bytes([kind, flags]) + (8 + len(everybody)).to_bytes(2, "little") + mask.to_bytes(4, "little") + everybody
        at = int.from_bytes(alone[16:20], "little")
        size, count = (int.from_bytes(alone[at + n : at + n + 2], "little") for n in (2, 4))
        acl = alone[at : at + 2] + (size + len(entry)).to_bytes(2, "little") + (count + 1).to_bytes(2, "little") + b"\0\0"
        assert security.only_admin(alone[:at] + acl + alone[at + 8 :] + entry) is safe, (kind, flags, mask)
    assert not security.only_admin(alone[:16] + bytes(4) + alone[20:])  # no list: everybody
    assert not security.only_admin(alone[:20] + everybody + alone[20 + len(everybody) :])
    assert not security.only_admin(b"")


def test_where_anybody_may_make_something() -> None:
    """As on drive C and in ProgramData: what is there already is safe, what is made there is not; and what Kleff gives to whom."""
    alone, users = security.for_admins_alone(), security.for_everybody_to_read()
    at = users.rindex(security.READING.to_bytes(4, "little"))
    for mask, replaced, changed in ((0x4, False, True), (0x116, False, True), (0x40, True, True), (security.READING, False, False)):
        data = users[:at] + mask.to_bytes(4, "little") + users[at + 4 :]
        assert security.only_admin(data, rights=security.REPLACING) is not replaced
        assert security.only_admin(data) is not changed
    mira = security.for_account_alone(MIRA)
    assert security.owner(mira) == MIRA
    assert not security.only_admin(mira)
    assert security.only_admin(mira, security.TRUSTED | {MIRA})
    assert len({alone, users, mira}) == 3


class Place:
    """A folder on the prefix with another beside it, to which a name in the first is a junction."""

    def __init__(self, caller: RemoteCaller, prefix: Path) -> None:
        self.name = f"links {next(numbers)}"
        self.drive = prefix / "drive_c"
        for file in ("product/own.txt", "product/deep/own.txt", "product/deep/to people/their.txt", "people/their.txt"):
            (self.drive / self.name / file).parent.mkdir(parents=True, exist_ok=True)
            (self.drive / self.name / file).write_text("x")
        self.calls = Junctions(Guarded(caller), {"to people": f"C:\\{self.name}\\people"})
        self.files = NtTree(Api(self.calls), {"C:": self.drive})

    def path(self, *names: str) -> WPath:
        return WPath(WINDOWS, "C:", (self.name, *names))


@pytest.fixture
def place(caller: RemoteCaller, prefix: Path) -> Place:
    return Place(caller, prefix)


@pytest.mark.parametrize("_", [pytest.param("wine", marks=on_wine)])
def test_nothing_goes_through_one(_: str, place: Place) -> None:
    """Walked, measured, searched: never entered. A path through it is refused, or led on where an administrator has made it."""
    files, link = place.files, place.path("product", "deep", "to people")
    look = files.look(link)
    assert look is not None
    assert look.is_link
    assert not look.is_folder
    assert files.read_link(link) == f"C:\\{place.name}\\people"
    walked = {path.parts[1:] for path, _ in files.walk(place.path("product"))}
    assert ("product", "deep", "to people") in walked
    assert not [parts for parts in walked if parts[-1] == "their.txt"]
    assert not list(files.find(place.path("product"), lambda name: name == "their.txt"))
    assert files.measure(place.path("product")).files == 2
    with pytest.raises(NotADirectoryError):
        files.open_folder(link)
    with pytest.raises(OSError) as caught:
        files.look(link.child("their.txt"))
    assert caught.value.errno == errno.ELOOP
    resolved = files.resolve(link.child("their.txt"))
    assert resolved.path == place.path("people", "their.txt")
    place.calls.leads["to people"] = r"X:\elsewhere"
    with pytest.raises(LinkOnTheWay, match="not on this workstation"):
        files.resolve(link.child("their.txt"))
    assert place.calls.entered == []


@pytest.mark.parametrize("_", [pytest.param("wine", marks=on_wine)])
def test_one_is_deleted_itself(_: str, place: Place) -> None:
    """What it leads to stays; Wine can delete what stands for it only if that is empty."""
    inside = place.drive / place.name / "product/deep/to people/their.txt"
    inside.unlink()
    with place.files.parent(place.path("product")) as (folder, name):
        folder.delete_tree(name, lambda count: None)
    assert not (place.drive / place.name / "product").exists()
    assert (place.drive / place.name / "people/their.txt").exists()
    assert place.calls.entered == []


@pytest.mark.parametrize("_", [pytest.param("wine", marks=on_wine)])
def test_unsafe_calls_are_not_made(_: str, caller: RemoteCaller) -> None:
    """What stands between every test and Wine does refuse; and every handle of a file is closed again."""
    guarded = Guarded(caller)
    files = NtTree(Api(guarded), {"C:": Path("/nonexistent")})
    list(files.walk(WPath(WINDOWS, "C:", ("windows", "temp"))))
    assert guarded.open == {}
    with files.folder(WPath(WINDOWS, "C:", ("windows",))) as folder:
        assert folder.may_change()
    for call in (
        Call("kernel32", "DeleteFileW", (r"C:\x",)), Call("advapi32", "RegDeleteTreeW", (1, "x")),
        Call("kernel32", "WaitForSingleObject", (1, 0xFFFFFFFF)), Call("kernel32", "CreateFileW", (r"C:\x", 1, 1, None, 3, 0, None)),
    ):  # fmt: skip
        with pytest.raises(Unsafe):
            guarded.call(call)
    for name in ("a\\b", "..", "a:stream", "a/b", ""):
        with pytest.raises(OSError) as caught, files.folder(WPath(WINDOWS, "C:", ())) as top:
            top.look_at(name)
        assert caught.value.errno == errno.EINVAL
