"""What belongs to units was set aside, and the service manager has forgotten them; taken back, it is told that they are there again."""

from __future__ import annotations

from typing import ClassVar

from kleff.case.effects.base import UNDONE, Effect, TakenBack
from kleff.case.effects.moved import set_aside
from kleff.case.guard.guard import Target
from kleff.case.hands import Hands
from kleff.case.record.effect import Journaled
from kleff.procedure.globs import PathStyle


class UnitsChanged(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """It is journaled before what it is about is moved, so that the manager is told last, of the removal and of the return."""

    kind: ClassVar[str] = "units changed"

    units: list[str]

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        if hands.workstation.services is not None:
            hands.workstation.services.forget(self.units)
        return UNDONE

    def release(self, one: Journaled, hands: Hands) -> None:
        """What the manager still shows as failed or not found."""
        if hands.workstation.services is not None:
            hands.workstation.services.forget(self.units)

    def what(self, one: Journaled, style: PathStyle) -> str:
        return ", ".join(self.units)


def units_changed(hands: Hands, action: int, units: list[str], targets: list[Target]) -> None:
    """Set aside what belongs to units, and tell the service manager.

    Raises:
        ActionFailed: naming the path; what was moved before it stays moved and is journaled.
    """
    with hands.doing(action, UnitsChanged(units=units)):
        set_aside(hands, [(action, target) for target in targets], lambda number, move: None)
        if hands.workstation.services is not None:
            hands.workstation.services.forget(units)
