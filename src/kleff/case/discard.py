"""Deleting for good what a case set aside: by descriptors, following no link, never across a mount."""

from __future__ import annotations

import os
from dataclasses import dataclass

from kleff.case.aside.area import moved_from
from kleff.case.aside.deleting import delete_tree
from kleff.case.bag.encryption import KEY_FILE
from kleff.case.effect_names import MOVED
from kleff.case.effects import Hands, areas_of, drop_spares, spares
from kleff.case.record.folder import Case
from kleff.errors import Interrupted, Refused
from kleff.progress import Silent
from kleff.workstation.common.posix import FOLDER_FLAGS, closing_fd


@dataclass
class Held:
    """What a case holds aside; `spares` are the bytes of spares that nothing else holds."""

    items: int = 0
    size: int = 0
    places: int = 0
    spares: int = 0

    @property
    def anything(self) -> bool:
        return bool(self.places or self.spares)


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
    result.spares = sum(hands.workstation.files.measure(path).size for path in spares(hands))
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
    # Of one that was taken back, undo may still need them for what could not be.
    if case.state == "discarded" and (case.folder / "bag" / KEY_FILE).exists():
        _drop_exports(case)
    hands.area.clear(areas_of(hands))
    return total


def _drop_exports(case: Case) -> None:
    """What undo would have needed of the registry; of a case whose bag is locked nothing stays that can be read without the passphrase."""
    for file in (case.folder / "undo").rglob("*.reg"):
        file.with_suffix(".json").unlink(missing_ok=True)
        file.unlink()


def _stopped(case: Case) -> Interrupted:
    return Interrupted("stopped; part of it is deleted", where=str(case.folder), remedy=f"go on with  kleff discard {case.folder}")


# A bag of anything else may hold a licence, whatever the procedure says of it.
HARMLESS = ("settings", "logs")


def may_hold_licence(saved: list[str]) -> bool:
    """Whether a bag whose steps save these kinds of data may hold a licence or what is as hard to get again."""
    return any(kind not in HARMLESS for kind in saved)


def discard_bag(case: Case) -> None:
    """Delete for good what a case saved, and the exports that undo worked with. Killed half-way, it is called again.

    Raises:
        Refused: undo may still need it.
        ActionFailed: it cannot be deleted.
    """
    if case.state not in ("undone", "discarded"):
        raise Refused(
            f"the case is {case.state}; what it saved is kept while it can be taken back", where=str(case.folder),
            remedy="discard what it set aside first, or take the case back",
        )  # fmt: skip
    case.journal.set(bag="discarded")
    with closing_fd(os.open(case.folder, FOLDER_FLAGS)) as fd:
        for name in ("bag", "undo"):
            delete_tree(fd, name, Silent())
    case.journal.tell("what was saved has been deleted for good")
