"""Which places are the product's, as far as the procedure and its registration name them; and how names are guarded by it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

from msgspec import Meta

from kleff.case.guard.guard import Target
from kleff.case.guard.tables import LETTERS
from kleff.errors import LinkOnTheWay
from kleff.objects.base.action import KEPT, REFUSED, Action
from kleff.objects.base.here import Here
from kleff.procedure.globs import is_glob, literal_count
from kleff.texts import plural
from kleff.workstation.paths import WPath

AtMost = Annotated[int, Meta(ge=1, description="how many one pattern may match")]
AT_MOST = 50


def named_places(here: Here) -> list[WPath]:
    """What `[places]` names, without what may not be removed: that is nobody's alone, half the system runs from /usr."""
    style = here.workstation.style
    meant = [e for texts in here.procedure.places.values() for text in texts for e in here.resolver.meanings(text)]
    found = [e.literal_path(style) for e in meant if e.pattern and not e.is_glob]
    judged = ((p, here.guard.check(Target(p, len(p.parts), 9))) for p in found if p.parts)
    return [p for p, verdict in judged if verdict.ok or verdict.unseen]


def own_places(here: Here, actions: Sequence[Action]) -> list[WPath]:
    """The product's places, as far as they may be removed, and what steps delete, whether it is there or not."""
    style = here.workstation.style
    # Of a folder in which something stays, the rest is the product's.
    going = (a.path(style) for a in actions if a.phase == "delete" and (a.stays or a.state not in (KEPT, REFUSED)))
    return [*named_places(here), *(p for p in going if p is not None and p.parts)]


def where(text: str, here: Here) -> WPath | None:
    """Where a path that somebody has written down leads, links on the way followed; as it is written if it cannot be looked at."""
    path = here.workstation.files.path(text)
    try:
        return here.workstation.files.resolve(path).path if path is not None and path.parts else path
    except (OSError, LinkOnTheWay):
        return path


def pattern_objection(pattern: str) -> str:
    """Why a name with wildcards must not be used; "" if it may. A whole path names its folder too."""
    if not is_glob(pattern) or literal_count(pattern) >= LETTERS:
        return ""
    return f"a name with a wildcard must have at least {plural(LETTERS, 'letter')} besides wildcards and ending"


def width_objection(pattern: str, count: int, at_most: int) -> str:
    """Why a name means too much, that many on a workstation; "" if it does not."""
    return pattern_objection(pattern) or (f"the name matches {count}, more than at_most = {at_most}" if count > at_most else "")


def refuse(action: Action, reason: str) -> Action:
    """Make an action a refused one, if there is a reason."""
    if reason:
        action.state, action.reason, action.without_return = REFUSED, reason, False
    return action


def refuse_own(action: Action, here: Here, kind: str, names: Sequence[str]) -> Action:
    """Refuse an action that means what is the system's own."""
    return refuse(action, next((v.reason for name in names if not (v := here.guard.check_name(kind, name)).ok), ""))
