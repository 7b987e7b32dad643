"""Taking saved files out of an archive: nothing else than what its index says is made."""

from __future__ import annotations

import contextlib
import os
from base64 import b64decode
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from dataclasses import dataclass, field
from functools import partial

from kleff.case.bag import pax
from kleff.case.bag.archive import Opened, differs, reading_archive
from kleff.case.bag.harmless import UNSAFE
from kleff.case.bag.index import Member, SavedItem
from kleff.case.bag.opened import SavedBag
from kleff.case.bag.reading import RELY
from kleff.case.bag.workers import Workers
from kleff.errors import ActionFailed, DamagedCase, remedy_for
from kleff.progress import Progress
from kleff.texts import plain
from kleff.workstation.files.last_folder import LastFolder
from kleff.workstation.files.protocol import RIGHTS, File, FileTree, Folder, Handle, Owner
from kleff.workstation.paths import WPath

LANES = 2  # threads that make files
PAGE = 4096  # what a hole is at least, on common file systems


@dataclass
class Unpacking:
    """What is taken out of one archive.

    Attributes:
        rooms: where each member is made, by its place among the item's members.
        there: where members already stand that a hard link may need.
        owner: who gets it: (uid, gid), or None to leave it to the system; account: whose it is, by its id, or "" for nobody's.
        own: the bag was made on this very workstation: access control lists and the like mean the same here, and nobody else can have
            changed the archive since it was verified. Of any other, each file is hashed before anything is put in place.
    """

    bag: SavedBag
    item: SavedItem
    files: FileTree
    progress: Progress
    rooms: dict[int, WPath]
    there: dict[int, WPath]
    owner: Callable[[Member], Owner]
    account: str
    own: bool
    _digests: list[tuple[Member, Future[str]]] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._folders = LastFolder(self.files)
        self._shared = self.item.shared()
        self._lanes = [Lane(self) for _ in range(LANES)]
        self._lane = 0

    def run(self) -> None:
        """Make everything, and settle the folders' own attributes last.

        Raises:
            DamagedCase: the archive is not what it was when it was verified.
            ActionFailed: something cannot be made.
        """
        archive = self.bag.payload(self.item.archive)
        members = [(n, m) for n, m in enumerate(self.item.members) if m.member]
        try:
            with reading_archive(archive, RELY, whole=False, key=self.bag.key) as opened, self._open():
                with Workers(LANES) as workers:
                    for (number, member), header in zip(members, self._headers(opened, len(members)), strict=True):
                        wrong = differs(header, member)
                        if wrong:
                            raise DamagedCase(wrong, where=str(archive), remedy=RELY)
                        if number in self.rooms:
                            self._make(number, member, opened, workers)
                wrong = next((m.path for m, digest in self._digests if digest.result() != m.sha256), "")
                if wrong:
                    raise DamagedCase(f"has changed since it was verified: {plain(wrong)}", where=str(archive), remedy=RELY)
            for number, member in reversed(members):
                if number in self.rooms and member.type == "folder":
                    with self.files.folder(self.rooms[number]) as folder:
                        self.settle(folder, member)
        except OSError as error:
            raise ActionFailed(f"cannot be put back: {error.strerror}", remedy=remedy_for(error)) from None

    @contextlib.contextmanager
    def _open(self) -> Iterator[None]:
        """Whatever happens, nothing stays open."""
        try:
            yield
        finally:
            self._folders.close()
            for lane in self._lanes:
                lane.close()

    def _headers(self, opened: Opened, count: int) -> Iterator[pax.Header]:
        found = 0
        for header in opened.reader.headers():
            found += 1
            if found > count:
                break
            yield header
        if found != count:
            raise pax.BadArchive("it holds more or less than its index")

    def _make(self, number: int, member: Member, opened: Opened, workers: Workers) -> None:
        room = self.rooms[number]
        if member.type == "file":
            self._file(room, member, opened, workers)
        elif member.type == "hard link":
            workers.wait()  # until what it is a second name of is whole
            self._link(member, room, self._folders.at(room.parent))
        else:
            parent = self._folders.at(room.parent)
            if member.type == "folder":
                parent.make_folder(room.name)
            else:
                parent.make_link(room.name, os.fsdecode(b64decode(member.link)))
                parent.set_link(room.name, self.owner(member), (member.mtime, member.mtime))
        self.progress.step(1)

    def _file(self, room: WPath, member: Member, opened: Opened, workers: Workers) -> None:
        """Read it here; a lane makes and writes it. What lies in one folder is made in one lane."""
        if self._lanes[self._lane].folder != room.parent:
            self._lane = (self._lane + 1) % LANES
            self._lanes[self._lane].folder = room.parent
        lane = self._lanes[self._lane]
        pieces = 0
        for piece in opened.reader.content():
            if not self.own:
                opened.hasher.update(piece)
            workers.hand(self._lane, partial(lane.write, room, member, piece, len(piece) == member.size))
            self.progress.step(size=len(piece))
            pieces += 1
        if pieces != 1:
            workers.hand(self._lane, partial(lane.write, room, member, b"", True))
        if not self.own:
            self._digests.append((member, opened.end_file()))

    def _link(self, member: Member, room: WPath, parent: Folder) -> None:
        """A second name of a member before it: of the one made with it, else a copy of the one that stands in place already."""
        first = self._shared[member.link]
        if first in self.rooms:
            with self.files.parent(self.rooms[first]) as (folder, name):
                folder.link(name, parent, room.name)
        elif first in self.there:
            with self.files.parent(self.there[first]) as (folder, name):
                folder.copy_file(name, parent, room.name, folder.look_at(name))
        else:
            raise ActionFailed(
                f"{member.path} shares its content with a file that is not put back",
                remedy="add --replace, or copy it out of the bag by hand",
            )

    def settle(self, made: Handle, member: Member) -> None:
        """Owner and mode before the attributes: chown(2) clears capabilities, and chmod(2) changes the mask of a list."""
        owner = self.owner(member)
        if owner:
            made.set_owner(*owner)
        made.set_mode(member.mode & ~UNSAFE)
        for name, value in member.attributes.items():
            if name.startswith("user.") or (self.own and name.startswith("system.posix_acl")) or _of_windows(name):
                with contextlib.suppress(OSError):  # a file system without them
                    made.set_attribute(name, b64decode(value))
        if self.own and RIGHTS in member.attributes:  # of another workstation they name nobody here
            made.set_attribute(RIGHTS, b64decode(member.attributes[RIGHTS]))
        else:
            made.give_to(self.account)
        made.set_times((member.mtime, member.mtime))


class Lane:
    """Makes one file after the other, in a thread of its own.

    Attributes:
        folder: where the file that was handed over last is made; used by who hands over alone.
    """

    def __init__(self, unpacking: Unpacking) -> None:
        self.folder: WPath | None = None
        self._unpacking = unpacking
        self._folders = LastFolder(unpacking.files)
        self._file: File | None = None  # in hand
        self._at = 0

    def write(self, room: WPath, member: Member, piece: bytes, last: bool) -> None:
        """The next piece of a file, which is made with the first and settled with the last."""
        if self._file is None:
            self._file, self._at = self._folders.at(room.parent).create(room.name), 0
            if member.sparse:
                self._file.truncate(member.size)
        if member.sparse:
            _write_with_holes(self._file, piece, self._at)
        else:
            self._file.write(piece)
        self._at += len(piece)
        if last:
            self._unpacking.settle(self._file, member)
            self._close_file()

    def close(self) -> None:
        self._close_file()
        self._folders.close()

    def _close_file(self) -> None:
        if self._file is not None:
            file, self._file = self._file, None
            file.close()


def _write_with_holes(file: File, data: bytes, at: int) -> None:
    for start in range(0, len(data), PAGE):
        page = data[start : start + PAGE]
        if page.strip(b"\0"):
            file.write_at(page, at + start)


def _of_windows(attribute: str) -> bool:
    """What a Windows keeps besides rights: when a thing was made, whether it is hidden, its streams."""
    return attribute.startswith("windows.") and attribute != RIGHTS


def make_folder(files: FileTree, path: WPath, owner: Owner, account: str = "") -> None:
    """Make a folder, as somebody's own."""
    with files.parent(path) as (folder, name):
        folder.make_folder(name, 0o755)
        with folder.folder(name) as made:
            made.set_mode(0o755)
            if owner:
                made.set_owner(*owner)
            made.give_to(account)
