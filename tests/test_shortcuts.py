"""Shortcuts: what is read from made-up files, from files that Wine itself has written, and from broken ones."""

from __future__ import annotations

from pathlib import Path
from struct import pack

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kleff.workstation.windows.shortcuts import HEADER, Shortcut, read_shortcut
from wine.fixtures import on_wine
from wine.remote import RemoteCaller
from wine.shortcut import write_shortcut


def made(
    local: str = "", share: str = "", suffix: str = "", arguments: str = "", variables: str = "", product: str = "", unicode: bool = True,
    wide: bool = True, items: bytes = b"",
) -> bytes:  # fmt: skip
    """A shortcut, as the format says ([MS-SHLLINK] 2)."""
    flags = (0x1 if items else 0) | (0x2 if local or share else 0) | (0x20 if arguments else 0) | (0x80 if unicode else 0)
    data = HEADER + pack("<I", flags) + bytes(0x4C - len(HEADER) - 4)
    data += pack("<H", len(items)) + items if items else b""
    data += _info(local, share, suffix, wide) if local or share else b""
    data += pack("<H", len(arguments)) + arguments.encode("utf-16-le" if unicode else "cp1252") if arguments else b""
    for what, text in ((0xA0000001, variables), (0xA0000006, product)):
        body = text.encode("ascii", "replace").ljust(260, b"\0") + text.encode("utf-16-le").ljust(520, b"\0")
        data += pack("<II", 0x314, what) + body if text else b""
    return data + bytes(4)


def _info(local: str, share: str, suffix: str, wide: bool) -> bytes:
    head, body = 0x24 if wide else 0x1C, b""
    places = dict.fromkeys(("local", "share", "suffix", "wide local", "wide suffix"), 0)

    def put(name: str, data: bytes) -> None:
        nonlocal body
        places[name] = head + len(body)
        body += data

    if local:
        put("local", local.encode("ascii", "replace") + b"\0")
    if share:
        put("share", pack("<IIIII", 20 + len(share) + 1, 2, 20, 0, 0) + share.encode("ascii") + b"\0")
    put("suffix", suffix.encode("ascii", "replace") + b"\0")
    if wide:
        put("wide local", local.encode("utf-16-le") + b"\0\0")
        put("wide suffix", suffix.encode("utf-16-le") + b"\0\0")
    numbers = [head + len(body), head, 1 if local else 2, 0, places["local"], places["share"], places["suffix"]]
    numbers += [places["wide local"], places["wide suffix"]] if wide else []
    return pack(f"<{len(numbers)}I", *numbers) + body


def test_what_one_says() -> None:
    for data, expected in (
        (made(r"C:\Program Files\Grün\grün.exe", arguments="/x ü"), (r"C:\Program Files\Grün\grün.exe", "", "", "/x ü")),
        (made(r"C:\beds.exe", wide=False, unicode=False, arguments="/x"), (r"C:\beds.exe", "", "", "/x")),
        (made("C:\\", suffix=r"Beds\x.exe", items=b"\x14\0abc"), (r"C:\Beds\x.exe", "", "", "")),
        (made(share=r"\\server\beds", suffix="x.exe"), (r"\\server\beds\x.exe", "", "", "")),
        (made(variables=r"%ProgramFiles%\Beds\x.exe"), ("", r"%ProgramFiles%\Beds\x.exe", "", "")),
        (made(product="w_1^V!!!!!!!!!MKKSkBeds>tW{~$4Q]"), ("", "", "w_1^V!!!!!!!!!MKKSkBeds>tW{~$4Q]", "")),
        (made(items=b"\x14\0abc"), ("", "", "", "")),
    ):  # fmt: skip
        found = read_shortcut(data)
        assert found is not None
        assert (found.target, found.variables, found.product, found.arguments) == expected


@settings(max_examples=500, deadline=None)
@given(st.data())
def test_broken_ones(data: st.DataObject) -> None:
    """Cut off or changed anywhere: a shortcut or none, and never for long."""
    whole = made(r"C:\Grün\x.exe", suffix="y", arguments="/x", variables="%A%", product="p", items=b"\x05\0abc")
    broken = bytearray(whole[: data.draw(st.integers(0, len(whole)))])
    for at, value in data.draw(st.lists(st.tuples(st.integers(0, max(len(broken) - 1, 0)), st.integers(0, 255)), max_size=6)):
        if broken:
            broken[at] = value
    assert isinstance(read_shortcut(bytes(broken)), Shortcut | None)


@pytest.mark.parametrize("_", [pytest.param("wine", marks=on_wine)])
def test_what_the_system_writes(_: str, caller: RemoteCaller, prefix: Path) -> None:
    target = r"C:\windows\system32\notepad.exe"
    write_shortcut(caller, r"C:\beds.lnk", target, "/x grün", r"C:\windows", "Beds")
    found = read_shortcut((prefix / "drive_c/beds.lnk").read_bytes())
    assert found is not None
    assert found.target.lower() == target.lower()
    assert (found.arguments, found.folder, found.title) == ("/x grün", r"C:\windows", "Beds")
