"""What lies around a package and is changed by scripts: settings, links of units, accounts, lists of the package manager.

No list tells what a script will do there. So all of it is kept before (small files as copies, lists as links), and what has become of
it is noted when the package manager has ended. Undo compares: what is as the removal left it, or was changed by the undo's own
installation alone, is given back as it was; what somebody has changed since stays, and is told.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import stat
from base64 import b64decode, b64encode
from collections.abc import Container, Sequence

from kleff.case.aside.area import Area
from kleff.case.aside.as_it_was import attributes_of, settle, settle_file
from kleff.case.aside.spare_index import SparedItem, Taken
from kleff.case.aside.spare_taking import kept_of
from kleff.errors import DamagedCase
from kleff.workstation.files.protocol import FileTree, Folder
from kleff.workstation.identity import packed
from kleff.workstation.paths import Look, WPath

LINKED_FROM = 1 << 20  # bytes; nothing that scripts write is as large
SWAP = "swap"
Marks = dict[str, str]  # `SparedItem.path` -> what tells that it is as it was; "" where it is gone


class Around:
    """What lies around the packages of one effect.

    Args:
        stem: the folder in each area that is the spare's.

    Attributes:
        failed: what could not be given back now, and may be by another try.
    """

    def __init__(self, files: FileTree, area: Area, stem: str) -> None:
        self._files = files
        self._area = area
        self._stem = stem
        self.failed: list[str] = []

    # -- taking -----------------------------------------------------------------------------------------------

    def take(self, copied: Sequence[WPath], linked: Sequence[WPath], alone: Sequence[WPath]) -> list[SparedItem]:
        """Keep everything at and below some places, parents first, on disk when this returns.

        Args:
            linked: whose files are never changed in place.
            alone: folders without what is in them, and links.

        Raises:
            OSError: something cannot be linked, copied or read.
        """
        kept: list[SparedItem] = []
        for places, always in ((copied, False), (linked, True)):
            for place in places:
                into = self._area.folder_for(place).child(self._stem)
                with self._files.folder(into) as to:
                    for path, look in self._files.walk(place):
                        kept.append(self._keep(path, look, into, to, f"a{len(kept):05d}", always))
                    to.flush_volume()
        for path in alone:
            there = self._files.look(path)
            if there is not None and not there.is_file:
                kept.append(self._kept(path, there))
        return kept

    def _kept(self, path: WPath, look: Look) -> SparedItem:
        kept = kept_of(path, look)
        if look.is_link:
            kept.link = self._files.read_link(path)
        elif look.is_folder:
            with self._files.folder(path) as folder:
                kept.attributes = attributes_of(folder)
                kept.sha256 = _names_of(folder)
        return kept

    def _keep(self, path: WPath, look: Look, into: WPath, to: Folder, held: str, always: bool) -> SparedItem:
        kept = self._kept(path, look)
        if look.is_file:
            kept.lies = packed(into.child(held))
            with self._files.parent(path) as (folder, name):
                if always or look.size >= LINKED_FROM:
                    folder.link(name, to, held)
                else:
                    kept.sha256 = folder.copy_file(name, to, held, look, flush=False)
                    with folder.file(name) as file:
                        kept.attributes = attributes_of(file)
        return kept

    # -- afterwards -------------------------------------------------------------------------------------------

    def changed(self, items: Sequence[SparedItem]) -> Marks:
        """What is not as it was, and how it is now."""
        return {kept.path: now for kept in items if (now := self._mark(kept)) != _mark_of(kept)}

    def _mark(self, kept: SparedItem) -> str:
        path = self._path(kept.path)
        look = self._files.look(path)
        if look is None:
            return ""
        now = kept_of(path, look)
        if look.is_link:
            now.link = self._files.read_link(path)
        return _mark_of(now)

    # -- giving back ------------------------------------------------------------------------------------------

    def give_back(self, items: Sequence[SparedItem], taken: Taken | None, begun: Marks, acted: int, by_name: Container[str]) -> list[str]:
        """Give back what the removal and the undo have changed. Done twice is done once.

        Args:
            taken: what the removal did; None if it was cut off.
            begun: what was not as before when the undo began, and how it was then.
            acted: when the package manager of a removal that was cut off last did something, in ns.
            by_name: files whose entries come back by other ways; what somebody has changed of them needs not be told.

        Returns:
            What was changed by the removal and by somebody else since, for the technician.
        """
        told: list[str] = []
        ours: set[str] = set()
        for kept in items:
            was, now = _mark_of(kept), self._mark(kept)
            if now == was:
                continue
            then = begun.get(kept.path, was)
            left = taken.around.get(kept.path, was) if taken is not None else ""
            nobody_else = then == left if taken is not None else self._is_early(then, was, acted)
            if nobody_else:
                ours.add(kept.path)
                told += self._give(kept, now)
            elif taken is not None and left not in (was, then) and kept.path not in by_name and self._lacks(kept):
                told.append(f"{self._path(kept.path)} was changed by the removal, and again since; it is left as it is")
        above = {_above(path) for path in ours}
        for kept in reversed([k for k in items if stat.S_ISDIR(k.mode)]):
            # What was given back has changed the folder's own time, also where that had been as before.
            if kept.path in ours or kept.path in above:
                self._settle_folder(kept)
        return told

    def _lacks(self, kept: SparedItem) -> bool:
        """Whether anything that a file held is missing in it now; what the package's own scripts have written again is not."""
        if stat.S_ISDIR(kept.mode):
            return False
        try:
            had, has = (set(self._files.read(path).splitlines()) for path in (self._path(kept.lies), self._path(kept.path)))
        except (OSError, DamagedCase):
            return True
        return not had <= has

    def _is_early(self, then: str, was: str, acted: int) -> bool:
        """Whether what it was when the undo began is the removal's doing: it is gone, or older than the last act of that."""
        return then == was or not is_later(then, acted)

    def _give(self, kept: SparedItem, now: str) -> list[str]:
        path = self._path(kept.path)
        try:
            if stat.S_ISDIR(kept.mode):
                if not now:
                    with self._files.parent(path) as (folder, name):
                        folder.make_folder(name)
            elif stat.S_ISLNK(kept.mode):
                self._give_link(kept, path, now)
            elif kept.lies:
                return self._give_file(kept, path, now)
        except OSError as error:
            self.failed.append(f"{path} cannot be given back as it was: {error.strerror}")
        return []

    def _give_file(self, kept: SparedItem, path: WPath, now: str) -> list[str]:
        held = self._path(kept.lies)
        look = self._files.look(path)
        if look is not None and not look.is_file:
            return [f"{path} is a {look.word} now; it is left"]
        with self._files.parent(path) as (folder, name):
            if look is not None and self._same_content(kept, look, folder, name):
                settle_file(folder, name, kept)
                return []
            there = self._files.look(held)
            if there is None or (there.size, there.times[1]) != (kept.size, kept.mtime):
                return [f"{path} cannot be given back as it was: what was kept of it has changed too"]
            with self._files.parent(held) as (aside, held_name):
                if look is None:
                    aside.rename(held_name, folder, name)
                else:
                    self._exchange(aside, held_name, folder, name, look)
            settle_file(folder, name, kept)
            folder.flush()
        return []

    def _same_content(self, kept: SparedItem, look: Look, folder: Folder, name: str) -> bool:
        return bool(kept.sha256) and look.size == kept.size and folder.sha256(name) == kept.sha256

    def _give_link(self, kept: SparedItem, path: WPath, now: str) -> None:
        with self._files.parent(path) as (folder, name):
            if not now:
                folder.make_link(name, kept.link)
            elif not now.startswith("link ") or folder.read_link(name) != kept.link:
                into = self._area.folder_for(path).child(self._stem)
                with self._files.folder(into) as aside:
                    with contextlib.suppress(FileNotFoundError):  # of a try that was cut off
                        aside.remove(SWAP)
                    aside.make_link(SWAP, kept.link)
                    self._exchange(aside, SWAP, folder, name, folder.look_at(name))
            folder.set_link(name, (kept.uid, kept.gid), (kept.atime, kept.mtime))
            folder.flush()

    def _exchange(self, aside: Folder, held: str, folder: Folder, name: str, looked: Look) -> None:
        """Let the two change places, so that at no instant there is none; another program's change in that very instant is not lost.

        Raises:
            OSError: it was replaced in between, and stands there again.
        """
        aside.exchange(held, folder, name)
        if aside.look_at(held).identity != looked.identity:
            aside.exchange(held, folder, name)
            raise FileExistsError(17, "replaced in this very instant", name)

    def _settle_folder(self, kept: SparedItem) -> None:
        """Owner, mode and times, where what it holds is what it held."""
        with contextlib.suppress(FileNotFoundError, NotADirectoryError), self._files.folder(self._path(kept.path)) as folder:
            if _names_of(folder) == kept.sha256:
                settle(folder, kept)

    def _path(self, raw: str) -> WPath:
        return self._files.from_raw(b64decode(raw))


def _mark_of(kept: SparedItem) -> str:
    rights = f"{stat.S_IMODE(kept.mode):o} {kept.uid} {kept.gid}"
    if stat.S_ISLNK(kept.mode):
        return f"link {kept.mtime} {kept.uid} {kept.gid} {kept.link}"
    if stat.S_ISDIR(kept.mode):
        return f"folder {kept.mtime} {rights}"
    return f"file {kept.mtime} {rights} {kept.size} {stat.S_IFMT(kept.mode):o}"


def is_later(mark: str, acted: int) -> bool:
    """Whether what a mark tells of was changed after a moment, in ns; of what is gone, that cannot be told."""
    return bool(mark) and int(mark.split(" ", 2)[1]) > acted


def _names_of(folder: Folder) -> str:
    """The SHA-256 of the names in a folder."""
    return hashlib.sha256(b"\0".join(sorted(map(os.fsencode, folder.names())))).hexdigest()


def _above(path: str) -> str:
    """The folder that a path is in, both as kept."""
    return b64encode(b64decode(path).rpartition(b"\0")[0]).decode()
