"""Whether there is room for what a run itself needs; a full volume is often the very reason to remove something."""

from __future__ import annotations

import contextlib
import errno
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from kleff.case.record import reserve
from kleff.case.record.trust import standing
from kleff.engine.plan import REMOVING, Plan
from kleff.errors import ActionFailed, KleffError, LinkOnTheWay, Refused, Unflushed, remedy_for
from kleff.objects.base.action import TO_DO, Action
from kleff.objects.base.here import Here
from kleff.texts import plural, size
from kleff.workstation.paths import Space
from kleff.workstation.this_machine import host

if TYPE_CHECKING:
    from kleff.case.hands import Hands

BLOCK = 4096  # bytes that a new folder takes, on common file systems
LISTED = 100  # names that find room in a folder of that size
AREA_FOLDERS = 2
NO_ROOM = (errno.ENOSPC, errno.EDQUOT)


@dataclass
class Need:
    """What a volume must have free.

    Attributes:
        where: for people; space: what it has; back: bytes that a discard of this run gives back there;
            cases: the case is to lie there.
    """

    where: str
    space: Space
    size: int = 0
    names: int = 0
    back: int = 0
    cases: bool = False


def lacking(here: Here, plan: Plan, cases: Path) -> list[str]:
    """What is too full for a run to begin, each with what to free."""
    needs = _needs(here, plan, cases)
    found = []
    for volume, need in needs.items():
        free, names = need.space.free, need.space.names
        has, wants = [], []
        if free < need.size:
            has, wants = [f"{size(free)} free"], [size(need.size)]
        if names is not None and names < need.names:
            has, wants = [*has, f"room for {plural(names, 'new file')}"], [*wants, plural(need.names, "new file")]
        if not has:
            continue
        other = ", or name another folder with --cases" if need.cases else ""
        later = f"; discarding this case later gives back {size(need.back)} there" if need.back else ""
        what = f"the volume of {need.where} has {' and '.join(has)}; the run itself needs {' and '.join(wants)}"
        found.append(f"not ready: {what}: free that first{other}{later}")
        found += _earlier(here, cases, volume)
    return found


def _needs(here: Here, plan: Plan, cases: Path) -> dict[int, Need]:
    files = here.workstation.files
    needs: dict[int, Need] = {}
    going = [a for a in plan.actions if a.state == TO_DO]
    for action in (a for a in going if a.phase in REMOVING):
        path = action.path(files.style)
        if path is None or files.look(path) is None:
            continue
        space = files.space(path.parent)
        need = needs.setdefault(space.volume, Need(str(files.mount_root(path)), space, 0, AREA_FOLDERS))
        need.size += BLOCK // LISTED
        need.back += action.size
    for need in needs.values():
        need.size = AREA_FOLDERS * BLOCK + -(-need.size // BLOCK) * BLOCK
    if going:
        above = standing(cases)
        space = host().space(above)
        need = needs.setdefault(space.volume, Need(str(above), space))
        need.cases = True
        need.size += reserve.needed(len(going)) + reserve.FILES * BLOCK
        need.names += reserve.FILES + sum(2 for a in going if a.phase in ("stop", *REMOVING) and a.path(files.style) is None)
    return needs


def _earlier(here: Here, cases: Path, volume: int) -> Iterator[str]:
    """Cases that hold something on the volume: what a discard of each gives back."""
    from kleff.case.effects.base import effect_of
    from kleff.case.record.effect import ASIDE
    from kleff.case.record.folder import all_cases, open_case

    files = here.workstation.files
    for folder in all_cases(cases):
        with contextlib.suppress(KleffError, OSError), open_case(folder) as case:
            if case.state != "finished" or case.text("identity") != here.workstation.identity:
                continue
            held = 0
            for one in case.journal.effects():
                aside = effect_of(one).aside() if one.state in ASIDE else None
                areas = [a for a in one.effect.areas(one.place, files) if files.look(a) is not None] if aside else []
                held += aside.size if aside and areas and files.space(areas[0]).volume == volume else 0
            if held:
                yield f"           kleff discard {folder}  gives back {size(held)} there now"


def make_room(hands: Hands, actions: list[Action]) -> None:
    """Make what the run itself needs, before anything is done. What goes wrong for another reason than room is told by the step it hits.

    Raises:
        Refused: there is no room; nothing was changed.
    """
    files = hands.workstation.files
    folders = set()
    for action in (a for a in actions if a.state == TO_DO and a.phase in REMOVING):
        path = action.path(files.style)
        with contextlib.suppress(ActionFailed, LinkOnTheWay, OSError):
            if path is not None and files.look(path) is not None:
                folders.add(hands.area.folder_for(path))
    try:
        reserve.make(hands.case.folder, len(actions))
        hands.keep_areas(folders)
        for folder in folders:
            with contextlib.suppress(ActionFailed):
                hands.area.make({folder})
    except Unflushed:
        hands.area.clear(hands.areas())
        raise
    except OSError as error:
        if error.errno in NO_ROOM:
            hands.area.clear(hands.areas())
            where = str(error.filename or hands.case.folder.parent)
            what = f"there is no room for what the run itself needs: {error.strerror}"
            raise Refused(what, where=where, remedy=remedy_for(error, "run again")) from None
