"""What every kind of effect knows of itself: whether it happened, how it is taken back, what it leaves, how a person reads it."""

from __future__ import annotations

from collections.abc import Iterator
from typing import ClassVar, NamedTuple

from kleff.case.hands import Hands
from kleff.case.record.effect import Foreign, Journaled, Recorded
from kleff.case.record.folder import Case
from kleff.errors import NewerCase
from kleff.procedure.globs import PathStyle
from kleff.registry.registry import KeyRef
from kleff.registry.values import RegValue
from kleff.workstation.paths import WPath, from_raw


class TakenBack(NamedTuple):
    """What taking an effect back came to: `undone`, `stays` or `noted`, and a note for the technician."""

    state: str
    note: str = ""


class Aside(NamedTuple):
    """What an effect has set aside."""

    items: int
    size: int


UNDONE = TakenBack("undone")


def stays(note: str) -> TakenBack:
    """It could not be taken back, and why."""
    return TakenBack("stays", note)


class Effect(Recorded, kw_only=True, frozen=True, omit_defaults=True):
    """One kind of effect. Its act stands beside it in its file; `one` is always the effect as it is journaled.

    Attributes:
        names_leftovers: an outside program removed something; what it said may name what it has left.
        starts_programs: taking it back does; they may make anew what stood somewhere else and is not back yet.
    """

    names_leftovers: ClassVar[bool] = False
    starts_programs: ClassVar[bool] = False

    def happened(self, one: Journaled, hands: Hands) -> bool:
        """After a kill: whether an intent without confirmation was carried out. Believed, where believing costs nothing."""
        return True

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        """Take it back; never over anything that has appeared since. Done twice is done once."""
        raise NotImplementedError(self.kind)

    def wait(self, one: Journaled, hands: Hands) -> None:
        """Before anything is taken back: let what it has started end first.

        Raises:
            Interrupted: asked to stop.
        """

    def release(self, one: Journaled, hands: Hands) -> None:
        """When a case ends: what was only to last while it was at work."""

    def settings(self, one: Journaled, hands: Hands) -> list[tuple[KeyRef, RegValue]]:
        """What it has changed in the registry for as long as the case is at work, as it was before."""
        return []

    def again(self, one: Journaled) -> bool:
        """Whether one that could not be taken back may be, once what stood in the way is gone."""
        return False

    def came_from(self, one: Journaled, style: PathStyle) -> WPath | None:
        """The place that something was taken from, in which other effects may have been."""
        return None

    def gave_back(self, one: Journaled, hands: Hands) -> Iterator[tuple[WPath, bool]]:
        """Once it is taken back: the paths that stand again by that, each with all below it, or alone."""
        place = self.came_from(one, hands.workstation.style)
        if place is not None:
            yield place, True

    def took_along(self, one: Journaled, hands: Hands) -> list[str]:
        """Of an outside program: the paths (base64 of the raw ones) that are gone by it."""
        return []

    def weight(self) -> int:
        """How many items taking it back concerns, for progress."""
        return 0

    # -- what is left of it -----------------------------------------------------------------------------------

    def aside(self) -> Aside | None:
        """What it has set aside, as it was then; None if it sets nothing aside."""
        return None

    def lies_aside(self, one: Journaled, hands: Hands) -> bool:
        """Whether that is really in the set-aside area."""
        return False

    def lies_at(self, one: Journaled, hands: Hands) -> WPath | None:
        """Where it lies in the set-aside area, or would."""
        return None

    def spares(self, one: Journaled, hands: Hands) -> list[WPath]:
        """The folders of its spare."""
        return []

    def discard(self, one: Journaled, hands: Hands) -> None:
        """Delete for good what it has set aside. Done twice is done once.

        Raises:
            Interrupted: asked to stop.
        """

    # -- for people -------------------------------------------------------------------------------------------

    @property
    def named_by(self) -> str:
        """Who said what is kept of it."""
        return "a program"

    def what(self, one: Journaled, style: PathStyle) -> str:
        """What it was done to."""
        return str(from_raw(style, one.place)) if one.place else ""


class FromElsewhere(Effect, kw_only=True, frozen=True):
    """What stands for an effect that this Kleff does not know: it is shown, and nothing is done with it."""

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        return stays(f"{self.what(one, hands.workstation.style)}: {one.kind}: another Kleff has done it, and takes it back")

    def what(self, one: Journaled, style: PathStyle) -> str:
        return super().what(one, style) or "made by another Kleff"


def effect_of(one: Journaled) -> Effect:
    """The effect of a journal entry, with all it knows."""
    return one.effect if isinstance(one.effect, Effect) else FromElsewhere()


def check_all_known(case: Case) -> None:
    """A case is gone on with, taken back and discarded whole, or not at all.

    Raises:
        NewerCase: another Kleff has done something in it that this one does not know.
    """
    foreign = sorted({one.kind for one in case.journal.effects() if isinstance(one.effect, Foreign)})
    if foreign:
        raise NewerCase(
            f"made by another Kleff, which has done what this one does not know ({', '.join(foreign)}); nothing of it is lost",
            where=str(case.folder), remedy="use the Kleff that made the case, or a newer one; cases and report show it here too",
        )  # fmt: skip


def reconcile(hands: Hands) -> None:
    """After a kill or a failure: of every intent without confirmation, ask the workstation whether it happened."""
    for one in hands.case.journal.effects():
        if one.state == "intended":
            happened = effect_of(one).happened(one, hands)
            hands.case.journal.mark([one.id], "done" if happened else "void")
