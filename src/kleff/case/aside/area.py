"""The set-aside area: on the volume of the thing itself, so that setting aside is one rename whatever the size."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
from base64 import b64decode, b64encode
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from itertools import chain, count

from kleff.case.aside.deleting import delete_tree
from kleff.case.guard.guard import AREA
from kleff.errors import ActionFailed
from kleff.progress import Silent
from kleff.texts import plain
from kleff.workstation.common.copying import copy_tree, delete_copied
from kleff.workstation.common.counting import PRIVILEGED
from kleff.workstation.common.files import FileTree
from kleff.workstation.common.posix import FOLDER_FLAGS, closing_fd, remove_if_empty, rename_noreplace
from kleff.workstation.paths import Look, WPath, look_of


@dataclass(frozen=True)
class Moved:
    """What the journal knows of one thing set aside.

    Attributes:
        place: where it stood.
        aside: where it lies now.
        identity: device and inode; after the rename the thing must still be this one.
        parent_times: of the folder it stood in, given back by undo.
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

    @property
    def lies_as(self) -> int:
        """The inode by which it is known again later; the device's number may be another after a restart."""
        return (self.copy or self.identity)[1]

    def data(self) -> dict[str, object]:
        return {
            "aside": b64encode(self.aside.raw).decode(),
            "identity": list(self.identity),
            "parent_times": list(self.parent_times),
            "items": self.items,
            "size": self.size,
        }


def moved_from(files: FileTree, place: bytes, data: dict[str, object]) -> Moved:
    """The inverse of `Moved.data`."""
    identity, times = data["identity"], data["parent_times"]
    assert isinstance(identity, list)
    assert isinstance(times, list)
    aside = files.from_raw(b64decode(str(data["aside"])))
    return Moved(
        files.from_raw(place), aside, (identity[0], identity[1]), (times[0], times[1]),
        int(str(data["items"])), int(str(data["size"])), copy=_pair(data.get("copy")),
    )  # fmt: skip


def _pair(value: object) -> tuple[int, int] | None:
    return (int(value[0]), int(value[1])) if isinstance(value, list | tuple) else None


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

    def plan(self, place: WPath, number: int) -> Moved:
        """Look at a thing and say where it will lie; nothing is changed.

        Raises:
            ActionFailed: there is no place for it on its volume.
            FileNotFoundError: it is gone.
        """
        look = self._files.look(place)
        if look is None:
            raise FileNotFoundError(errno.ENOENT, "gone", str(place))
        with self._files.folder(place.parent) as fd:
            times = look_of(os.fstat(fd)).times
        measure = self._files.measure(place)
        folder = self.folder_for(place)
        return Moved(place, folder.child(f"{number:04d}"), look.identity, times, measure.items, measure.size, measure.privileged)

    def folder_for(self, place: WPath) -> WPath:
        """Where on the volume of `place` this case's area is, or can be made: the topmost folder that lets us."""
        top = self._files.mount_root(place)
        if top.key not in self._chosen:
            depths = range(len(top.parts), len(place.parts))
            above = next((a for a in (WPath(place.style, place.volume, place.parts[:d]) for d in depths) if self._may_make(a)), None)
            if above is None:
                raise ActionFailed(f"no place on its volume to set {place} aside", remedy="run Kleff as administrator")
            self._chosen[top.key] = self._own(above.child(AREA))
        return self._chosen[top.key]

    def _own(self, top: WPath) -> WPath:
        """A folder of this case's own: cases that are kept in different places may have one name."""
        names = chain([self._case], (f"{self._case}-{n}" for n in count(2)))
        return next(a for a in map(top.child, names) if a.key in self._known or self._files.look(a) is None)

    def _may_make(self, above: WPath) -> bool:
        with self._files.folder(above) as fd:
            try:
                status = os.stat(AREA, dir_fd=fd, follow_symlinks=False)
            except FileNotFoundError:
                return os.access(".", os.W_OK, dir_fd=fd, effective_ids=True)
            # One that is not ours, or that others can enter, was put there by somebody else.
            return stat.S_ISDIR(status.st_mode) and status.st_uid == os.geteuid() and not stat.S_IMODE(status.st_mode) & 0o077

    def make(self, folders: set[WPath]) -> None:
        """Make areas that are journaled by now; the folder that holds them keeps its times."""
        for folder in folders:
            with self._files.folder(folder.parent.parent) as fd:
                before = look_of(os.fstat(fd))
                try:
                    _make_folder(fd, AREA)
                    with closing_fd(os.open(AREA, FOLDER_FLAGS, dir_fd=fd)) as area:
                        if os.fstat(area).st_uid != os.geteuid() or stat.S_IMODE(os.fstat(area).st_mode) & 0o077:
                            raise ActionFailed(f"{folder.parent} belongs to somebody else", remedy="look at it, and take it away")
                        _make_folder(area, folder.name)
                finally:
                    _keep_times(fd, before)

    def make_below(self, area: WPath, name: str) -> None:
        """Make a folder of our own in an area."""
        with self._files.folder(area) as fd:
            _make_folder(fd, name)

    def move(self, moved: Moved) -> None:
        """Set a thing aside by one rename, and look whether it was the right one.

        Raises:
            ActionFailed: it is another thing than the one looked at (which is put back), or the system says no.
            Layered: it must be copied instead.
        """
        with self._files.parent(moved.place) as (fd, name), self._files.folder(moved.aside.parent) as to:
            now = look_of(os.stat(name, dir_fd=fd, follow_symlinks=False))
            if now.identity != moved.identity:
                raise ActionFailed(f"{moved.place} has been replaced since it was looked at", remedy="look at it, then resume")
            _rename(fd, name, to, moved.aside.name, moved.place)
            got = look_of(os.stat(moved.aside.name, dir_fd=to, follow_symlinks=False))
            if got.identity != moved.identity:
                rename_noreplace(to, moved.aside.name, fd, name)
                raise ActionFailed(
                    f"{moved.place} was replaced in the very instant of setting it aside; put back", remedy="find out who works against you"
                )

    def copy(self, moved: Moved, told: Callable[[int, int], None]) -> tuple[int, int]:
        """Copy a folder aside, on disk and read back. Returns the identity of the copy; the original stands as before.

        Raises:
            ActionFailed: it cannot be copied; the part that was made is taken away again by `drop_copy`.
        """
        try:
            with self._files.parent(moved.place) as (fd, name), self._files.folder(moved.aside.parent) as to:
                copy_tree(fd, name, to, moved.aside.name, told)
                return look_of(os.stat(moved.aside.name, dir_fd=to, follow_symlinks=False)).identity
        except OSError as error:
            raise ActionFailed(
                f"{moved.place} cannot be moved there and not be copied: {plain(str(error.filename or ''))} {error.strerror}",
                remedy="make room, then resume",
            ) from None

    def drop_copy(self, moved: Moved) -> None:
        """Take away a copy that was not completed."""
        with contextlib.suppress(FileNotFoundError), self._files.folder(moved.aside.parent) as fd:
            delete_tree(fd, moved.aside.name, Silent())

    def delete_original(self, moved: Moved) -> list[str]:
        """Delete what has been copied aside. Done twice is done once. Returns what is left, since it is not in the copy."""
        if not self.lies_aside(moved):
            return []
        try:
            with self._files.parent(moved.place) as (fd, name), self._files.folder(moved.aside.parent) as to:
                if os.stat(name, dir_fd=fd, follow_symlinks=False).st_ino != moved.identity[1]:
                    return []
                return delete_copied(fd, name, to, moved.aside.name)
        except FileNotFoundError:
            return []

    def privileged(self, moved: Moved) -> list[tuple[tuple[str, ...], int]]:
        """Programs in what lies aside that run with their owner's rights: (names below it, mode).

        One that has a second name elsewhere is left out: its mode belongs to that name too.
        """
        base = len(moved.aside.parts)
        found = self._files.walk(moved.aside)
        return [(p.parts[base:], stat.S_IMODE(k.mode)) for p, k in found if k.is_file and k.mode & PRIVILEGED and k.links == 1]

    def set_modes(self, top: WPath, modes: list[tuple[tuple[str, ...], int]]) -> None:
        """Give files below `top` (or itself) these modes, following no link."""
        for names, mode in modes:
            flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
            with self._files.parent(top.child(*names)) as (fd, name), closing_fd(os.open(name, flags, dir_fd=fd)) as file:
                if stat.S_ISREG(os.fstat(file).st_mode):
                    os.fchmod(file, mode)

    def flush(self, paths: set[WPath]) -> None:
        """Bring the names in these folders to disk."""
        for path in paths:
            with self._files.folder(path) as fd:
                os.fsync(fd)

    def lies_aside(self, moved: Moved) -> bool:
        """Whether the thing is really in the set-aside area."""
        look = self._files.look(moved.aside)
        return look is not None and look.identity[1] == moved.lies_as

    def stands_in_place(self, moved: Moved) -> bool:
        """Whether the thing is (again) where it came from."""
        look = self._files.look(moved.place)
        return look is not None and look.identity[1] == moved.lies_as

    def put_back(self, moved: Moved) -> str:
        """Take a thing back to where it stood; never replaces anything.

        Returns:
            "" or what could not be done, for the technician; then both are left.
        """
        if self.stands_in_place(moved):  # an earlier try was cut off right here
            with self._files.folder(moved.place.parent) as to:
                os.utime(to, ns=moved.parent_times)
            return ""
        if not self.lies_aside(moved):
            return f"{moved.place}: what was set aside is no longer in {moved.aside}"
        made = self._make_parents(moved.place.parent)
        with self._files.folder(moved.aside.parent) as fd, self._files.parent(moved.place) as (to, name):
            try:
                rename_noreplace(fd, moved.aside.name, to, name)
            except FileExistsError:
                return f"{moved.place}: something else stands there now; both are left, the one set aside as {moved.aside}"
            os.fsync(to)
            os.fsync(fd)
            os.utime(to, ns=moved.parent_times)
        return f"{moved.place}: its folder was gone and has been made anew" if made else ""

    def _make_parents(self, folder: WPath) -> bool:
        made = False
        for depth in range(1, len(folder.parts) + 1):
            path = WPath(folder.style, folder.volume, folder.parts[:depth])
            with self._files.parent(path) as (fd, name):
                try:
                    os.mkdir(name, 0o755, dir_fd=fd)
                    made = True
                except FileExistsError:
                    pass
        return made

    def clear(self, areas: set[WPath]) -> None:
        """Take away the areas of this case that are empty; the folder that holds them keeps its times."""
        for area in areas:
            with contextlib.suppress(FileNotFoundError), self._files.folder(area.parent.parent) as top:
                before = look_of(os.fstat(top))
                try:
                    with closing_fd(os.open(AREA, FOLDER_FLAGS, dir_fd=top)) as fd:
                        remove_if_empty(fd, area.name)
                    remove_if_empty(top, AREA)
                finally:
                    _keep_times(top, before)


def _make_folder(fd: int, name: str) -> None:
    with contextlib.suppress(FileExistsError):
        os.mkdir(name, 0o700, dir_fd=fd)
        os.fsync(fd)


def _keep_times(fd: int, before: Look) -> None:
    if look_of(os.fstat(fd)).times != before.times:
        with contextlib.suppress(PermissionError):  # a folder that belongs to somebody else and lets everybody write
            os.utime(fd, ns=before.times)


def _rename(fd: int, name: str, to: int, to_name: str, place: WPath) -> None:
    try:
        rename_noreplace(fd, name, to, to_name)
    except FileNotFoundError:
        raise
    except OSError as error:
        if error.errno == errno.EXDEV:
            raise Layered from None
        raise ActionFailed(
            f"{place} cannot be set aside: {error.strerror}", remedy="close what uses it, or check the rights; then resume"
        ) from None
