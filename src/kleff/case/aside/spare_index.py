"""What a spare holds, as it is written down."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from pathlib import Path

import msgspec

from kleff.errors import DamagedCase, cannot_read
from kleff.texts import plural
from kleff.workstation.paths import Look
from kleff.workstation.this_machine import host

Made = dict[str, tuple[int, int, int]]  # `SparedItem.path` -> (inode, size, modification time in ns)


class SparedItem(msgspec.Struct, kw_only=True, omit_defaults=True):
    """One thing of the spare. `lies` is where it lies (base64 of the raw path); "" for folders and links, which are made anew.

    `short` is its short name, on a Windows.
    """

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
    short: str = ""
    attributes: dict[str, str] = {}


class SparedKey(msgspec.Struct, kw_only=True):
    """One exported key."""

    stem: str
    sha256: str


class SpareIndex(msgspec.Struct, kw_only=True):
    """What a spare holds, parents before what is in them. `above` are the folders that hold the places, for their times; `around` is what
    is others' as well, and is compared.
    """

    areas: list[str]
    things: list[SparedItem]
    above: list[SparedItem]
    keys: list[SparedKey]
    around: list[SparedItem] = []


class Taken(msgspec.Struct, kw_only=True):
    """What an outside program did to what is in a spare, as a case keeps it: read back by undo.

    Attributes:
        gone: what it removed, as `SparedItem.path`.
        touched: what it gave another owner or mode: (uid, gid, mode) that it has left.
        around: what it changed around it, and how it left that; "" for what is gone.
    """

    gone: list[str]
    touched: dict[str, tuple[int, int, int]] = {}
    around: dict[str, str] = {}
    removed: list[str] = []
    changed: list[str] = []
    keys_removed: list[str] = []


def write_taken(case: Path, number: int, taken: Taken) -> None:
    """Keep what the program of an effect did. The standard library's writer: names may hold what is not text, which it escapes."""
    host().write_atomic(_taken_file(case, number), json.dumps(msgspec.to_builtins(taken), indent=1).encode("ascii"))


def read_taken(case: Path, number: int) -> Taken | None:
    """What the program of an effect did; None if it was cut off.

    Raises:
        DamagedCase: it cannot be read.
    """
    file = _taken_file(case, number)
    try:
        return msgspec.convert(json.loads(file.read_bytes()), Taken)
    except FileNotFoundError:
        return None
    except OSError as error:
        raise cannot_read(error, str(file)) from None
    except (ValueError, msgspec.ValidationError) as error:
        raise DamagedCase(f"cannot be read: {error}", where=str(file), remedy="restore the case folder from a copy") from None


def _taken_file(case: Path, number: int) -> Path:
    return case / "undo" / f"{number:04d}-difference.json"


@dataclass
class SpareDifference:
    """What an uninstaller did to what is in the spare, paths and keys for people; `gone` has the removed, `altered` the changed as
    `SparedItem.path`, `touched` as in `Taken`.
    """

    removed: list[str] = field(default_factory=list)
    gone: list[str] = field(default_factory=list)
    changed: list[str] = field(default_factory=list)
    altered: list[str] = field(default_factory=list)
    touched: dict[str, tuple[int, int, int]] = field(default_factory=dict)
    around: dict[str, str] = field(default_factory=dict)
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
