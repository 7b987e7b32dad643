"""Putting things in place: prepared whole in the set-aside area of the volume, then moved to where they belong by one rename.

Nobody but an administrator can enter the area; what is moved into place is complete, and nothing that stands there is ever
replaced. Taken back is only what is still as it was put there.
"""

from __future__ import annotations

import contextlib
import hashlib
from base64 import b64decode, b64encode
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, ClassVar

from msgspec import Meta, field

from kleff.case.aside.area import Move
from kleff.case.aside.deleting import delete_tree
from kleff.case.effects.base import UNDONE, Effect, TakenBack, stays
from kleff.case.effects.moved import BATCH
from kleff.case.hands import Hands
from kleff.case.record.effect import Base64, Count, Journaled, Number, Sha256, Time
from kleff.errors import ActionFailed
from kleff.progress import Silent
from kleff.workstation.files.protocol import FileTree, Owner
from kleff.workstation.paths import Look, WPath


class Prepared(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """What an action prepares in set-aside areas, by the beginning of its names; thrown away if it is cut off."""

    kind: ClassVar[str] = "prepared"

    areas_: list[Base64] = field(name="areas")
    prefix: Annotated[str, Meta(pattern=r"^[0-9]{4,}-new\.$")]

    def areas(self, place: bytes, files: FileTree) -> list[WPath]:
        return [files.from_raw(b64decode(area)) for area in self.areas_]

    def happened(self, one: Journaled, hands: Hands) -> bool:
        """The action prepares it anew."""
        self.drop(hands)
        return False

    def drop(self, hands: Hands) -> None:
        """Delete what was prepared and not put in place."""
        files = hands.workstation.files
        for area in self.areas(b"", files):
            for name in files.names(area):
                if name.startswith(self.prefix):
                    with files.folder(area) as folder:
                        delete_tree(folder, name, Silent())


class Placed(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """A thing that was put where nothing stood.

    Attributes:
        aside: where it was prepared.
        digest: tells whether it is still as it was put there.
        taken: it was taken back, and only has to be deleted.
    """

    kind: ClassVar[str] = "put in place"

    aside_: Base64 = field(name="aside")
    identity: tuple[Number, Number]
    parent_times: tuple[Time, Time]
    items: Count
    size: Count
    digest: Sha256
    taken: bool = False

    def move(self, one: Journaled, files: FileTree) -> Move:
        """What the set-aside area works with."""
        aside = files.from_raw(b64decode(self.aside_))
        return Move(files.from_raw(one.place), aside, self.identity, self.parent_times, self.items, self.size)

    def areas(self, place: bytes, files: FileTree) -> list[WPath]:
        return [files.from_raw(b64decode(self.aside_)).parent]

    def happened(self, one: Journaled, hands: Hands) -> bool:
        return hands.area.stands_in_place(self.move(one, hands.workstation.files))

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        """It is moved to the area first and looked at again there, where nobody can change it any more; only then it is deleted."""
        bag = hands.case.text("bag_folder")
        if bag and not (Path(bag) / "bagit.txt").is_file():
            return stays(f"what was put back is left: its bag {bag} is not there, and it may be the only copy")
        files = hands.workstation.files
        move = self.move(one, files)
        back = move.aside.parent.child(f"{one.id:04d}-back")
        if files.look(back) is None and not self.taken:
            if not hands.area.stands_in_place(move):
                gone = files.look(move.place) is None
                return (
                    TakenBack("undone", f"{move.place}: was gone already")
                    if gone
                    else stays(f"{move.place}: is something else by now; left")
                )
            if digest(files, move.place) != self.digest:
                return stays(_changed(move))
            hands.area.make({move.aside.parent})
            _rename(files, move.place, back)
        if not self.taken:
            look = files.look(back)
            if look is None or look.identity[1] != move.lies_as or digest(files, back) != self.digest:
                _rename(files, back, move.place)
                return stays(_changed(move))
            hands.amend(one, taken=True)
        with contextlib.suppress(FileNotFoundError), files.folder(move.place.parent) as folder:
            folder.set_times(move.parent_times)
        with files.folder(back.parent) as folder:
            delete_tree(folder, back.name, Silent())
        return UNDONE

    def again(self, one: Journaled) -> bool:
        return True

    def weight(self) -> int:
        return self.items


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
        self._prefix = f"{action:04d}-new."
        self._one: Journaled | None = None

    def begin(self, places: list[WPath]) -> None:
        """Make the areas that these places need; journaled first."""
        areas = {self._hands.area.folder_for(place) for place in places}
        effect = Prepared(areas_=sorted(b64encode(a.raw).decode() for a in areas), prefix=self._prefix)
        self._one = self._hands.intend(self._action, effect)
        effect.drop(self._hands)  # left by a try that was cut off
        self._hands.area.make(areas)

    def room(self, place: WPath) -> WPath:
        """Where something that goes to `place` is prepared."""
        self._count += 1
        return self._hands.area.folder_for(place).child(f"{self._prefix}{self._count}")

    def copy_in(self, source: WPath, room: WPath, name: str, look: Look, owner: Owner, account: str) -> str:
        """A copy of a file into a folder that is prepared, as somebody's own; returns its SHA-256."""
        files = self._hands.workstation.files
        with files.parent(source) as (folder, old), files.folder(room) as to:
            sha256 = folder.copy_file(old, to, name, look)
            if owner:
                to.set_link(name, owner, look.times)
            with to.file(name) as made:
                made.give_to(account)
        return sha256

    def write_in(self, room: WPath, name: str, data: bytes, owner: Owner, account: str) -> None:
        """A new file in a folder that is prepared, as somebody's own, and all of the folder on the disk."""
        with self._hands.workstation.files.folder(room) as folder:
            file = folder.create(name)
            try:
                file.write(data)
                if owner:
                    file.set_owner(*owner)
                file.set_mode(0o644)
                file.give_to(account)
                file.flush()
            finally:
                file.close()
            folder.flush()

    def end(self) -> None:
        """Nothing lies ready any more."""
        if self._one is not None:
            assert isinstance(self._one.effect, Prepared)
            self._one.effect.drop(self._hands)
            self._hands.case.journal.mark([self._one.id], "void")


def put_in_place(hands: Hands, action: int, ready: list[Ready]) -> None:
    """Move what lies ready to where it belongs; `BATCH` of them share a flush.

    Raises:
        ActionFailed: something stands there, or the system says no; what was put in place before it is journaled.
    """
    for start in range(0, len(ready), BATCH):
        moves = [_planned(hands.workstation.files, one) for one in ready[start : start + BATCH]]
        intents = hands.case.journal.intend([(action, effect, move.place.raw) for move, effect in moves])
        done: list[tuple[Journaled, Move]] = []
        try:
            for one, (move, _) in zip(intents, moves, strict=True):
                _into_place(hands, move)
                done.append((one, move))
        finally:
            folders = {m.place.parent for _, m in done} | {m.aside.parent for _, m in done}
            hands.area.flush({f for f in folders if hands.workstation.files.look(f) is not None})
            hands.case.journal.mark([one.id for one, _ in done], "done")


def _planned(files: FileTree, ready: Ready) -> tuple[Move, Placed]:
    look = files.look(ready.staged)
    if look is None:
        raise ActionFailed(f"{ready.place} was prepared and is gone", remedy="resume")
    with files.folder(ready.place.parent) as folder:
        times = folder.look().times
    measure = files.measure(ready.staged)
    move = Move(ready.place, ready.staged, look.identity, times, measure.items, measure.size)
    return move, Placed(
        aside_=b64encode(ready.staged.raw).decode(), identity=look.identity, parent_times=times, items=measure.items,
        size=measure.size, digest=digest(files, ready.staged),
    )  # fmt: skip


def _into_place(hands: Hands, move: Move) -> None:
    files = hands.workstation.files
    try:
        with files.folder(move.aside.parent) as folder, files.parent(move.place) as (to, name):
            folder.rename(move.aside.name, to, name)
    except FileExistsError:
        raise ActionFailed(
            f"{move.place} has appeared a moment ago; it stays, nothing was put there", remedy="look at it; then resume"
        ) from None
    except OSError as error:
        raise ActionFailed(f"{move.place} cannot be put in place: {error.strerror}", remedy="look at it; then resume") from None


def digest(files: FileTree, top: WPath) -> str:
    """What tells whether a thing is still as it was put in place: names, kinds, sizes and modification times; of folders the names."""
    sha256 = hashlib.sha256()
    for path, look in files.walk(top):
        names = "\0".join(path.parts[len(top.parts) :])
        told = f"{look.mode:o} {look.size} {look.times[1]}" if look.is_file else f"{look.mode:o}"
        sha256.update(f"{names}\n{told}\n".encode("utf-8", "surrogateescape"))
    return sha256.hexdigest()


def _gone(move: Move) -> TakenBack:
    return TakenBack("undone", f"{move.place}: was gone already")


def _changed(move: Move) -> str:
    return f"{move.place}: has changed since it was put there; left as it is"


def _rename(files: FileTree, place: WPath, to_place: WPath) -> None:
    with files.parent(place) as (folder, name), files.parent(to_place) as (to, to_name):
        folder.rename(name, to, to_name)
        to.flush()
        folder.flush()
