"""The machine Kleff runs on, a POSIX one."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import hashlib
import os
import stat
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from kleff.workstation.files.protocol import Folder
from kleff.workstation.host import Busy, NamedPipe, Places
from kleff.workstation.paths import Space
from kleff.workstation.posix import running
from kleff.workstation.posix.calls import FOLDER_FLAGS, closing_fd, mount_of, open_regular, sha256_of, space_of, sync_folder, write_atomic
from kleff.workstation.posix.handles import PosixFolder
from kleff.workstation.things import Given, Known, Running

NEW = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
MEMORY = Path("/dev/shm")
BRIEFLY = 0.05  # seconds


class PosixHost:
    """Implements `Host`."""

    def is_admin(self) -> bool:
        return os.geteuid() == 0

    def places(self) -> Places:
        """Of an account by the XDG Base Directory Specification."""
        if self.is_admin():
            settings = Path("/etc/kleff")
            return Places(Path("/var/lib/kleff/cases"), settings / "procedures", settings / "settings.toml")
        settings = Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config") / "kleff"
        state = Path(os.environ.get("XDG_STATE_HOME") or Path.home() / ".local/state") / "kleff"
        return Places(state / "cases", settings / "procedures", settings / "settings.toml")

    def draws(self, terminal: int) -> bool:
        return True

    def account(self) -> int:
        return os.geteuid()

    def weak_spot(self, path: Path) -> Path | None:
        if os.geteuid() != 0:
            return None
        real = Path(os.path.realpath(path))
        for part in (real, *real.parents):
            status = part.stat()
            others = status.st_mode & stat.S_IWOTH or (status.st_mode & stat.S_IWGRP and status.st_gid != 0)
            sticky = stat.S_ISDIR(status.st_mode) and status.st_mode & stat.S_ISVTX and part != real
            if status.st_uid != 0 or (others and not sticky):
                return part
        return None

    # -- writing ----------------------------------------------------------------------------------------------

    def write_new(self, file: Path, data: bytes) -> str:
        with self.open_new(file) as out:
            out.write(data)
            self.flush_file(out)
        sync_folder(file.parent)
        return hashlib.sha256(data).hexdigest()

    def open_new(self, file: Path) -> IO[bytes]:
        return os.fdopen(os.open(file, NEW, 0o600), "wb", buffering=1 << 20)

    def flush_file(self, file: IO[bytes]) -> None:
        file.flush()
        os.fsync(file.fileno())

    def write_atomic(self, file: Path, data: bytes, mode: int = 0o600) -> None:
        write_atomic(file, data, mode)

    def write_in_place(self, file: Path, data: bytes) -> None:
        with closing_fd(os.open(file, os.O_WRONLY | os.O_NOFOLLOW | os.O_CLOEXEC)) as fd:
            os.pwrite(fd, data.ljust(os.fstat(fd).st_size), 0)
            os.fsync(fd)

    def flush_folder(self, folder: Path) -> None:
        sync_folder(folder)

    def reading(self, file: Path) -> IO[bytes]:
        return os.fdopen(open_regular(None, str(file)), "rb")

    def sha256(self, file: Path) -> str:
        return sha256_of(file)

    def mount_of(self, path: Path) -> str:
        with closing_fd(os.open(path, os.O_PATH | os.O_CLOEXEC)) as fd:
            return mount_of(fd)

    def space(self, path: Path) -> Space:
        return space_of(str(path))

    def copy_new(self, source: Path, target: Path) -> str:
        sha256 = hashlib.sha256()
        with source.open("rb") as file, self.open_new(target) as out:
            while data := file.read(1 << 20):
                sha256.update(data)
                out.write(data)
            self.flush_file(out)
        sync_folder(target.parent)
        if sha256_of(target) != sha256.hexdigest():
            raise OSError(errno.EIO, "is not what was written", str(target))
        return sha256.hexdigest()

    @contextmanager
    def folder(self, path: Path) -> Iterator[Folder]:
        folder = PosixFolder(os.open(path, FOLDER_FLAGS))
        try:
            yield folder
        finally:
            folder.close()

    # -- locks ------------------------------------------------------------------------------------------------

    @contextmanager
    def lock(self, file: Path, text: str) -> Iterator[None]:
        fd = os.open(file, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
        try:
            if not _taken(fd, fcntl.LOCK_EX):
                time.sleep(BRIEFLY)  # somebody may just have looked who holds it
                if not _taken(fd, fcntl.LOCK_EX):
                    raise Busy(_told(fd))
            with contextlib.suppress(OSError):  # on a full volume nobody is told who holds it; it is held all the same
                os.pwrite(fd, text.encode(), 0)
                os.ftruncate(fd, len(text.encode()))
            yield
        finally:
            os.close(fd)

    def lock_holder(self, file: Path) -> str | None:
        try:
            fd = os.open(file, os.O_RDONLY | os.O_CLOEXEC | os.O_NOFOLLOW)
        except OSError:
            return None
        with closing_fd(fd):
            return None if _taken(fd, fcntl.LOCK_SH) else _told(fd)

    @contextmanager
    def wait_for_lock(self, file: Path) -> Iterator[None]:
        fd = os.open(file, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
        try:
            fcntl.flock(fd, fcntl.LOCK_EX)
            yield
        finally:
            os.close(fd)

    def make_private(self, folder: Path) -> None:
        folder.parent.mkdir(parents=True, exist_ok=True)
        folder.mkdir(mode=0o700)

    def make_state_folder(self, folder: Path) -> None:
        above = folder.parent
        before = above.stat() if above.is_dir() else None
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        if before is not None and above.stat().st_mtime_ns != before.st_mtime_ns:
            os.utime(above, ns=(before.st_atime_ns, before.st_mtime_ns))

    # -- pipes ------------------------------------------------------------------------------------------------

    def memory(self) -> Path | None:
        return MEMORY if os.access(MEMORY, os.W_OK) else None

    def pipe(self) -> tuple[IO[bytes], IO[bytes]]:
        reading, writing = os.pipe()
        return os.fdopen(reading, "rb", buffering=1 << 20), os.fdopen(writing, "wb", buffering=1 << 20)

    def named_pipe(self, at: Path) -> NamedPipe:
        return Fifo(at)

    # -- programs ---------------------------------------------------------------------------------------------

    def start_program(
        self, argv: Sequence[str], output: Path, environment: Mapping[str, str], given: Given | None = None, known: Known | None = None
    ) -> Running:
        return running.start(argv, output, environment, given, known)

    def find_program(self, last: Sequence[str], output: Path) -> Running | None:
        return running.find(last, output)

    def wait_for_program(self, program: Running, seconds: float) -> bool:
        return running.wait(program, seconds)

    def program_busy(self, program: Running) -> bool:
        return running.busy(program)


def _taken(fd: int, how: int) -> bool:
    try:
        fcntl.flock(fd, how | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True


def _told(fd: int) -> str:
    return os.pread(fd, 400, 0).decode("utf-8", "replace").strip()


class Fifo:
    """A named pipe (mkfifo(3))."""

    def __init__(self, at: Path) -> None:
        self.path = at
        at.unlink(missing_ok=True)
        os.mkfifo(at, 0o600)

    def open_reader(self) -> IO[bytes]:
        return os.fdopen(os.open(self.path, os.O_RDONLY), "rb")

    def open_writer(self) -> IO[bytes]:
        return os.fdopen(os.open(self.path, os.O_WRONLY), "wb")

    def release(self) -> None:
        for end in (os.O_RDONLY, os.O_WRONLY):
            with contextlib.suppress(OSError):
                os.close(os.open(self.path, end | os.O_NONBLOCK))
        self.path.unlink(missing_ok=True)
