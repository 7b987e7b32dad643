"""Shortcuts: where one leads, read from its file ([MS-SHLLINK]: Shell Link Binary File Format)."""

from __future__ import annotations

from struct import error as StructError
from struct import unpack_from
from typing import NamedTuple

HEADER = b"\x4c\0\0\0\x01\x14\x02\0\0\0\0\0\xc0\0\0\0\0\0\0\x46"  # its size and its class
FLAGS_AT, AFTER_HEADER = 20, 0x4C
HAS_LIST, HAS_INFO, IS_UNICODE, NO_INFO = 0x1, 0x2, 0x80, 0x100
TEXTS = ((0x4, "title"), (0x8, "relative"), (0x10, "folder"), (0x20, "arguments"), (0x40, "icon"))  # in this order
LOCAL, NETWORK = 0x1, 0x2  # of what LinkInfo says
VARIABLES, INSTALLER = 0xA0000001, 0xA0000006  # extra blocks: a target with variables in it, a feature of an installed product
BLOCK_TEXT = 8 + 260  # where such a block has its text in UTF-16, after the one in the old code page


class Shortcut(NamedTuple):
    """What a shortcut says.

    Attributes:
        target: the path it leads to; "" if it says none, as those to things that are no files.
        variables: the same with environment variables in it, which then counts.
        product: what the installer is asked for before the target is used; "" for all but advertised ones.
        arguments, folder, title: as they are written in it.
    """

    target: str
    variables: str
    product: str
    arguments: str
    folder: str
    title: str


def read_shortcut(data: bytes) -> Shortcut | None:
    """None if it is no shortcut, or a broken one."""
    if not data.startswith(HEADER):
        return None
    try:
        return _read(data)
    except (StructError, ValueError, IndexError):
        return None


def _read(data: bytes) -> Shortcut:
    (flags,) = unpack_from("<I", data, FLAGS_AT)
    at, target = AFTER_HEADER, ""
    if flags & HAS_LIST:
        at += 2 + unpack_from("<H", data, at)[0]
    if flags & HAS_INFO:
        (size,) = unpack_from("<I", data, at)
        target = "" if flags & NO_INFO else _target(data[at : at + size])
        at += size
    texts = dict.fromkeys((name for _, name in TEXTS), "")
    for flag, name in TEXTS:
        if flags & flag:
            width = 2 if flags & IS_UNICODE else 1
            (count,) = unpack_from("<H", data, at)
            texts[name] = _text(data[at + 2 : at + 2 + width * count], width)
            at += 2 + width * count
    blocks = _blocks(data, at)
    return Shortcut(
        target, blocks.get(VARIABLES, ""), blocks.get(INSTALLER, ""), texts["arguments"], texts["folder"], texts["title"]
    )  # fmt: skip


def _target(info: bytes) -> str:
    """The path in LinkInfo: of this machine, or of a share."""
    _, head, flags, _, local, network, suffix = unpack_from("<7I", info)
    wide = unpack_from("<2I", info, 28) if head >= 0x24 else (0, 0)
    ending = _wide_at(info, wide[1]) if wide[1] else _narrow_at(info, suffix)
    if flags & LOCAL:
        return (_wide_at(info, wide[0]) if wide[0] else _narrow_at(info, local)) + ending
    if flags & NETWORK:
        share = info[network:]
        (name,) = unpack_from("<I", share, 8)
        other = unpack_from("<I", share, 20)[0] if name > 0x14 else 0
        top = _wide_at(share, other) if other else _narrow_at(share, name)
        return f"{top}\\{ending}" if ending else top
    return ""


def _blocks(data: bytes, at: int) -> dict[int, str]:
    """The extra blocks that hold a text, by what they are."""
    found: dict[int, str] = {}
    while at + 8 <= len(data):
        size, what = unpack_from("<II", data, at)
        if size < 8:
            break
        if what in (VARIABLES, INSTALLER):
            block = data[at : at + size]
            found[what] = _wide_at(block, BLOCK_TEXT) or _narrow_at(block, 8)
        at += size
    return found


def _wide_at(data: bytes, at: int) -> str:
    end = at
    while data[end : end + 2] not in (b"\0\0", b"", data[end : end + 1]):
        end += 2
    return _text(data[at:end], 2)


def _narrow_at(data: bytes, at: int) -> str:
    return _text(data[at:].partition(b"\0")[0], 1) if at else ""


def _text(data: bytes, width: int) -> str:
    """Up to a NUL, which some programs write too. One byte for a letter is in the code page of a machine that is not known: as far as it is
    ASCII it is the same in all.
    """
    text = data.decode("utf-16-le", "surrogatepass") if width == 2 else data.decode("ascii", "replace")
    return text.partition("\0")[0]
