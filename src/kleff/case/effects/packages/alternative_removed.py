"""An alternative was removed; taken back, it is one again, and chosen if it was."""

from __future__ import annotations

from typing import ClassVar

from kleff.case.effects.base import UNDONE, Effect, TakenBack, stays
from kleff.case.hands import Hands
from kleff.case.record.effect import Journaled
from kleff.errors import ActionFailed
from kleff.procedure.globs import PathStyle
from kleff.workstation.things import Alternative


class AlternativeRemoved(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """Believed whenever it was intended: to put back what is there changes nothing."""

    kind: ClassVar[str] = "alternative removed"

    one: Alternative

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        alternatives = hands.workstation.alternatives
        if alternatives is None:
            return stays("this workstation has no alternatives")
        try:
            alternatives.put_back(self.one)
        except ActionFailed as error:
            return stays(error.what)
        return UNDONE

    def again(self, one: Journaled) -> bool:
        return True

    def what(self, one: Journaled, style: PathStyle) -> str:
        return f"{self.one.name}: {self.one.path}"


def remove_alternative(hands: Hands, action: int, one: Alternative) -> None:
    """Let a program be no alternative any more; another is chosen by the system.

    Raises:
        ActionFailed: the system says no.
    """
    alternatives = hands.workstation.alternatives
    assert alternatives is not None
    with hands.doing(action, AlternativeRemoved(one=one)):
        alternatives.remove(one)
