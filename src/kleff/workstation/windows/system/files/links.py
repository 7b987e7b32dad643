"""What links hold ([MS-FSCC] 2.1.2.4 and 2.1.2.5)."""

from __future__ import annotations

import errno
import re
from struct import pack, unpack_from

from kleff.workstation.windows.native import constants as c

REAL = "\\??\\"  # before a path as the kernel takes it
BEFORE_NAMES = {c.IO_REPARSE_TAG_SYMLINK: 20, c.IO_REPARSE_TAG_MOUNT_POINT: 16}  # bytes


def target_in(data: bytes) -> str:
    """Where a link leads, as it is written for people: the printed name, else the other without its prefix.

    Raises:
        OSError: EINVAL, it is no link.
    """
    if len(data) < 16:
        raise OSError(errno.EINVAL, "is no link")
    tag, _, _, at, size, shown_at, shown_size = unpack_from("<IHHHHHH", data)
    before = BEFORE_NAMES.get(tag)
    if before is None:
        raise OSError(errno.EINVAL, f"is a link of a sort that is not known here ({tag:#x})")
    start, length = (shown_at, shown_size) if shown_size else (at, size)
    return data[before + start : before + start + length].decode("utf-16-le", "surrogatepass").removeprefix(REAL)


def is_absolute(target: str) -> bool:
    """Whether a target is a whole path of this machine."""
    return re.match(r"[A-Za-z]:\\", target) is not None


def junction(target: str) -> bytes:
    """What a junction holds. Args: target: a folder, by its whole path."""
    real, shown = (text.encode("utf-16-le", "surrogatepass") for text in (REAL + target, target))
    names = real + b"\0\0" + shown + b"\0\0"
    places = pack("<HHHH", 0, len(real), len(real) + 2, len(shown))
    return pack("<IHH", c.IO_REPARSE_TAG_MOUNT_POINT, len(places) + len(names), 0) + places + names
