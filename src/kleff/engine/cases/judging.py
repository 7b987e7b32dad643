"""The verdict of a run, and what of the plan it lets go once more. It is given before what comes after the work."""

from __future__ import annotations

import msgspec

from kleff.case.effects.base import effect_of
from kleff.case.hands import Hands
from kleff.case.record.effect import load
from kleff.case.record.folder import Case
from kleff.engine.cases.again import about
from kleff.engine.cases.rows import Row, rows
from kleff.engine.finding import LEFT, Verification
from kleff.errors import DamagedCase
from kleff.objects.base.action import DONE, KEPT
from kleff.procedure.globs import PathStyle


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


def agreed_and_back(result: Verification, case: Case, style: PathStyle) -> list[Row]:
    """What was agreed to go and is there again, or can go now; nothing else that turns up."""
    left = {(f.kind, about(f, style), f.account) for f in result.of(LEFT) if f.phase == "delete" and f.about}
    gone = (r for r in rows(case) if r.action.phase == "delete" and (r.state == DONE or (r.state == KEPT and r.action.later)))
    return [row for row in gone if (row.action.kind, about(row.action, style), row.action.account) in left]
