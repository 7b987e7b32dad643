"""Going through trees of any depth and size by open folders, following no link, holding few descriptors."""

from __future__ import annotations

import errno
import os
from collections.abc import Callable, Iterator, Sequence
from itertools import islice

from kleff.workstation.files.named import Vanished
from kleff.workstation.paths import Look
from kleff.workstation.posix.calls import FOLDER_FLAGS, look_of

HELD = 64  # folders on the way that stay open; those above are found again by their identity
SORTED_FROM = 200  # names from which their order by inode is worth the sorting
BATCH = 10_000  # names that are taken from a folder at once


class Descent:
    """A place in a tree: steps down into a folder and up again.

    Above the last `HELD` folders nothing stays open. The way back there is `..`, believed only if it is the very folder that
    was left (a folder moved elsewhere meanwhile leads elsewhere).
    """

    def __init__(self, fd: int) -> None:
        self._fds: list[int | None] = [fd]
        self._left: list[tuple[int, int]] = []  # identities of the folders that are no longer open, below the first

    @property
    def fd(self) -> int:
        fd = self._fds[-1]
        assert fd is not None
        return fd

    @property
    def depth(self) -> int:
        return len(self._fds) - 1

    def down(self, name: str) -> None:
        """Step into a folder.

        Raises:
            OSError: it is gone, none any more (ELOOP, ENOTDIR), or may not be entered.
        """
        self._fds.append(os.open(name, FOLDER_FLAGS, dir_fd=self._fds[-1]))
        above = len(self._fds) - 1 - HELD
        if above > len(self._left):
            far = self._fds[above]
            assert far is not None
            self._left.append(_identity(far))
            os.close(far)
            self._fds[above] = None

    def up(self) -> None:
        """Step back.

        Raises:
            OSError: ESTALE, the folder was moved elsewhere meanwhile.
        """
        if self._fds[-2] is None:
            parent = os.open("..", FOLDER_FLAGS, dir_fd=self.fd)
            if _identity(parent) != self._left.pop():
                os.close(parent)
                raise OSError(errno.ESTALE, "a folder was moved elsewhere while it was gone through")
            self._fds[-2] = parent
        os.close(self.fd)
        self._fds.pop()

    def close(self) -> None:
        """Close all but the folder it began with."""
        for fd in self._fds[1:]:
            if fd is not None:
                os.close(fd)


def open_below(fd: int, names: tuple[str, ...]) -> int:
    """A new descriptor of a folder below an open one (of that one itself for no names), following no link.

    Raises:
        OSError: one of the names is no folder.
    """
    here = os.open(".", FOLDER_FLAGS, dir_fd=fd)
    for name in names:
        try:
            below = os.open(name, FOLDER_FLAGS, dir_fd=here)
        finally:
            os.close(here)
        here = below
    return here


def _identity(fd: int) -> tuple[int, int]:
    status = os.fstat(fd)
    return status.st_dev, status.st_ino


def walk(fd: int, enter: Callable[[tuple[str, ...], Look], bool]) -> Iterator[tuple[tuple[str, ...], Look]]:
    """Everything below an open folder, (names, look), each folder before what is in it, names in order. What vanishes is left out.

    Args:
        enter: asked of each thing once; what is in a folder comes only if it says so.

    Raises:
        OSError: a folder cannot be read, or has become something else.
    """
    descent = Descent(fd)
    names: list[str] = []
    waiting = [sorted(os.listdir(fd), reverse=True)]
    try:
        while waiting:
            if not waiting[-1]:
                waiting.pop()
                if waiting:
                    descent.up()
                    names.pop()
                continue
            name = waiting[-1].pop()
            try:
                look = look_of(os.stat(name, dir_fd=descent.fd, follow_symlinks=False))
            except FileNotFoundError:
                _must_have_gone(descent.fd, (*names, name))
                continue
            yield (*names, name), look
            if enter((*names, name), look) and look.is_folder:
                try:
                    descent.down(name)
                except FileNotFoundError:
                    _must_have_gone(descent.fd, (*names, name))
                    continue
                names.append(name)
                waiting.append(sorted(os.listdir(descent.fd), reverse=True))
    finally:
        descent.close()


def find(fd: int, wanted: Callable[[str], object]) -> Iterator[tuple[tuple[str, ...], Look]]:
    """What is no folder below an open folder and has a wanted name, in no order; nothing else is looked at. What vanishes is left out.

    Raises:
        OSError: a folder cannot be read, or has become something else.
    """
    descent = Descent(fd)
    names: list[str] = []
    waiting: list[list[str]] = [[]]
    try:
        yield from _found(descent.fd, names, wanted, waiting[-1])
        while waiting:
            if waiting[-1]:
                names.append(waiting[-1].pop())
                try:
                    descent.down(names[-1])
                except FileNotFoundError:
                    _must_have_gone(descent.fd, names)
                    names.pop()
                    continue
                waiting.append([])
                yield from _found(descent.fd, names, wanted, waiting[-1])
            else:
                waiting.pop()
                if waiting:
                    descent.up()
                    names.pop()
    finally:
        descent.close()


def _found(fd: int, above: list[str], wanted: Callable[[str], object], folders: list[str]) -> Iterator[tuple[tuple[str, ...], Look]]:
    """What is directly in a folder; the folders in it are added to `folders`."""
    with os.scandir(fd) as entries:
        for entry in entries:
            if entry.is_dir(follow_symlinks=False):
                folders.append(entry.name)
            elif wanted(entry.name):
                try:
                    look = look_of(entry.stat(follow_symlinks=False))
                except FileNotFoundError:
                    _must_have_gone(fd, (*above, entry.name))
                    continue
                yield (*above, entry.name), look


def _must_have_gone(fd: int, names: Sequence[str]) -> None:
    """Of what a folder has named and what cannot be found: another took it away meanwhile; then its folder names it no more.

    Raises:
        Vanished: it does.
    """
    if names[-1] in os.listdir(fd):
        raise Vanished("/".join(names))


def delete_below(fd: int, told: Callable[[int], None]) -> None:
    """Delete everything below an open folder; never on another volume.

    Names are taken in batches and by inode, which large folders are quickest with.

    Args:
        told: is given how many items have gone since it was called last.

    Raises:
        OSError: something cannot be deleted, EXDEV: a folder lies on another volume.
    """
    descent = Descent(fd)
    volume = os.fstat(fd).st_dev
    names: list[str] = []
    waiting = [_unlink_batch(fd, told)]
    try:
        while True:
            if waiting[-1]:
                name = waiting[-1].pop()
                try:
                    descent.down(name)
                except FileNotFoundError:
                    continue
                names.append(name)
                if os.fstat(descent.fd).st_dev != volume:
                    raise OSError(errno.EXDEV, "lies on another volume", "/".join(names))
                waiting.append(_unlink_batch(descent.fd, told))
            elif not names:
                waiting[-1] = _unlink_batch(fd, told)
                if not waiting[-1] and not os.listdir(fd):
                    return
            elif _leave(descent, names[-1]):
                waiting.pop()
                names.pop()
                told(1)
            else:
                waiting[-1] = _unlink_batch(descent.fd, told)
    except OSError as error:
        last = str(error.filename or "")
        error.filename = last if "/" in last else "/".join([*names, last]).rstrip("/")
        raise
    finally:
        descent.close()


def _leave(descent: Descent, name: str) -> bool:
    """Step up and take away the folder that was left; False, and back in it, if there is still something in it."""
    descent.up()
    try:
        os.rmdir(name, dir_fd=descent.fd)
    except FileNotFoundError:
        pass
    except OSError as error:
        if error.errno not in (errno.ENOTEMPTY, errno.EEXIST):
            raise
        descent.down(name)
        return False
    return True


def _unlink_batch(fd: int, told: Callable[[int], None]) -> list[str]:
    """Delete what is no folder of the next names of a folder. Returns the folders among them."""
    with os.scandir(fd) as entries:
        batch = list(islice(entries, BATCH))
    if len(batch) > SORTED_FROM:
        batch.sort(key=os.DirEntry.inode)
    folders = []
    for entry in batch:
        if entry.is_dir(follow_symlinks=False):
            folders.append(entry.name)
            continue
        try:
            os.unlink(entry.name, dir_fd=fd)
        except FileNotFoundError:
            continue
    told(len(batch) - len(folders))
    return folders
