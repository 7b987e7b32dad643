"""The workstation was told to go on with the case by itself once it is restarted; it forgets that when it does, or by undo."""

from __future__ import annotations

from typing import ClassVar

from kleff.case.effects.base import UNDONE, Effect, TakenBack
from kleff.case.hands import Hands
from kleff.case.record.effect import Journaled


class ResumeArranged(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """What is given at the start: the program with its whole path, and the case; no secret."""

    kind: ClassVar[str] = "resume arranged"

    words: list[str]

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        self._cancel(hands)
        return UNDONE

    def release(self, one: Journaled, hands: Hands) -> None:
        self._cancel(hands)

    def _cancel(self, hands: Hands) -> None:
        if hands.workstation.after_restart is not None:
            hands.workstation.after_restart.cancel()


def arrange_resume(hands: Hands, action: int, words: list[str]) -> None:
    """Have the workstation go on by itself."""
    if hands.workstation.after_restart is not None:
        with hands.doing(action, ResumeArranged(words=words)):
            hands.workstation.after_restart.arrange(f"Goes on with the case {hands.case.id}", words)


def forget_resume(hands: Hands) -> None:
    """The case goes on now, or does so by hand: it is not begun a second time."""
    for one in hands.case.journal.effects():
        if isinstance(one.effect, ResumeArranged) and one.state == "done":
            one.effect.release(one, hands)
            hands.case.journal.mark([one.id], "undone")
