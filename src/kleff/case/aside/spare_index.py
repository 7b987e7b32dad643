"""What a spare holds, as it is written down."""

from __future__ import annotations

from dataclasses import dataclass, field

import msgspec

from kleff.texts import plural
from kleff.workstation.paths import Look

Made = dict[str, tuple[int, int, int]]  # `SparedItem.path` -> (inode, size, modification time in ns)


class SparedItem(msgspec.Struct, kw_only=True, omit_defaults=True):
    """One thing of the spare. `lies` is where it lies (base64 of the raw path); "" for folders and links, which are made anew."""

    path: str
    mode: int
    uid: int
    gid: int
    atime: int
    mtime: int
    size: int = 0
    lies: str = msgspec.field(default="", name="held")
    sha256: str = ""
    link: str = ""
    attributes: dict[str, str] = {}


class SparedKey(msgspec.Struct, kw_only=True):
    """One exported key."""

    stem: str
    sha256: str


class SpareIndex(msgspec.Struct, kw_only=True):
    """What a spare holds, parents before what is in them. `above` are the folders that hold the places, for their times."""

    areas: list[str]
    things: list[SparedItem]
    above: list[SparedItem]
    keys: list[SparedKey]


@dataclass
class SpareDifference:
    """What an uninstaller did to what is in the spare, paths and keys for people; `gone` has the removed, `altered` the changed as
    `SparedItem.path`.
    """

    removed: list[str] = field(default_factory=list)
    gone: list[str] = field(default_factory=list)
    changed: list[str] = field(default_factory=list)
    altered: list[str] = field(default_factory=list)
    left: int = 0
    keys_removed: list[str] = field(default_factory=list)

    @property
    def text(self) -> str:
        parts = [f"removed {plural(len(self.removed), 'path')}", f"left {self.left:,}"]
        parts += [f"changed {len(self.changed):,}"] if self.changed else []
        parts += [f"removed {plural(len(self.keys_removed), 'key')}"] if self.keys_removed else []
        return ", ".join(parts)


def state_of(look: Look) -> tuple[int, int, int]:
    """What tells a thing from another that has taken its place: inode, size, modification time in ns."""
    return look.identity[1], look.size, look.times[1]
