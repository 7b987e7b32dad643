"""What can only be known before a removal: kept in the case when it begins, for what comes after.

Undo builds packages anew by it, the guard goes on to keep what had to stay then, and the verdict looks where its clues lead.
"""

from __future__ import annotations

from typing import Literal

import msgspec

from kleff.case.guard.kept import Kept
from kleff.case.record.effect import load
from kleff.case.record.folder import Case
from kleff.errors import DamagedCase
from kleff.procedure.globs import PathStyle
from kleff.workstation.identity import PathId, path_id
from kleff.workstation.paths import WPath, from_raw
from kleff.workstation.things import Number, PackageRecord

# How a place is connected with the product.
How = Literal["installed in", "defines", "run by", "uninstalls", "data of", "open in", "named in"]


class Clue(msgspec.Struct, frozen=True, kw_only=True):
    """A place that has to do with the product, how, and with what of it."""

    place: PathId
    how: How
    by: str


class Stays(msgspec.Struct, frozen=True, kw_only=True):
    """A place that must stay; `whole`: with all that is below it."""

    place: PathId
    reason: str
    whole: bool


class Beforehand(msgspec.Struct, kw_only=True):
    """What a workstation held of a product, and beside it, when a case began.

    Attributes:
        numbers: the names of accounts and groups with their numbers, of the whole workstation.
        stays: what else was there and had to stay.
        packages: that the case removes.
    """

    numbers: list[Number] = []
    stays: list[Stays] = []
    packages: list[PackageRecord] = []
    clues: list[Clue] = []

    def add(self, place: WPath | None, how: How, by: str) -> None:
        """Note a place once."""
        if place is not None and place.parts:
            clue = Clue(place=path_id(place), how=how, by=by)
            if clue not in self.clues:
                self.clues.append(clue)

    def package(self, name: str, version: str) -> PackageRecord | None:
        """What was recorded of a package, if it still was in that version."""
        return next((p for p in self.packages if (p.name, p.version) == (name, version)), None)

    def kept(self, style: PathStyle) -> Kept:
        """What had to stay, for the guard."""
        kept = Kept()
        for one in self.stays:
            path = from_raw(style, one.place.path)
            if one.whole:
                kept.places.append((path, one.reason))
            else:
                kept.single[path.key] = one.reason
        return kept


def stays_of(kept: Kept, style: PathStyle) -> list[Stays]:
    """What the guard keeps as somebody else's, as a case keeps it."""
    whole = [Stays(place=path_id(path), reason=reason, whole=True) for path, reason in kept.places]
    single = [
        Stays(place=path_id(WPath(style, volume, parts)), reason=reason, whole=False) for (volume, parts), reason in kept.single.items()
    ]
    return whole + single


def read_beforehand(case: Case) -> Beforehand:
    """What was noted when a case began; nothing if it was begun by a release that did not.

    Raises:
        DamagedCase: it cannot be read.
    """
    try:
        return load(case.journal.get("beforehand") or "{}", Beforehand)
    except (msgspec.MsgspecError, TypeError, ValueError) as error:
        raise DamagedCase(
            f"what was noted when the case began cannot be read: {error}", where=str(case.folder),
            remedy="restore the case folder from a copy",
        ) from None  # fmt: skip
