"""A path that a program holds is set aside by the system itself at the next restart; taken back before that, it is not."""

from __future__ import annotations

from base64 import b64encode
from typing import ClassVar

from kleff.case.aside.area import Move
from kleff.case.effects.base import UNDONE, TakenBack, stays
from kleff.case.effects.moved import Moved, plan_moves
from kleff.case.guard.guard import Target
from kleff.case.hands import Hands
from kleff.case.record.effect import Journaled
from kleff.errors import ActionFailed, remedy_for
from kleff.workstation.system_facet import Renames


class MovedAtRestart(Moved, kw_only=True, frozen=True, omit_defaults=True):
    """A thing that will lie, or lies, in the set-aside area; both its names stand in the system's list until the restart."""

    kind: ClassVar[str] = "moved at the restart"

    def happened(self, one: Journaled, hands: Hands) -> bool:
        """Either it lies there by now, or the system is told to move it."""
        return hands.area.lies_aside(self.move(one, hands.workstation.files)) or self.is_listed(one, hands)

    def is_listed(self, one: Journaled, hands: Hands) -> bool:
        """Whether the system is told to move it."""
        renames, move = hands.workstation.renames, self.move(one, hands.workstation.files)
        return renames is not None and renames.has(str(move.place), str(move.aside))

    def release(self, one: Journaled, hands: Hands) -> None:
        """What the system has not moved by then, as where the action was skipped, it is not to move later."""
        move = self.move(one, hands.workstation.files)
        if hands.workstation.renames is not None and not hands.area.lies_aside(move):
            hands.workstation.renames.remove(str(move.place), str(move.aside))

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        """The pair is taken out of the list, if it stands there still; what was moved is moved back."""
        move = self.move(one, hands.workstation.files)
        if hands.workstation.renames is not None:
            try:
                hands.workstation.renames.remove(str(move.place), str(move.aside))
            except OSError as error:
                return stays(f"{move.place}: the system would still move it at the restart, to {move.aside}: {error.strerror}")
        if not hands.area.lies_aside(move) and hands.area.stands_in_place(move):
            return UNDONE
        return Moved.undo(self, one, hands)


def set_aside_at_restart(hands: Hands, action: int, target: Target) -> Move:
    """Have the system set a path aside at the next restart: looked at, guarded again, intended, told to the system.

    Raises:
        ActionFailed: it may not be touched, or the system says no.
    """
    renames = _renames(hands)
    (move,) = plan_moves(hands, [target])
    hands.area.make({move.aside.parent})
    effect = MovedAtRestart(
        aside_=b64encode(move.aside.raw).decode(), identity=move.identity, parent_times=move.parent_times, items=move.items, size=move.size
    )
    with hands.doing(action, effect, move.place.raw):
        try:
            renames.append(str(move.place), str(move.aside))
        except OSError as error:
            raise ActionFailed(f"{move.place} cannot be had moved at the restart: {error.strerror}", remedy=remedy_for(error)) from None
    return move


def forget_moves(hands: Hands, action: int) -> None:
    """After a restart: what the system was told to move and has not moved is told to it no more; it is looked at, not believed."""
    for one in hands.case.journal.effects(action):
        effect = one.effect
        if not isinstance(effect, MovedAtRestart) or one.state not in ("intended", "done"):
            continue
        move = effect.move(one, hands.workstation.files)
        if not hands.area.lies_aside(move):
            _renames(hands).remove(str(move.place), str(move.aside))
            hands.case.journal.mark([one.id], "void")


def _renames(hands: Hands) -> Renames:
    if hands.workstation.renames is None:
        raise ActionFailed("this system moves nothing at a restart", remedy="end what has it open; then resume")
    return hands.workstation.renames
