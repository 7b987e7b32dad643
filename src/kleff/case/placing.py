"""Putting things in place: prepared whole in the set-aside area of the volume, then moved to where they belong by one rename.

Nobody but an administrator can enter the area; what is moved into place is complete, and nothing that stands there is ever
replaced. The inverse takes away only what is still as it was put there.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
from base64 import b64decode, b64encode
from dataclasses import dataclass

from kleff.case.aside.area import Moved, moved_from
from kleff.case.aside.deleting import delete_tree
from kleff.case.effect_names import PLACED, STAGED
from kleff.case.effects import BATCH, Hands
from kleff.case.record.journal import Effect
from kleff.errors import ActionFailed
from kleff.progress import Silent
from kleff.texts import plain
from kleff.workstation.common.files import FileTree
from kleff.workstation.common.posix import rename_noreplace
from kleff.workstation.paths import WPath, look_of


@dataclass(frozen=True)
class Ready:
    """A thing that lies ready in the area: where it goes, and where it lies."""

    place: WPath
    staged: WPath


class Staging:
    """What an action prepares. It is thrown away whole if the action is cut off before its first rename.

    Args:
        action: its number.
    """

    def __init__(self, hands: Hands, action: int) -> None:
        self._hands = hands
        self._action = action
        self._count = 0
        self._effect: Effect | None = None

    def begin(self, places: list[WPath]) -> None:
        """Make the areas that these places need; journaled first."""
        areas = {self._hands.area.folder_for(place) for place in places}
        data = {"areas": sorted(b64encode(a.raw).decode() for a in areas), "prefix": self._prefix}
        self._effect = self._hands.intend(self._action, STAGED, data)
        drop_staged(self._hands, self._effect)  # of a try that was cut off
        self._hands.area.make(areas)

    @property
    def _prefix(self) -> str:
        return f"{self._action:04d}-new."

    def room(self, place: WPath) -> WPath:
        """Where something that goes to `place` is prepared."""
        self._count += 1
        return self._hands.area.folder_for(place).child(f"{self._prefix}{self._count}")

    def end(self) -> None:
        """Nothing lies ready any more."""
        if self._effect is not None:
            drop_staged(self._hands, self._effect)
            self._hands.case.journal.mark([self._effect.id], "void")


def drop_staged(hands: Hands, effect: Effect) -> None:
    """Delete what an action has prepared and not put in place."""
    for text in effect.data["areas"]:
        area = hands.workstation.files.from_raw(b64decode(text))
        for name in hands.workstation.files.names(area):
            if name.startswith(str(effect.data["prefix"])):
                with hands.workstation.files.folder(area) as fd:
                    delete_tree(fd, name, Silent())


def put_in_place(hands: Hands, action: int, ready: list[Ready]) -> None:
    """Move what lies ready to where it belongs; `BATCH` of them share a flush.

    Raises:
        ActionFailed: something stands there, or the system says no; what was put in place before it is journaled.
    """
    for start in range(0, len(ready), BATCH):
        batch = ready[start : start + BATCH]
        first = hands.case.journal.next_effect()
        moves = [_planned(hands.workstation.files, one) for one in batch]
        intents = [Effect(first + n, action, PLACED, m.place.raw, data, "intended") for n, (m, data) in enumerate(moves)]
        hands.case.journal.intend(intents)
        done: list[int] = []
        try:
            for number, (moved, _) in enumerate(moves, first):
                _into_place(hands, moved)
                done.append(number)
        finally:
            placed = [m for n, (m, _) in enumerate(moves, first) if n in done]
            folders = {m.place.parent for m in placed} | {m.aside.parent for m in placed}
            hands.area.flush({f for f in folders if hands.workstation.files.look(f) is not None})
            hands.case.journal.mark(done, "done")


def _planned(files: FileTree, ready: Ready) -> tuple[Moved, dict[str, object]]:
    look = files.look(ready.staged)
    if look is None:
        raise ActionFailed(f"{ready.place} was prepared and is gone", remedy="resume")
    with files.folder(ready.place.parent) as fd:
        times = look_of(os.fstat(fd)).times
    measure = files.measure(ready.staged)
    moved = Moved(ready.place, ready.staged, look.identity, times, measure.items, measure.size)
    return moved, {**moved.data(), "digest": digest(files, ready.staged)}


def _into_place(hands: Hands, moved: Moved) -> None:
    files = hands.workstation.files
    try:
        with files.folder(moved.aside.parent) as fd, files.parent(moved.place) as (to, name):
            rename_noreplace(fd, moved.aside.name, to, name)
    except FileExistsError:
        raise ActionFailed(
            f"{plain(str(moved.place))} has appeared a moment ago; it stays, nothing was put there", remedy="look at it; then resume"
        ) from None
    except OSError as error:
        raise ActionFailed(
            f"{plain(str(moved.place))} cannot be put in place: {error.strerror}", remedy="look at it; then resume"
        ) from None


def digest(files: FileTree, top: WPath) -> str:
    """What tells whether a thing is still as it was put in place: names, kinds, sizes and modification times; of folders the names."""
    sha256 = hashlib.sha256()
    for path, look in files.walk(top):
        names = "\0".join(path.parts[len(top.parts) :])
        told = f"{look.mode:o} {look.size} {look.times[1]}" if look.is_file else f"{look.mode:o}"
        sha256.update(f"{names}\n{told}\n".encode("utf-8", "surrogateescape"))
    return sha256.hexdigest()


def is_in_place(hands: Hands, effect: Effect) -> bool:
    """Whether an intended rename has happened."""
    return hands.area.stands_in_place(moved_from(hands.workstation.files, effect.place, effect.data))


def take_away(hands: Hands, effect: Effect) -> tuple[str, str]:
    """The inverse: what was put in place goes, if it is still as it was put there. Returns the effect's new state and a note.

    It is moved to the area first and looked at again there, where nobody can change it any more; only then it is deleted.
    """
    files = hands.workstation.files
    moved = moved_from(files, effect.place, effect.data)
    back = moved.aside.parent.child(f"{effect.id:04d}-back")
    if files.look(back) is None and not effect.data.get("taken"):
        if not hands.area.stands_in_place(moved):
            gone = files.look(moved.place) is None
            return ("undone", f"{moved.place}: was gone already") if gone else ("stays", f"{moved.place}: is something else by now; left")
        if digest(files, moved.place) != effect.data["digest"]:
            return "stays", _changed(moved)
        hands.area.make({moved.aside.parent})
        _rename(files, moved.place, back)
    if not effect.data.get("taken"):
        look = files.look(back)
        if look is None or look.identity[1] != moved.lies_as or digest(files, back) != effect.data["digest"]:
            _rename(files, back, moved.place)
            return "stays", _changed(moved)
        hands.case.journal.amend(effect, taken=True)
    with contextlib.suppress(FileNotFoundError), files.folder(moved.place.parent) as fd:
        os.utime(fd, ns=moved.parent_times)
    with files.folder(back.parent) as fd:
        delete_tree(fd, back.name, Silent())
    return "undone", ""


def _changed(moved: Moved) -> str:
    return f"{moved.place}: has changed since it was put there; left as it is"


def _rename(files: FileTree, place: WPath, to_place: WPath) -> None:
    with files.parent(place) as (fd, name), files.parent(to_place) as (to, to_name):
        rename_noreplace(fd, name, to, to_name)
        os.fsync(to)
        os.fsync(fd)
