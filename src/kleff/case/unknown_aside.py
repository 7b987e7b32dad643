"""What lies in a case's own areas and is in no journal: entries that a volume has lost."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from kleff.case.effects.base import effect_of
from kleff.case.guard.guard import AREA
from kleff.case.hands import Hands
from kleff.case.record.effect import ASIDE
from kleff.workstation.paths import WPath


def unknown_aside(hands: Hands) -> list[str]:
    """Each thing that is there and that no effect accounts for, for the technician."""
    files = hands.workstation.files
    known = {area.key for area in _accounted(hands)}
    found: list[str] = []
    for area in _areas(hands):
        for name in files.names(area):
            path = area.child(name)
            if path.key not in known:
                found.append(f"{path} still lies aside, and the journal does not know any more where it came from; look at it by hand")
    return found


def _areas(hands: Hands) -> list[WPath]:
    """Those that are journaled; where none is, those of this case's name on the volumes of what the plan was about."""
    journaled = hands.areas()
    if journaled:
        return sorted(journaled, key=lambda area: area.key)
    files, case = hands.workstation.files, hands.case
    found: dict[object, WPath] = {}
    for raw in {raw for number, *_ in case.journal.actions() for raw in case.journal.paths_of(number)}:
        with contextlib.suppress(OSError):
            area = files.mount_root(files.from_raw(raw)).child(AREA).child(case.id)
            found[area.key] = area
    return [area for area in found.values() if files.look(area) is not None]


def _accounted(hands: Hands) -> Iterator[WPath]:
    """What effects have there still: what could not be taken back, what stays aside since the original is back, spares of those."""
    for one in hands.case.journal.effects():
        effect = effect_of(one)
        if one.state in ASIDE and (lies := effect.lies_at(one, hands)) is not None:
            yield lies
        if one.state in ASIDE:
            yield from effect.spares(one, hands)
