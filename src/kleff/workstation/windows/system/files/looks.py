"""What a Windows says of an open thing, as the look of any system."""

from __future__ import annotations

import stat

from kleff.workstation.paths import Look
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.system.files import security
from kleff.workstation.windows.system.files.nt import Told

EPOCH = 116444736000000000  # 1970 in 100 ns since 1601


def look_of(told: Told, whose: str) -> Look:
    """As the look of any system: permissions say no more than whether it is read-only."""
    kind, mode = (stat.S_IFLNK, 0o777) if told.is_link else (stat.S_IFDIR, 0o755) if told.is_folder else (stat.S_IFREG, 0o644)
    if told.attributes & c.FILE_ATTRIBUTE_READONLY and not told.is_link:
        mode &= ~0o222
    uid = 0 if whose in security.TRUSTED else int(whose.rpartition("-")[2] or 0)
    times = (100 * (told.accessed - EPOCH), 100 * (told.written - EPOCH))
    identity = (told.volume, int.from_bytes(told.id, "little"))
    return Look(identity, kind | mode, told.size if kind == stat.S_IFREG else 0, uid, 0, told.links, times, told.room)
