"""What a purge takes along, in one shape for packages of the system, of Python and of flatpak.

What needs the thing that goes would not work any more: it goes too where the step allows it, or refuses the purge. What was brought in
for it, and nothing needs then, is an action of its own, which is done only if somebody says so.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TypeVar

from kleff.objects.base.action import REFUSED, Action
from kleff.objects.base.own import refuse
from kleff.procedure.globs import name_matches

CAME_ALONG = "came along"
NOT_SAID = 'nothing says that they go:  came_along = "these"'
T = TypeVar("T")


def allowed_by(patterns: Sequence[str], needing: Sequence[T], name: Callable[[T], str], folded: bool = True) -> tuple[list[T], list[T]]:
    """Of what needs the thing that goes: what is let go with it, and what is not."""
    with_it = [one for one in needing if any(name_matches(pattern, name(one), folded) for pattern in patterns)]
    return with_it, [one for one in needing if one not in with_it]


def refuse_for(action: Action, left: Sequence[str], need: str) -> Action:
    """A purge that others would not survive. Args: need: what one of them does, e.g. "needs it"; of several, without its s."""
    if left and action.state != REFUSED:
        does = need if len(left) == 1 else need.replace("s ", " ", 1)
        refuse(action, f"{', '.join(left)} {does} and would go too; let them go:  allows = [...]")
    return action


def goes_too(action: Action, names: Sequence[str]) -> None:
    """Told in the preview."""
    if names:
        action.shows.append(f"would not work any more, and goes too: {', '.join(names)}")


def came_along(action: Action, said: bool, of: str = "it") -> Action:
    """An action about what came along; it is kept where nobody says that it goes."""
    action.label, action.because = action.label or CAME_ALONG, f"it came along with {of}, and nothing needs it then"
    if not said:
        action.keep(NOT_SAID)
    return action
