"""What the effects of outside programs share: a spare is taken before, and what the program did to it is told after."""

from __future__ import annotations

import contextlib
import time
from base64 import b64decode, b64encode
from collections.abc import Callable, Collection, Iterator
from typing import Literal

from msgspec import Struct, field

from kleff.case.aside.deleting import delete_tree
from kleff.case.aside.spare import Spare
from kleff.case.aside.spare_index import SpareDifference, Taken, read_taken, write_taken
from kleff.case.aside.spare_plan import SparePlan
from kleff.case.effects.base import Effect
from kleff.case.hands import Hands
from kleff.case.record.effect import Base64, Journaled, Sha256
from kleff.errors import ActionFailed, DamagedCase
from kleff.progress import Silent
from kleff.texts import plural
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath

STILL = 2.0  # seconds without a change after which a copy that was handed over to is taken to have ended


class Harmed(Struct, kw_only=True, frozen=True):
    """A path (base64 of the raw one) that others need, and what became of it."""

    path: Base64
    what: str


class Spared(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """An effect before which a spare is taken.

    Attributes:
        spare: `making` while it is not known to be whole.
        areas: where it lies; index: the SHA-256 of its index.
        harmed: what others needed, was taken or changed, and could not be put back.
    """

    spare: Literal["", "making", "made"] = ""
    areas_: list[Base64] = field(default_factory=list, name="areas")
    index: Sha256 | Literal[""] = ""
    harmed: list[Harmed] = []

    def areas(self, place: bytes, files: FileTree) -> list[WPath]:
        return [files.from_raw(b64decode(area)) for area in self.areas_]

    def gave_back(self, one: Journaled, hands: Hands) -> Iterator[tuple[WPath, bool]]:
        for kept in spare_of(hands, one.id).index(self.index).things if self.index else []:
            yield hands.workstation.files.from_raw(b64decode(kept.path)), False

    def took_along(self, one: Journaled, hands: Hands) -> list[str]:
        try:
            taken = read_taken(hands.case.folder, one.id)
        except DamagedCase:
            return []
        return taken.gone if taken is not None else []  # where it was cut off, nobody knows

    def happened(self, one: Journaled, hands: Hands) -> bool:
        """Believed from the moment its spare was complete: better one comparison too many. What there is of an incomplete one goes: its
        second names would make files of others' seem shared.
        """
        if self.spare == "making":
            for top in self.spares(one, hands):
                with contextlib.suppress(FileNotFoundError), hands.workstation.files.folder(top.parent) as area:
                    delete_tree(area, top.name, Silent())
        return self.spare != "making"

    def again(self, one: Journaled) -> bool:
        return bool(self.index)

    def moved_back(self, hands: Hands) -> set[str]:
        """Of what is gone from its place (base64 of the raw path): others' things that are where they belong again."""
        return set()

    def spares(self, one: Journaled, hands: Hands) -> list[WPath]:
        return [area.child(f"{one.id:04d}-spare") for area in self.areas(b"", hands.workstation.files)]


def spare_of(hands: Hands, number: int) -> Spare:
    """The spare of an effect."""
    return Spare(hands.workstation.files, hands.workstation.registry, hands.area, hands.case.folder, number)


def areas_for(hands: Hands, plan: SparePlan) -> list[str]:
    """Where the spare of the next effect will lie, as the journal keeps it."""
    return [b64encode(area.raw).decode() for area in spare_of(hands, 0).areas(plan)]


def no_spare(error: OSError, so: str) -> ActionFailed:
    """A spare that could not be taken, as an error for a person."""
    return ActionFailed(
        f"no spare could be taken: {error.filename or ''} {error.strerror}; {so}", remedy="make room, or run without one: --spare off"
    )


def difference(hands: Hands, one: Journaled) -> SpareDifference | None:
    """What has become of what is in an effect's spare; None if it has none."""
    assert isinstance(one.effect, Spared)
    return spare_of(hands, one.id).difference(one.effect.index) if one.effect.index else None


def record_difference(hands: Hands, one: Journaled, foreign: Collection[str] = ()) -> str:
    """What an outside program did to what is in the spare, in words; kept whole in the case.

    Args:
        foreign: what somebody else has changed around it meanwhile, as `SparedItem.path`.
    """
    found = difference(hands, one)
    if found is None:
        return ""
    around = {path: mark for path, mark in found.around.items() if path not in foreign}
    taken = Taken(
        gone=found.gone, touched=found.touched, around=around, removed=found.removed, changed=found.changed, keys_removed=found.keys_removed
    )
    write_taken(hands.case.folder, one.id, taken)
    return f"it {found.text}"


def put_back_others_of(hands: Hands, action: int) -> str:
    """The same after a kill, when the program of an action has ended and was not looked at."""
    tries = [e for e in hands.case.journal.effects(action) if isinstance(e.effect, Spared) and e.effect.index and e.state == "done"]
    return put_back_others(hands, tries[-1]) if tries else ""


def put_back_others(hands: Hands, one: Journaled) -> str:
    """What an outside program took along of what others need: put back from the spare. Done twice is done once.

    Returns:
        How much that was, in words. What could not be put back is journaled with the effect.
    """
    effect, files = one.effect, hands.workstation.files
    found = difference(hands, one)
    assert isinstance(effect, Spared)
    if found is None:
        return ""
    gone = {raw: files.from_raw(b64decode(raw)) for raw in found.gone}
    back = effect.moved_back(hands)
    others = {raw: path for raw, path in gone.items() if raw not in back and hands.guard.keeps(path)}
    above = {raw for raw, path in gone.items() if any(other.below(path) for other in others.values())}
    if others:
        spare_of(hands, one.id).bring_back_some(effect.index, {*others, *above})
    lost = {raw: "it was deleted and cannot be put back" for raw, path in others.items() if files.look(path) is None}
    changed = dict.fromkeys(found.altered, "it was changed in place")
    paths = {raw: files.from_raw(b64decode(raw)) for raw in (*lost, *changed)}
    told = {**lost, **changed}
    harmed = [Harmed(path=raw, what=f"{told[raw]}; {reason}") for raw, path in paths.items() if (reason := hands.guard.keeps(path))]
    if harmed:
        hands.amend(one, harmed=harmed)
    if not others:
        return ""
    hands.case.journal.tell(f"put back, since others need it: {', '.join(sorted(str(p) for p in others.values()))}")
    return f"put back after it: {plural(len(others), 'thing')} that {'belongs' if len(others) == 1 else 'belong'} to others"


def until_still(hands: Hands, one: Journaled, enough: Callable[[], bool]) -> None:
    """Wait until nothing of what is in an effect's spare changes any more (a copy that was handed over to may be at work),
    or `enough` says so.
    """
    still_since, last = time.monotonic(), ""
    while time.monotonic() - still_since < STILL and not enough():
        found = difference(hands, one)
        if found is None:
            return
        if found.text != last:
            still_since, last = time.monotonic(), found.text
        time.sleep(0.2)
