"""The verdict before what comes after the work, which may set the product up anew: that is nothing that is left of it."""

from __future__ import annotations

import msgspec

from kleff.case.effects.base import effect_of
from kleff.case.hands import Hands
from kleff.case.record.effect import load
from kleff.case.record.folder import Case
from kleff.engine.finding import Verification
from kleff.errors import DamagedCase


def judged(case: Case) -> Verification | None:
    """The verdict, where it was given before that; from then on nothing more is removed.

    Raises:
        DamagedCase: it cannot be read.
    """
    return verification_of(case) if case.text("judged") == "yes" else None


def release(case: Case, hands: Hands) -> None:
    """Let go of what was held while the work went on; done twice is done once."""
    for one in case.journal.effects():
        if one.state == "done":
            effect_of(one).release(one, hands)


def verification_of(case: Case) -> Verification | None:
    """What the last verification of the case found.

    Raises:
        DamagedCase: it cannot be read.
    """
    raw = case.journal.get("verification")
    try:
        return None if raw is None else load(raw, Verification)
    except (msgspec.MsgspecError, TypeError, ValueError) as error:
        raise DamagedCase(
            f"what was verified cannot be read: {error}", where=str(case.folder), remedy="restore the case folder from a copy"
        ) from None
