"""Taking a spare: large files as hard links in the set-aside area (no space, near instant), small ones as copies, since those are what
is changed or wiped in place.

A program with special rights is copied too: whoever removes it takes these rights from the file itself before its name, and a second
name of it would lose them along (dpkg sets such a file to 0600 before it unlinks it, and so should every careful program).
"""

from __future__ import annotations

import contextlib
import stat
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass

from kleff.case.aside.area import Area
from kleff.case.aside.as_it_was import CAPABILITIES, attributes_of
from kleff.case.aside.spare_index import SparedItem
from kleff.case.aside.spare_plan import COPIED_UP_TO, SparePlan
from kleff.workstation.files.protocol import FileTree, Folder
from kleff.workstation.identity import packed
from kleff.workstation.paths import PRIVILEGED, Look, WPath
from kleff.workstation.short_names import fits


@dataclass
class _First:
    """A file with several names: what its first one is called in the spare."""

    held: str
    attributes: dict[str, str]


class Taking:
    """The files of one spare in the making.

    Args:
        stem: the folder in each area that is the spare's.
    """

    def __init__(self, files: FileTree, area: Area, plan: SparePlan, stem: str) -> None:
        self._files = files
        self._area = area
        self._plan = plan
        self._stem = stem
        self._first: dict[tuple[int, int], _First] = {}
        self._names: Counter[tuple[int, int]] | None = None

    def things(self) -> list[SparedItem]:
        """Keep everything of the plan, parents first.

        Raises:
            OSError, ActionFailed: something cannot be linked, copied or read.
        """
        kept: list[SparedItem] = []
        for place, path, look in self._found():
            into = self._area.folder_for(place).child(self._stem)
            kept.append(self._keep(path, look, into, f"{len(kept):06d}"))
        return kept

    def above(self) -> list[SparedItem]:
        """The folders that hold the places, for their times."""
        parents = {p.parent.key: p.parent for p in (*self._plan.singles, *self._plan.places)}
        return [kept_of(p, look) for p in parents.values() if (look := self._files.look(p))]

    def _found(self) -> Iterator[tuple[WPath, WPath, Look]]:
        """(place it belongs to, path, look) of everything, parents first."""
        for single in sorted(self._plan.singles, key=lambda p: p.parts):
            look = self._files.look(single)
            if look is not None:
                yield single, single, look
        for place in self._plan.places:
            for path, look in self._files.walk(place):
                yield place, path, look

    def _keep(self, path: WPath, look: Look, into: WPath, held: str) -> SparedItem:
        kept = kept_of(path, look)
        if path.style.folded and not fits(path.name):
            with self._files.parent(path) as (above, spelled):
                kept.short = above.short_name(spelled)
        if look.is_link:
            kept.link = self._files.read_link(path)
        elif look.is_folder:
            with self._files.folder(path) as folder:
                kept.attributes = attributes_of(folder)
        elif look.is_file:
            kept.lies = packed(into.child(held))
            with self._files.parent(path) as (folder, name), self._files.folder(into) as to:
                self._keep_file(kept, look, folder, name, to, held)
        return kept

    def _keep_file(self, kept: SparedItem, look: Look, folder: Folder, name: str, to: Folder, held: str) -> None:
        first = self._first.get(look.identity)
        if first is not None:  # a second name of a file that is kept already
            to.link(first.held, to, held)
            kept.attributes = first.attributes
            return
        kept.attributes = self._attributes_of(folder, name)
        if look.links > 1:
            self._first[look.identity] = _First(held, kept.attributes)
        if self._is_linked(kept, look):
            with contextlib.suppress(OSError):  # it cannot be linked there: copied
                folder.link(name, to, held)
                return
        kept.sha256 = folder.copy_file(name, to, held, look)
        if look.mode & PRIVILEGED:
            with to.file(held) as copy:  # nobody runs it from here
                copy.set_mode(stat.S_IMODE(look.mode) & ~PRIVILEGED)

    def _attributes_of(self, folder: Folder, name: str) -> dict[str, str]:
        if self._files.style.folded:
            return {}  # rights go by access lists there, which a copy has and a rename keeps
        with contextlib.suppress(PermissionError), folder.file(name) as file:
            return attributes_of(file)
        return {}  # another account's, which can be linked all the same

    def _is_linked(self, kept: SparedItem, look: Look) -> bool:
        """Whether a second name serves as its spare."""
        if self._plan.full:
            return False
        special = bool(look.mode & PRIVILEGED) or CAPABILITIES in kept.attributes
        if special:
            return look.links > self._names_of(look)
        # A second name may outlive what removes the first; only a link brings back the same file under both.
        return look.size > COPIED_UP_TO or look.links > 1

    def _names_of(self, look: Look) -> int:
        """How many names of a file lie within what is kept; counted once, and only where there is a program that makes it matter."""
        if look.links == 1:
            return 1
        if self._names is None:
            self._names = Counter(one.identity for _, _, one in self._found() if one.is_file and one.links > 1)
        return self._names[look.identity]


def kept_of(path: WPath, look: Look) -> SparedItem:
    """What is written down of a thing."""
    return SparedItem(
        path=packed(path), mode=stat.S_IMODE(look.mode) | stat.S_IFMT(look.mode), uid=look.uid, gid=look.gid,
        atime=look.times[0], mtime=look.times[1], size=look.size,
    )  # fmt: skip
