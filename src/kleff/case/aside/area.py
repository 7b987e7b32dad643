"""The set-aside area: on the volume of the thing itself, so that setting aside is one rename whatever the size."""

from __future__ import annotations

import contextlib
import errno
import stat
from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from itertools import chain, count

from kleff.case.aside.deleting import delete_tree
from kleff.case.guard.guard import AREA
from kleff.errors import ActionFailed, InUse, remedy_for
from kleff.progress import Silent
from kleff.workstation.files.protocol import FileTree, Folder
from kleff.workstation.paths import PRIVILEGED, Look, WPath


@dataclass(frozen=True)
class Move:
    """One thing that is set aside, put in place or taken back.

    Attributes:
        place: where it stood.
        aside: where it lies now.
        identity: device and inode; after the rename the thing must still be this one.
        parent_times: of the folder it stood in, given back by undo; short: its short name there, which a Windows makes anew at each rename.
        copy: identity of the copy, where it could not be moved and was copied; else None.
    """

    place: WPath
    aside: WPath
    identity: tuple[int, int]
    parent_times: tuple[int, int]
    items: int
    size: int
    privileged: int = 0
    copy: tuple[int, int] | None = None
    short: str = ""

    @property
    def lies_as(self) -> int:
        """The inode by which it is known again later; the device's number may be another after a restart."""
        return (self.copy or self.identity)[1]


def names_aside(files: FileTree, place: WPath) -> Counter[tuple[int, int]]:
    """How many names of each thing lie in the set-aside areas of a volume, of this case or another: spares, which nobody else can have
    made. By identity.
    """
    top = files.mount_root(place)
    try:
        with files.folder(top) as folder:
            ours = folder.ours(AREA)
    except OSError:
        return Counter()
    return Counter(look.identity for _, look in files.walk(top.child(AREA)) if look.links > 1) if ours else Counter()


class Layered(Exception):
    """A folder that cannot be renamed, since it comes from a lower layer of its file system; it can be copied."""


class Area:
    """The set-aside areas of one case.

    Args:
        known: those it has used already; any other of its name belongs to another case that is called the same.
    """

    def __init__(self, files: FileTree, case: str, known: Iterable[WPath] = ()) -> None:
        self._files = files
        self._case = case
        self._known = {area.key for area in known}
        self._chosen: dict[tuple[str, tuple[str, ...]], WPath] = {}

    def plan(self, place: WPath, number: int) -> Move:
        """Look at a thing and say where it will lie; nothing is changed.

        Raises:
            ActionFailed: there is no place for it on its volume.
            FileNotFoundError: it is gone.
        """
        look = self._files.look(place)
        if look is None:
            raise FileNotFoundError(errno.ENOENT, "gone", str(place))
        with self._files.folder(place.parent) as folder:
            times, short = folder.look().times, folder.short_name(place.name) if place.style.folded else ""
        measure = self._files.measure(place)
        aside = self.folder_for(place).child(f"{number:04d}")
        return Move(place, aside, look.identity, times, measure.items, measure.size, measure.privileged, short=short)

    def folder_for(self, place: WPath) -> WPath:
        """Where on the volume of `place` this case's area is, or can be made: the topmost folder that lets us."""
        top = self._files.mount_root(place)
        if top.key not in self._chosen:
            depths = range(len(top.parts), len(place.parts))
            above = next((a for a in (WPath(place.style, place.volume, place.parts[:d]) for d in depths) if self._may_make(a)), None)
            if above is None:
                raise ActionFailed(
                    f"no folder of its volume can be written to, to set {place} aside",
                    remedy="see whether the volume is mounted read-only; else run Kleff as administrator",
                )
            self._chosen[top.key] = self._own(above.child(AREA))
        return self._chosen[top.key]

    def _own(self, top: WPath) -> WPath:
        """A folder of this case's own: cases that are kept in different places may have one name."""
        names = chain([self._case], (f"{self._case}-{n}" for n in count(2)))
        return next(a for a in map(top.child, names) if a.key in self._known or self._files.look(a) is None)

    def _may_make(self, above: WPath) -> bool:
        with self._files.folder(above) as folder:
            try:
                return folder.ours(AREA)  # one that is not was put there by somebody else
            except FileNotFoundError:
                return folder.may_change()

    def make(self, folders: set[WPath]) -> None:
        """Make areas that are journaled by now; the folder that holds them keeps its times."""
        for path in folders:
            with self._files.folder(path.parent.parent) as top:
                before = top.look()
                try:
                    _make_folder(top, AREA)
                    with top.folder(AREA) as area:
                        if not top.ours(AREA) or top.look_at(AREA).identity != area.look().identity:
                            raise ActionFailed(f"{path.parent} belongs to somebody else", remedy="look at it, and take it away")
                        _make_folder(area, path.name)
                finally:
                    _keep_times(top, before)

    def make_below(self, area: WPath, name: str) -> None:
        """Make a folder of our own in an area."""
        with self._files.folder(area) as folder:
            _make_folder(folder, name)

    def move(self, moved: Move) -> None:
        """Set a thing aside by one rename, and look whether it was the right one.

        Raises:
            ActionFailed: it is another thing than the one looked at (which is put back), or the system says no.
            Layered: it must be copied instead.
        """
        with self._files.parent(moved.place) as (folder, name), self._files.folder(moved.aside.parent) as to:
            now = folder.look_at(name)
            if now.identity != moved.identity:
                raise ActionFailed(f"{moved.place} has been replaced since it was looked at", remedy="look at it, then resume")
            _rename(folder, name, to, moved.aside.name, moved.place)
            got = to.look_at(moved.aside.name)
            if got.identity != moved.identity:
                to.rename(moved.aside.name, folder, name)
                raise ActionFailed(
                    f"{moved.place} was replaced in the very instant of setting it aside; put back", remedy="find out who works against you"
                )

    def copy(self, moved: Move, told: Callable[[int, int], None]) -> tuple[int, int]:
        """Copy a folder aside, on disk and read back. Returns the identity of the copy; the original stands as before.

        Raises:
            ActionFailed: it cannot be copied; the part that was made is taken away again by `drop_copy`.
        """
        try:
            with self._files.parent(moved.place) as (folder, name), self._files.folder(moved.aside.parent) as to:
                folder.copy_tree(name, to, moved.aside.name, told)
                return to.look_at(moved.aside.name).identity
        except OSError as error:
            raise ActionFailed(
                f"{moved.place} cannot be moved there and not be copied: {error.filename or ''} {error.strerror}",
                remedy="make room, then resume",
            ) from None

    def drop_copy(self, moved: Move) -> None:
        """Take away a copy that was not completed."""
        with contextlib.suppress(FileNotFoundError), self._files.folder(moved.aside.parent) as folder:
            delete_tree(folder, moved.aside.name, Silent())

    def delete_original(self, moved: Move) -> list[str]:
        """Delete what has been copied aside. Done twice is done once. Returns what is left, since it is not in the copy."""
        if not self.lies_aside(moved):
            return []
        try:
            with self._files.parent(moved.place) as (folder, name), self._files.folder(moved.aside.parent) as to:
                if folder.look_at(name).identity[1] != moved.identity[1]:
                    return []
                return folder.delete_copied(name, to, moved.aside.name)
        except FileNotFoundError:
            return []

    def privileged(self, moved: Move) -> list[tuple[tuple[str, ...], int]]:
        """Programs in what lies aside that run with their owner's rights: (names below it, mode).

        One that has a second name elsewhere is left out: its mode belongs to that name too.
        """
        base = len(moved.aside.parts)
        found = self._files.walk(moved.aside)
        return [(p.parts[base:], stat.S_IMODE(k.mode)) for p, k in found if k.is_file and k.mode & PRIVILEGED and k.links == 1]

    def set_modes(self, top: WPath, modes: list[tuple[tuple[str, ...], int]]) -> None:
        """Give files below `top` (or itself) these modes, following no link."""
        for names, mode in modes:
            with self._files.parent(top.child(*names)) as (folder, name), folder.file(name) as file:
                if file.look().is_file:
                    file.set_mode(mode)

    def flush(self, paths: set[WPath]) -> None:
        """Bring the names in these folders to disk."""
        for path in paths:
            with self._files.folder(path) as folder:
                folder.flush()

    def lies_aside(self, moved: Move) -> bool:
        """Whether the thing is really in the set-aside area."""
        look = self._files.look(moved.aside)
        return look is not None and look.identity[1] == moved.lies_as

    def stands_in_place(self, moved: Move) -> bool:
        """Whether the thing is (again) where it came from."""
        look = self._files.look(moved.place)
        return look is not None and look.identity[1] == moved.lies_as

    def put_back(self, moved: Move) -> str:
        """Take a thing back to where it stood; never replaces anything.

        Returns:
            "" or what could not be done, for the technician; then both are left.
        """
        if self.stands_in_place(moved):  # an earlier try was cut off right here
            with self._files.folder(moved.place.parent) as to:
                to.set_times(moved.parent_times)
            return ""
        if not self.lies_aside(moved):
            return f"{moved.place}: what was set aside is no longer in {moved.aside}"
        made = self._make_parents(moved.place.parent)
        with self._files.folder(moved.aside.parent) as folder, self._files.parent(moved.place) as (to, name):
            try:
                folder.rename(moved.aside.name, to, name)
            except FileExistsError:
                return f"{moved.place}: something else stands there now; both are left, the one set aside as {moved.aside}"
            to.flush()
            folder.flush()
            to.set_times(moved.parent_times)
        return f"{moved.place}: its folder was gone and has been made anew" if made else ""

    def _make_parents(self, folder: WPath) -> bool:
        made = False
        for depth in range(1, len(folder.parts) + 1):
            path = WPath(folder.style, folder.volume, folder.parts[:depth])
            with self._files.parent(path) as (above, name), contextlib.suppress(FileExistsError):
                above.make_folder(name, 0o755)
                made = True
        return made

    def clear(self, areas: set[WPath]) -> None:
        """Take away the areas of this case that are empty; the folder that holds them keeps its times."""
        for area in areas:
            with contextlib.suppress(FileNotFoundError), self._files.folder(area.parent.parent) as top:
                before = top.look()
                try:
                    with top.folder(AREA) as own:
                        own.remove_if_empty(area.name)
                    top.remove_if_empty(AREA)
                finally:
                    _keep_times(top, before)


def _make_folder(folder: Folder, name: str) -> None:
    with contextlib.suppress(FileExistsError):
        folder.make_folder(name)
        folder.flush()


def _keep_times(folder: Folder, before: Look) -> None:
    if folder.look().times != before.times:
        with contextlib.suppress(PermissionError):  # a folder that belongs to somebody else and lets everybody write
            folder.set_times(before.times)


def _rename(folder: Folder, name: str, to: Folder, to_name: str, place: WPath) -> None:
    try:
        folder.rename(name, to, to_name)
    except FileNotFoundError:
        raise
    except OSError as error:
        if error.errno == errno.EXDEV:
            raise Layered from None
        of_folder = error.errno == errno.EACCES and folder.look_at(name).is_folder  # Windows says that it may not be
        if place.style.folded and (error.errno == errno.EBUSY or of_folder):
            raise InUse(f"{place} cannot be set aside: a program has it open", remedy="close what uses it; then resume") from None
        raise ActionFailed(f"{place} cannot be set aside: {error.strerror}", remedy=remedy_for(error)) from None
