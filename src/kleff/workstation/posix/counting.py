"""Counting and sizing a tree: by open folders, hard links once; a large one in two processes."""

from __future__ import annotations

import os
import pickle
import signal
import stat
from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass, field

from kleff.workstation.paths import PRIVILEGED
from kleff.workstation.posix.calls import closing_fd
from kleff.workstation.posix.walking import Descent, open_below

SHARES = 256  # subtrees that are counted one after the other, or shared out
SHARED_FROM = 20_000  # items after which a second process is worth its start


@dataclass
class Tally:
    """What a tree holds so far.

    Attributes:
        privileged: files that run with their owner's or group's rights (setuid, setgid).
        linked: (device, inode) -> size of files with several names, counted once at the end.
    """

    items: int = 0
    files: int = 0
    size: int = 0
    privileged: int = 0
    linked: dict[tuple[int, int], int] = field(default_factory=dict)

    @property
    def bytes(self) -> int:
        return self.size + sum(self.linked.values())

    def add(self, status: os.stat_result) -> None:
        self.items += 1
        if stat.S_ISREG(status.st_mode):
            self._file(status)

    def _file(self, status: os.stat_result) -> None:
        self.files += 1
        if status.st_mode & PRIVILEGED:
            self.privileged += 1
        if status.st_nlink > 1:
            self.linked[status.st_dev, status.st_ino] = status.st_size
        else:
            self.size += status.st_size

    def folder(self, fd: int) -> list[str]:
        """Add what is directly in an open folder; returns the names of the folders in it."""
        folders, items, files, size = [], 0, 0, 0
        with os.scandir(fd) as entries:
            for entry in entries:
                items += 1
                if entry.is_file(follow_symlinks=False):
                    status = entry.stat(follow_symlinks=False)
                    if status.st_nlink > 1 or status.st_mode & PRIVILEGED:
                        self._file(status)
                    else:
                        files += 1
                        size += status.st_size
                elif entry.is_dir(follow_symlinks=False):
                    folders.append(entry.name)
        self.items += items
        self.files += files
        self.size += size
        return folders

    def join(self, other: Tally) -> None:
        self.items += other.items
        self.files += other.files
        self.size += other.size
        self.privileged += other.privileged
        self.linked.update(other.linked)


def count(fd: int, tally: Tally, processes: int = 2) -> None:
    """Add everything below an open folder to a tally.

    Args:
        processes: 1 or 2; a second one is started only for a large tree.

    Raises:
        OSError: a folder cannot be read.
    """
    waiting: deque[tuple[str, ...]] = deque([()])
    begun = tally.items
    while waiting and len(waiting) < SHARES:
        names = waiting.popleft()
        with closing_fd(open_below(fd, names)) as below:
            waiting.extend((*names, name) for name in tally.folder(below))
    while waiting:
        if processes > 1 and tally.items - begun > SHARED_FROM and len(waiting) > 1:
            _shared(fd, tally, list(waiting))
            return
        _subtree(fd, waiting.popleft(), tally)


def _subtree(fd: int, names: tuple[str, ...], tally: Tally) -> None:
    with closing_fd(open_below(fd, names)) as top:
        _below(top, tally)


def _below(top: int, tally: Tally) -> None:
    descent = Descent(top)
    try:
        waiting = [tally.folder(top)]
        while waiting:
            if waiting[-1]:
                descent.down(waiting[-1].pop())
                waiting.append(tally.folder(descent.fd))
            else:
                waiting.pop()
                if waiting:
                    descent.up()
    finally:
        descent.close()


def _shared(fd: int, tally: Tally, waiting: list[tuple[str, ...]]) -> None:
    """Count the waiting folders in this process and a child; each takes the next one from a pipe."""
    take, give = os.pipe()
    answer, tell = os.pipe()
    os.write(give, b"".join(n.to_bytes(4) for n in range(len(waiting)))[:60_000])  # a pipe holds 64 KiB
    rest = waiting[15_000:]
    os.close(give)
    pid = os.fork()
    if pid == 0:
        _child(fd, waiting, take, tell)
    os.close(tell)
    try:
        for names in _taken(take, waiting):
            _subtree(fd, names, tally)
        for names in rest:
            _subtree(fd, names, tally)
    finally:
        os.close(take)
        with os.fdopen(answer, "rb") as told:
            data = told.read()
        os.waitpid(pid, 0)
    result = pickle.loads(data) if data else OSError(5, "the second process that counts has ended")
    if isinstance(result, OSError):
        raise result
    tally.join(result)


def _taken(take: int, waiting: list[tuple[str, ...]]) -> Iterator[tuple[str, ...]]:
    while number := os.read(take, 4):
        yield waiting[int.from_bytes(number)]


def _child(fd: int, waiting: list[tuple[str, ...]], take: int, tell: int) -> None:
    """Counts and tells; whatever happens, nothing of the parent's goes on here."""
    try:
        for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):  # the parent hears them too, and decides
            signal.signal(number, signal.SIG_IGN)
        tally, result = Tally(), None
        try:
            for names in _taken(take, waiting):
                _subtree(fd, names, tally)
        except OSError as error:
            result = OSError(error.errno, error.strerror, error.filename)
        data = memoryview(pickle.dumps(result or tally))
        while data:
            data = data[os.write(tell, data) :]
    finally:
        os._exit(0)
