"""A path was set aside; taken back, it is moved back, never over anything."""

from __future__ import annotations

from base64 import b64decode, b64encode
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Annotated, ClassVar, Literal

from msgspec import Meta, field

from kleff.case.aside.area import Layered, Move
from kleff.case.aside.deleting import delete_tree
from kleff.case.aside.short_name import give_short_name
from kleff.case.effects.base import Aside, Effect, TakenBack, stays
from kleff.case.guard.guard import Target
from kleff.case.hands import Hands
from kleff.case.record.effect import Base64, Count, Hex, Journaled, Number, Time
from kleff.errors import ActionFailed
from kleff.procedure.globs import PathStyle
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import PRIVILEGED, WPath, from_raw

BATCH = 100  # intents that share one flush


class Moved(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """A thing that lies in the set-aside area, or is meant to.

    Attributes:
        identity: (device, inode) of the thing; of its copy where it could not be moved.
        parent_times: of the folder it stood in.
        copied: `making` while a copy is not known to be whole.
        short: its short name, on a Windows; it is made anew by the order in which things come.
        modes: programs in it that had their owner's rights: names below it joined by NUL, as hex, and their mode.
    """

    kind: ClassVar[str] = "moved"

    aside_: Base64 = field(name="aside")
    identity: tuple[Number, Number]
    parent_times: tuple[Time, Time]
    items: Count
    size: Count
    copied: Literal["", "making", "made"] = ""
    copy: tuple[Number, Number] | None = None
    short: str = ""
    modes: list[tuple[Hex, Annotated[int, Meta(ge=0, le=0o7777)]]] = []

    def move(self, one: Journaled, files: FileTree) -> Move:
        """What the set-aside area works with."""
        aside, place = files.from_raw(b64decode(self.aside_)), files.from_raw(one.place)
        return Move(place, aside, self.identity, self.parent_times, self.items, self.size, copy=self.copy, short=self.short)

    def areas(self, place: bytes, files: FileTree) -> list[WPath]:
        return [files.from_raw(b64decode(self.aside_)).parent]

    def happened(self, one: Journaled, hands: Hands) -> bool:
        """Where a copy was cut off, what was begun is brought to one end or the other first."""
        move = self.move(one, hands.workstation.files)
        if self.copied == "making":
            hands.area.drop_copy(move)
        elif self.copied == "made":
            hands.area.delete_original(move)
        return hands.area.lies_aside(move)

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        move = self.move(one, hands.workstation.files)
        note = hands.area.put_back(move)
        if not hands.area.stands_in_place(move):
            return stays(note)
        hands.area.set_modes(move.place, self._modes())
        hands.progress.step(move.items, move.size)
        if other_name := give_short_name(hands.workstation.files, move.place, move.short):
            return stays(other_name)
        return TakenBack("undone", note)

    def _modes(self) -> list[tuple[tuple[str, ...], int]]:
        listed = [(bytes.fromhex(names).decode("utf-8", "surrogateescape"), mode) for names, mode in self.modes]
        return [(tuple(n for n in names.split("\0") if n), mode) for names, mode in listed]

    def again(self, one: Journaled) -> bool:
        return True

    def came_from(self, one: Journaled, style: PathStyle) -> WPath | None:
        return from_raw(style, one.place)

    def weight(self) -> int:
        return self.items

    def aside(self) -> Aside | None:
        return Aside(self.items, self.size)

    def lies_aside(self, one: Journaled, hands: Hands) -> bool:
        return hands.area.lies_aside(self.move(one, hands.workstation.files))

    def lies_at(self, one: Journaled, hands: Hands) -> WPath | None:
        return hands.workstation.files.from_raw(b64decode(self.aside_))

    def discard(self, one: Journaled, hands: Hands) -> None:
        """Half deleted it is still the same folder; only that very thing is deleted."""
        move = self.move(one, hands.workstation.files)
        if hands.area.lies_aside(move):
            with hands.workstation.files.parent(move.aside) as (folder, name):
                delete_tree(folder, name, hands.progress)


def set_aside(hands: Hands, targets: list[tuple[int, Target]], told: Callable[[int, Move], None]) -> None:
    """Set paths aside, each for an action: looked at, guarded again, intended, moved, flushed, confirmed. `BATCH` of them share a flush.

    Args:
        told: is given the action and what was moved, one after the other.

    Raises:
        ActionFailed: naming the path; what was moved before it stays moved and is journaled.
    """
    for start in range(0, len(targets), BATCH):
        batch = targets[start : start + BATCH]
        moves = plan_moves(hands, [target for _, target in batch])
        planned = [(action, _recorded(move), move.place.raw) for (action, _), move in zip(batch, moves, strict=True)]
        intents = hands.case.journal.intend(planned)
        hands.area.make({move.aside.parent for move in moves})
        done: list[tuple[Journaled, Move]] = []
        try:
            for one, move in zip(intents, moves, strict=True):
                try:
                    hands.area.move(move)
                except Layered:
                    one, move = _copy(hands, one, move)
                done.append((one, move))
                if move.privileged:
                    _strip(hands, one, move)
                told(one.action, move)
                hands.progress.step(move.items, move.size)
        finally:
            _confirm(hands, done)


def _recorded(move: Move) -> Moved:
    return Moved(
        aside_=b64encode(move.aside.raw).decode(), identity=move.identity, parent_times=move.parent_times,
        items=move.items, size=move.size, short=move.short,
    )  # fmt: skip


def plan_moves(hands: Hands, targets: list[Target]) -> list[Move]:
    """Look at paths, guard them again, and say where they will lie; nothing is changed."""
    first = hands.case.journal.next_effect()
    moves: list[Move] = []
    for target in targets:
        verdict = hands.guard.check(target)
        if not verdict.ok:
            raise ActionFailed(f"{target.path} is no longer allowed to be touched: {verdict.reason}", remedy="look at it by hand")
        if Path(hands.workstation.files.host(target.path)) in (hands.case.folder, *hands.case.folder.parents):
            raise ActionFailed(f"{target.path} holds this very case", remedy="keep cases elsewhere: --cases FOLDER")
        moves.append(hands.area.plan(target.path, first + len(moves)))
    return moves


def _copy(hands: Hands, one: Journaled, move: Move) -> tuple[Journaled, Move]:
    """What cannot be renamed is copied, read back, and then deleted, as far as it is in the copy."""
    one = hands.amend(one, copied="making")
    hands.progress.start(f"copying {move.place.name}", items=move.items, size=move.size)
    identity = hands.area.copy(move, hands.progress.step)
    one = hands.amend(one, copied="made", copy=identity)
    move = replace(move, copy=identity)
    left = hands.area.delete_original(move)
    if left:
        raise ActionFailed(
            f"{move.place}: {left[0]} has appeared or changed while it was copied", remedy="look what writes there; then resume"
        )
    return one, move


def _strip(hands: Hands, one: Journaled, move: Move) -> None:
    """Set-aside programs lose the right to run as their owner; journaled first, given back by undo."""
    found = hands.area.privileged(move)
    hands.amend(one, modes=[("\0".join(names).encode("utf-8", "surrogateescape").hex(), mode) for names, mode in found])
    hands.area.set_modes(move.aside, [(names, mode & ~PRIVILEGED) for names, mode in found])


def _confirm(hands: Hands, done: list[tuple[Journaled, Move]]) -> None:
    gone = {move.place for _, move in done}
    parents = {m.place.parent for _, m in done if m.place.parent not in gone} | {m.aside.parent for _, m in done}
    hands.area.flush({p for p in parents if hands.workstation.files.look(p) is not None})
    hands.case.journal.mark([one.id for one, _ in done], "done")
