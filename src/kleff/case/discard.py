"""Deleting for good what a case set aside and saved."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass

from kleff.case.aside.deleting import delete_tree
from kleff.case.bag.encryption import KEY_FILE
from kleff.case.effects.base import effect_of
from kleff.case.hands import Hands
from kleff.case.record import reserve
from kleff.case.record.effect import ASIDE
from kleff.case.record.folder import Case
from kleff.errors import Interrupted, Refused
from kleff.progress import Silent
from kleff.workstation.paths import WPath
from kleff.workstation.this_machine import host


@dataclass
class Holds:
    """What a case holds aside; `spares` are the bytes of spares that nothing else holds."""

    items: int = 0
    size: int = 0
    places: int = 0
    spares: int = 0

    @property
    def anything(self) -> bool:
        return bool(self.places or self.spares)


def holds(hands: Hands) -> Holds:
    """Count and size what is still set aside."""
    result = Holds()
    for one in hands.case.journal.effects():
        aside = effect_of(one).aside() if one.state in (*ASIDE, "intended") else None
        if aside is not None and effect_of(one).lies_aside(one, hands):
            result.places += 1
            result.items += aside.items
            result.size += aside.size
    result.spares = sum(hands.workstation.files.measure(path).size for path in _spares(hands, every=True))
    return result


def discard_case(hands: Hands) -> Holds:
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
    total = holds(hands)
    if case.state == "finished":
        case.journal.set(state="discarded")
    hands.progress.start("discarding", items=total.items)
    for one in case.journal.effects():
        if effect_of(one).aside() is None or one.state not in (*ASIDE, "intended"):
            continue
        if hands.progress.should_stop():
            raise _stopped(case)
        try:
            effect_of(one).discard(one, hands)
        except Interrupted:
            raise _stopped(case) from None
        case.journal.mark([one.id], "discarded")
    drop_spares(hands, every=True)
    reserve.drop(case.folder)
    # Of one that was taken back, undo may still need them for what could not be.
    if case.state == "discarded" and (case.folder / "bag" / KEY_FILE).exists():
        _drop_exports(case)
    hands.area.clear(hands.areas())
    return total


def drop_spares(hands: Hands, every: bool = False) -> None:
    """Delete what is left of spares: of effects that are taken back or never happened, or of all."""
    for path in _spares(hands, every):
        with contextlib.suppress(FileNotFoundError), hands.workstation.files.parent(path) as (folder, name):
            delete_tree(folder, name, Silent())


def _spares(hands: Hands, every: bool) -> list[WPath]:
    over = [one for one in hands.case.journal.effects() if every or one.state in ("undone", "void")]
    return [path for one in over for path in effect_of(one).spares(one, hands)]


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
    with host().folder(case.folder) as folder:
        for name in ("bag", "undo"):
            delete_tree(folder, name, Silent())
    case.journal.tell("what was saved has been deleted for good")
