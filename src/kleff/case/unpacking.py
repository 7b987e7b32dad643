"""Taking saved files out of an archive: each is hashed while it is written, and nothing else than what the index says is made."""

from __future__ import annotations

import contextlib
import os
from base64 import b64decode
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from contextlib import ExitStack
from dataclasses import dataclass, field

from kleff.case import pax
from kleff.case.archive import Opened, differs, reading_archive
from kleff.case.saved import Member, SavedItem
from kleff.case.saved_bag import RELY, UNSAFE, SavedBag
from kleff.errors import ActionFailed, DamagedCase
from kleff.progress import Progress
from kleff.texts import plain
from kleff.workstation.common.copying import READ, WRITE, copy_file
from kleff.workstation.common.files import FileTree
from kleff.workstation.common.posix import FOLDER_FLAGS, closing_fd
from kleff.workstation.paths import WPath, look_of

PAGE = 4096  # what a hole is at least, on common file systems
Owner = tuple[int, int] | None


@dataclass
class Unpacking:
    """What is taken out of one archive.

    Attributes:
        rooms: where each member is made, by its place among the item's members.
        there: where members already stand that a hard link may need.
        owner: who gets it: (uid, gid), or None to leave it to the system.
        own: the bag was made on this very workstation: access control lists and the like mean the same here.
    """

    bag: SavedBag
    item: SavedItem
    files: FileTree
    progress: Progress
    rooms: dict[int, WPath]
    there: dict[int, WPath]
    owner: Callable[[Member], Owner]
    own: bool
    _stack: ExitStack = field(default_factory=ExitStack)
    _open: tuple[WPath, int] | None = None
    _digests: list[tuple[Member, Future[str]]] = field(default_factory=list)

    def run(self) -> None:
        """Make everything, and settle the folders' own attributes last.

        Raises:
            DamagedCase: the archive is not what it was when it was verified.
            ActionFailed: something cannot be made.
        """
        archive = self.bag.payload(self.item.archive)
        members = [(n, m) for n, m in enumerate(self.item.members) if m.member]
        try:
            with reading_archive(archive, RELY, whole=False, key=self.bag.key) as opened, self._stack:
                for (number, member), head in zip(members, self._heads(opened, len(members)), strict=True):
                    wrong = differs(head, member)
                    if wrong:
                        raise DamagedCase(wrong, where=str(archive), remedy=RELY)
                    if number in self.rooms:
                        self._make(number, member, opened)
                wrong = next((m.path for m, digest in self._digests if digest.result() != m.sha256), "")
                if wrong:
                    raise DamagedCase(f"has changed since it was verified: {plain(wrong)}", where=str(archive), remedy=RELY)
            for number, member in reversed(members):
                if number in self.rooms and member.type == "folder":
                    with self.files.folder(self.rooms[number]) as fd:
                        self._settle(fd, member)
        except OSError as error:
            raise ActionFailed(f"cannot be put back: {error.strerror}", remedy="make room, check the rights; then resume") from None

    def _heads(self, opened: Opened, count: int) -> Iterator[pax.Head]:
        found = 0
        for head in opened.reader.heads():
            found += 1
            if found > count:
                break
            yield head
        if found != count:
            raise pax.BadArchive("it holds more or less than its index")

    def _make(self, number: int, member: Member, opened: Opened) -> None:
        room = self.rooms[number]
        parent = self._folder(room.parent)
        if member.type == "folder":
            os.mkdir(room.name, 0o700, dir_fd=parent)
        elif member.type == "link":
            os.symlink(os.fsdecode(b64decode(member.link)), room.name, dir_fd=parent)
            owner = self.owner(member)
            if owner:
                os.chown(room.name, *owner, dir_fd=parent, follow_symlinks=False)
            os.utime(room.name, ns=(member.mtime, member.mtime), dir_fd=parent, follow_symlinks=False)
        elif member.type == "hard link":
            self._link(member, room, parent)
        else:
            with closing_fd(os.open(room.name, WRITE, 0o600, dir_fd=parent)) as fd:
                self._write(fd, member, opened)
                self._settle(fd, member)
        self.progress.step(1)

    def _folder(self, folder: WPath) -> int:
        if self._open is None or self._open[0] != folder:
            self._stack.close()
            self._open = folder, self._stack.enter_context(self.files.folder(folder))
        return self._open[1]

    def _write(self, fd: int, member: Member, opened: Opened) -> None:
        at = 0
        if member.sparse:
            os.ftruncate(fd, member.size)
        for piece in opened.reader.content():
            opened.hasher.update(piece)
            if member.sparse:
                _write_with_holes(fd, piece, at)
            else:
                _write_all(fd, piece)
            at += len(piece)
            self.progress.step(size=len(piece))
        self._digests.append((member, opened.end_file()))

    def _link(self, member: Member, room: WPath, parent: int) -> None:
        """A second name of a member before it: of the one made with it, else a copy of the one that stands in place already."""
        first = next(n for n, m in enumerate(self.item.members) if m.member == member.link)
        if first in self.rooms:
            with self.files.parent(self.rooms[first]) as (fd, name):
                os.link(name, room.name, src_dir_fd=fd, dst_dir_fd=parent, follow_symlinks=False)
        elif first in self.there:
            with self.files.parent(self.there[first]) as (fd, name), closing_fd(os.open(name, READ, dir_fd=fd)) as source:
                copy_file(fd, name, parent, room.name, look_of(os.fstat(source)))
        else:
            raise ActionFailed(
                f"{member.path} shares its content with a file that is not put back",
                remedy="add --replace, or copy it out of the bag by hand",
            )

    def _settle(self, fd: int, member: Member) -> None:
        """Owner and mode before the attributes: chown(2) clears capabilities, and chmod(2) changes the mask of a list."""
        owner = self.owner(member)
        if owner:
            os.fchown(fd, *owner)
        os.fchmod(fd, member.mode & ~UNSAFE)
        for name, value in member.attributes.items():
            if name.startswith("user.") or (self.own and name.startswith("system.posix_acl")):
                with contextlib.suppress(OSError):  # a file system without them
                    os.setxattr(fd, name, b64decode(value))
        os.utime(fd, ns=(member.mtime, member.mtime))


def _write_all(fd: int, data: bytes) -> None:
    view = memoryview(data)
    while view:
        view = view[os.write(fd, view) :]


def _write_with_holes(fd: int, data: bytes, at: int) -> None:
    for start in range(0, len(data), PAGE):
        page = data[start : start + PAGE]
        if page.strip(b"\0"):
            os.pwrite(fd, page, at + start)


def make_folder(files: FileTree, path: WPath, owner: Owner) -> None:
    """Make a folder, as somebody's own."""
    with files.parent(path) as (fd, name):
        os.mkdir(name, 0o755, dir_fd=fd)
        with closing_fd(os.open(name, FOLDER_FLAGS, dir_fd=fd)) as made:
            os.fchmod(made, 0o755)
            if owner:
                os.fchown(made, *owner)
