"""Deleting for good what a case set aside: by descriptors, following no link, never across a mount."""

from __future__ import annotations

from dataclasses import dataclass

from kleff.case.aside import moved_from
from kleff.case.deleting import delete_tree
from kleff.case.effect_names import MOVED
from kleff.case.effects import Hands, areas_of, drop_spares
from kleff.case.folder import Case
from kleff.errors import Interrupted, Refused


@dataclass
class Held:
    """What a case holds aside."""

    items: int = 0
    size: int = 0
    places: int = 0


def held(hands: Hands) -> Held:
    """Count and size what is still set aside."""
    result = Held()
    for effect in hands.case.journal.effects():
        if effect.kind == MOVED and effect.state in ("done", "stays", "intended"):
            moved = moved_from(hands.workstation.files, effect.place, effect.data)
            if hands.area.lies_aside(moved):
                result.places += 1
                result.items += moved.items
                result.size += moved.size
    return result


def discard_case(hands: Hands) -> Held:
    """Delete for good what is set aside. Killed half-way, it is called again.

    Raises:
        Refused: the case is not finished.
        Interrupted: asked to stop.
    """
    case = hands.case
    if case.state not in ("finished", "undone", "discarded"):
        raise Refused(
            f"the case is {case.state}, not finished",
            where=str(case.folder),
            remedy=f"finish it with  kleff resume {case.folder}  or  kleff undo {case.folder}",
        )
    total = held(hands)
    if case.state == "finished":
        case.journal.set(state="discarded")
    hands.progress.start("discarding", items=total.items)
    for effect in case.journal.effects():
        if effect.kind != MOVED or effect.state not in ("done", "stays", "intended"):
            continue
        if hands.progress.should_stop():
            raise _stopped(case)
        moved = moved_from(hands.workstation.files, effect.place, effect.data)
        # Half deleted it is still the same folder; only that very thing is deleted.
        if hands.area.lies_aside(moved):
            try:
                with hands.workstation.files.parent(moved.aside) as (fd, name):
                    delete_tree(fd, name, hands.progress)
            except Interrupted:
                raise _stopped(case) from None
        case.journal.mark([effect.id], "discarded")
    drop_spares(hands, every=True)
    hands.area.clear(areas_of(hands))
    return total


def _stopped(case: Case) -> Interrupted:
    return Interrupted("stopped; part of it is deleted", where=str(case.folder), remedy=f"go on with  kleff discard {case.folder}")
