"""The bins of accounts: what lies in them, and where it came from, by made-up files of both versions."""

from __future__ import annotations

from struct import pack

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kleff.procedure.globs import WINDOWS
from kleff.workstation.memory.tree import MemoryTree
from kleff.workstation.paths import WPath
from kleff.workstation.windows.recycle_bin import read_told, thrown_away

MIRA = "S-1-5-21-1-2-3-1001"
BEDS = r"C:\Users\mira\Documents\Bed Counter\grün \U0001f331.beds"


def first(was: str, size: int) -> bytes:
    return pack("<QQQ", 1, size, 0) + was.encode("utf-16-le").ljust(520, b"\0")


def second(was: str, size: int) -> bytes:
    name = (was + "\0").encode("utf-16-le")
    return pack("<QQQI", 2, size, 0, len(name) // 2) + name


def test_both_versions() -> None:
    assert read_told(first(BEDS, 7)) == (BEDS, 7)
    assert read_told(second("D:\\" + "a" * 400, 1 << 33)) == ("D:\\" + "a" * 400, 1 << 33)
    for odd in (b"", b"\2", second(BEDS, 7)[:40], pack("<QQQI", 3, 0, 0, 0)):
        with pytest.raises(ValueError, match=r"too short|version"):
            read_told(odd)


@given(st.binary(max_size=80))
def test_whatever_is_in_it(data: bytes) -> None:
    for begin in (b"", pack("<Q", 1), pack("<Q", 2)):
        try:
            was, size = read_told(begin + data)
        except ValueError:
            continue
        assert "\0" not in was
        assert size >= 0


def test_of_every_account_and_drive() -> None:
    """One without its other half, or damaged, is left out; so is a folder that is none of the system's."""
    files = MemoryTree(WINDOWS, ("C:", "D:"))
    for volume, account, letters, told in (
        ("C:", MIRA, "A1B2C3.beds", second(BEDS, 7)), ("D:", "S-1-5-18", "X", first("D:\\old", 3)), ("C:", MIRA, "BROKEN", b"\2"),
    ):  # fmt: skip
        for name, data in ((f"$I{letters}", told), (f"$R{letters}", b"content")):
            put(files, WPath(WINDOWS, volume, ("$Recycle.Bin", account, name)), data)
    put(files, WPath(WINDOWS, "C:", ("$Recycle.Bin", MIRA, "$Ilonely")), second(BEDS, 1))
    found = list(thrown_away(files))
    assert [(one.account, one.was, one.size, one.thing.name, one.told.name) for one in found] == [
        (MIRA, BEDS, 7, "$RA1B2C3.beds", "$IA1B2C3.beds"), ("S-1-5-18", "D:\\old", 3, "$RX", "$IX"),
    ]  # fmt: skip


def put(files: MemoryTree, path: WPath, data: bytes) -> None:
    for end in range(1, len(path.parts)):
        above = WPath(WINDOWS, path.volume, path.parts[:end])
        if files.look(above) is None:
            with files.folder(above.parent) as folder:
                folder.make_folder(above.name)
    with files.folder(path.parent) as folder:
        file = folder.create(path.name)
        file.write(data)
        file.close()
