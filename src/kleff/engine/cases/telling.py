"""What is told of a run while it is at work: each step once, and each action."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from kleff.objects.base.action import Action
from kleff.progress import Progress
from kleff.texts import plural


class Telling:
    """Tells the steps and actions of a run, in their order.

    Args:
        pending: what is to be done.
    """

    def __init__(self, progress: Progress, pending: Iterable[Action]) -> None:
        self._progress = progress
        self._counts = Counter((a.phase, a.step) for a in pending)
        self._in_hand = ("", -1)

    def tell(self, action: Action, again: bool = False) -> None:
        """It is done now, or, `again`, looked at once more."""
        self._turn_to(action)
        who = f" [{action.account}]" if action.account else ""
        self._progress.act(action.number, f"{'look again at' if again else action.verb} {action.target}{who}")

    def _turn_to(self, action: Action) -> None:
        step = action.phase, action.step
        if step == self._in_hand:
            return
        self._in_hand = step
        count = self._counts[step]
        if action.label:
            what = f"{action.label}: {plural(count, 'place')}" if count > 1 else action.label
        else:
            what = f"{action.target}, and {count - 1} more" if count > 1 else action.target
        self._progress.turn_to(action.line, f"{action.verb} {what}")
