"""Conditions that every kind which can be looked for offers: something must, or must not, be there before anything is done."""

import msgspec

from kleff.objects.base.action import DONE, REFUSED, SKIPPED, UNREADABLE, Action
from kleff.objects.base.here import Here
from kleff.objects.base.kind import Looks
from kleff.procedure.loaded import LoadedStep


def plan_condition(kind: Looks, step: LoadedStep, here: Here) -> Action:
    """The action of such a step: looked at as evidence is."""
    wanted = step.model.expected
    named = msgspec.structs.asdict(step.model)[step.kind]
    action = here.action(step, "check", f"{step.kind} {named} must be {wanted}")
    found = list(kind.look(step, here))
    if any(s.unreadable for s in found):
        action.state, action.reason = UNREADABLE, found[0].what
        return action
    seen = f"{found[0].what} is there" if found else "not there"
    remedy = "install it first" if wanted == "there" else "remove it first"
    return settled(action, step, here, bool(found) == (wanted == "there"), seen, remedy)


def settled(action: Action, step: LoadedStep, here: Here, holds: bool, seen: str, remedy: str) -> Action:
    """An action of a fact with its state: holds, waived, or in the way."""
    waivable = step.model.may_be_waived
    if holds:
        action.state, action.reason = DONE, seen
    elif waivable and step.kind in here.options.waived:
        action.state, action.reason = SKIPPED, f"{seen}; waived"
    else:
        waive = f", or  --waive {step.kind}" if waivable else ""
        action.state, action.reason = REFUSED, f"{seen}: {remedy}{waive}"
    return action
