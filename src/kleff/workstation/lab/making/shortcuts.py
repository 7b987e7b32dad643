"""Writing a shortcut that leads to a program by its path ([MS-SHLLINK] 2: a header and where it leads, in letters of both sorts)."""

from __future__ import annotations

from struct import pack
from uuid import UUID

SHELL_LINK = UUID("00021401-0000-0000-c000-000000000046").bytes_le
HAS_PLACE, UNICODE = 0x2, 0x80


def shortcut_to(target: str) -> bytes:
    """Its bytes. Args: target: the whole path."""
    header = pack("<I", 0x4C) + SHELL_LINK + pack("<I", HAS_PLACE | UNICODE)
    local = target.encode("ascii", "replace") + b"\0"
    wide = target.encode("utf-16-le", "surrogatepass") + b"\0\0"
    head = 0x24
    suffix, wide_at = head + len(local), head + len(local) + 1
    body = local + b"\0" + wide + b"\0\0"
    place = pack("<9I", head + len(body), head, 1, 0, head, 0, suffix, wide_at, wide_at + len(wide)) + body
    return header + bytes(0x4C - len(header)) + place + bytes(4)
