"""The product's own program was run to change something. There is no inverse: what cannot be taken back is named."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import ClassVar

from msgspec import field

from kleff.case.effects.base import UNDONE, Effect, TakenBack, stays
from kleff.case.hands import Hands
from kleff.case.record.effect import Journaled
from kleff.errors import ActionFailed
from kleff.procedure.globs import PathStyle


class CommandRan(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """A program that was started; `what` it did, if that cannot be taken back, else empty.

    Attributes:
        failed: it ended badly, and may be run again.
        code: how it ended; None if nobody knows.
    """

    kind: ClassVar[str] = "command ran"

    what_: str = field(name="what")
    failed: bool = False
    code: int | None = None

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        return stays(f"{self.what_} cannot be taken back") if self.what_ else UNDONE

    def what(self, one: Journaled, style: PathStyle) -> str:
        return self.what_


@contextmanager
def running_command(hands: Hands, action: int, what: str) -> Iterator[Journaled]:
    """A command that runs within: journaled before, and how it ended after.

    One that ends badly may be run again; of one that was cut off nobody knows how far it came.
    """
    one = hands.intend(action, CommandRan(what_=what))
    try:
        yield one
    except ActionFailed:
        hands.amend(one, failed=True)
        raise
    hands.done(hands.amend(one, code=0))


def earlier(hands: Hands, action: int) -> str:
    """How an earlier try to run the command of an action went: `ended`, `cut off`, or ""."""
    tries = [one.effect for one in hands.case.journal.effects(action) if isinstance(one.effect, CommandRan)]
    if any(effect.code == 0 for effect in tries):
        return "ended"
    return "cut off" if any(not effect.failed for effect in tries) else ""
