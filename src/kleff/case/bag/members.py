"""What an index says of each member: told apart, in order, leading nowhere else."""

from __future__ import annotations

import os
from base64 import b64decode
from pathlib import Path

from kleff.case.bag.index import Member, SavedItem
from kleff.case.bag.reading import RELY
from kleff.errors import DamagedCase
from kleff.texts import plain

NO_NAMES = frozenset((b"", b".", b".."))


def relative_names(member: Member) -> tuple[str, ...]:
    """The names of a member below its item's base; () for the base itself.

    Raises:
        DamagedCase: a name leads elsewhere.
    """
    raw = b64decode(member.relative_b64)
    names = raw.split(b"\0") if raw else []
    if b"/" in raw or not NO_NAMES.isdisjoint(names):
        raise DamagedCase(f"{member.path} leads out of its folder", remedy="do not use this bag")
    return tuple(os.fsdecode(n) for n in names)


def check_members(item: SavedItem, file: Path) -> None:
    """Members must be told apart, come after what they hang on, and lead nowhere else."""
    files: set[str] = set()
    names: set[str] = set()
    places: set[tuple[str, ...]] = set()
    for member in item.members:
        place = relative_names(member)
        wrong = ""
        if member.member and member.member in names:
            wrong = "is named twice"
        elif place in places:
            wrong = "stands in one place with another"
        elif member.type == "hard link" and member.link not in files:
            wrong = "shares its content with nothing before it"
        elif bool(member.member) != (member.type != "special"):
            wrong = "is in the archive as nothing, or is nothing and in the archive"
        if wrong:
            raise DamagedCase(f"{plain(member.path)} {wrong}", where=str(file), remedy=RELY)
        names.add(member.member)
        places.add(place)
        if member.type == "file":
            files.add(member.member)
