"""The machine Kleff runs on, a Windows."""

from __future__ import annotations

import contextlib
import errno
import hashlib
import msvcrt
import os
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from kleff.workstation.files.protocol import Folder
from kleff.workstation.host import Busy, NamedPipe, Places
from kleff.workstation.paths import Space
from kleff.workstation.things import Given, Known, Running
from kleff.workstation.windows.host import opened
from kleff.workstation.windows.host.pipes import SystemPipe
from kleff.workstation.windows.host.places import account_folder, machine_folder
from kleff.workstation.windows.host.running import Programs
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native import here
from kleff.workstation.windows.native.caller import number
from kleff.workstation.windows.system.files import nt, security
from kleff.workstation.windows.system.files.handles import NtFolder
from kleff.workstation.windows.system.files.nt import NtFiles
from kleff.workstation.windows.system.rights import is_admin

LOCKED_AT = 1 << 30  # the byte that is locked: far behind the text, which others may read
PIECE = 1 << 20  # bytes that are read at once
BRIEFLY, AGAIN = 0.05, 0.05  # seconds
TRIES = 100  # to replace a file that somebody else, such as a search for harm, has open for a moment


class WindowsHost:
    """Implements `Host`."""

    def __init__(self) -> None:
        self._api = here.api()
        self._files = NtFiles(self._api)
        self._programs = Programs(self._api, self._files)
        self._admin = is_admin(self._api)

    def is_admin(self) -> bool:
        return self._admin

    def places(self) -> Places:
        own = machine_folder(self._api) if self._admin else account_folder()
        return Places(own / "cases", own / "procedures", own / "settings.toml")

    def draws(self, terminal: int) -> bool:
        """A console must be asked to; what it was asked stays until it is closed."""
        mode, console = bytearray(4), msvcrt.get_osfhandle(terminal)
        if self._api.code("GetConsoleMode", console, mode):
            return False
        return not self._api.code("SetConsoleMode", console, number(mode) | c.ENABLE_VIRTUAL_TERMINAL_PROCESSING)

    def account(self) -> int:
        return self._files.account_number()

    def weak_spot(self, path: Path) -> Path | None:
        if not self._admin:
            return None
        real = Path(os.path.realpath(path))
        for part in (real, *real.parents):
            rights = security.CHANGING if part == real else security.REPLACING
            with self._looked_at(part) as handle:
                if not security.only_admin(self._files.security(handle), rights=rights):
                    return part
        return None

    @contextmanager
    def _looked_at(self, path: Path) -> Iterator[int]:
        """A file or folder, opened to be looked at."""
        handle = self._files.create_at(opened.nt_path(path), nt.LOOK, c.FILE_OPEN, b"", 0)
        try:
            yield handle
        finally:
            self._files.close(handle)

    # -- writing ----------------------------------------------------------------------------------------------

    def write_new(self, file: Path, data: bytes) -> str:
        with self.open_new(file) as out:
            out.write(data)
            self.flush_file(out)
        self.flush_folder(file.parent)
        return hashlib.sha256(data).hexdigest()

    def open_new(self, file: Path) -> IO[bytes]:
        return opened.new_file(self._files, file)

    def flush_file(self, file: IO[bytes]) -> None:
        file.flush()
        os.fsync(file.fileno())

    def write_atomic(self, file: Path, data: bytes, mode: int = 0o600) -> None:
        new = file.with_name(f"{file.name}.new")
        new.unlink(missing_ok=True)  # of a try that was cut off
        with self.open_new(new) as out:
            out.write(data)
            self.flush_file(out)
        for left in reversed(range(TRIES)):
            try:
                new.replace(file)
                break
            except PermissionError:
                if not left:
                    raise
                time.sleep(AGAIN)
        self.flush_folder(file.parent)

    def write_in_place(self, file: Path, data: bytes) -> None:
        with file.open("r+b") as out:
            out.write(data.ljust(file.stat().st_size))
            out.flush()
            os.fsync(out.fileno())

    def flush_folder(self, folder: Path) -> None:
        opened.flush_folder(self._files, folder)

    def reading(self, file: Path) -> IO[bytes]:
        return opened.reading(self._files, file)

    def sha256(self, file: Path) -> str:
        made = hashlib.sha256()
        with self.reading(file) as source:
            while piece := source.read(PIECE):
                made.update(piece)
        return made.hexdigest()

    def mount_of(self, path: Path) -> str:
        return ""  # what cannot be flushed is an error of that act alone here: names are in the volume's own journal

    def space(self, path: Path) -> Space:
        free = bytearray(8)
        self._api.GetDiskFreeSpaceExW(str(path), free, None, None)
        with self._looked_at(path) as handle:
            return Space(self._files.look(handle).volume, number(free))

    def copy_new(self, source: Path, target: Path) -> str:
        sha256 = hashlib.sha256()
        with self.reading(source) as file, self.open_new(target) as out:
            while data := file.read(PIECE):
                sha256.update(data)
                out.write(data)
            self.flush_file(out)
        self.flush_folder(target.parent)
        if self.sha256(target) != sha256.hexdigest():
            raise OSError(errno.EIO, "is not what was written", str(target))
        return sha256.hexdigest()

    @contextmanager
    def folder(self, path: Path) -> Iterator[Folder]:
        folder = NtFolder(self._files, self._files.open_top(opened.nt_path(path)))
        try:
            yield folder
        finally:
            folder.close()

    # -- locks ------------------------------------------------------------------------------------------------

    @contextmanager
    def lock(self, file: Path, text: str) -> Iterator[None]:
        fd = opened.shared(self._files, file, made=True)
        try:
            if not _taken(fd):
                time.sleep(BRIEFLY)  # somebody may just have looked who holds it
                if not _taken(fd):
                    raise Busy(_told(fd))
            with contextlib.suppress(OSError):  # on a full volume nobody is told who holds it; it is held all the same
                os.lseek(fd, 0, os.SEEK_SET)
                os.write(fd, text.encode())
                os.ftruncate(fd, len(text.encode()))
            yield
        finally:
            os.close(fd)

    def lock_holder(self, file: Path) -> str | None:
        try:
            fd = opened.shared(self._files, file, made=False)
        except OSError:
            return None
        try:
            return None if _taken(fd) else _told(fd)
        finally:
            os.close(fd)

    @contextmanager
    def wait_for_lock(self, file: Path) -> Iterator[None]:
        fd = opened.shared(self._files, file, made=True)
        try:
            while not _taken(fd):
                time.sleep(AGAIN)
            yield
        finally:
            os.close(fd)

    def make_private(self, folder: Path) -> None:
        for missing in reversed([path for path in folder.parents if not path.exists()]):
            with contextlib.suppress(FileExistsError):
                opened.new_folder(self._files, missing)
        opened.new_folder(self._files, folder)

    def make_state_folder(self, folder: Path) -> None:
        above = folder.parent
        before = above.stat() if above.is_dir() else None
        with contextlib.suppress(FileExistsError):
            self.make_private(folder)
        if before is not None and above.stat().st_mtime_ns != before.st_mtime_ns:
            os.utime(above, ns=(before.st_atime_ns, before.st_mtime_ns))

    # -- pipes ------------------------------------------------------------------------------------------------

    def memory(self) -> Path | None:
        return None

    def pipe(self) -> tuple[IO[bytes], IO[bytes]]:
        reading, writing = os.pipe()
        return os.fdopen(reading, "rb", buffering=1 << 20), os.fdopen(writing, "wb", buffering=1 << 20)

    def named_pipe(self, at: Path) -> NamedPipe:
        pipe = SystemPipe(self._files)
        self._programs.pipes[at] = pipe.path
        return pipe

    # -- programs ---------------------------------------------------------------------------------------------

    def start_program(
        self, argv: Sequence[str], output: Path, environment: Mapping[str, str], given: Given | None = None, known: Known | None = None
    ) -> Running:
        return self._programs.start(argv, output, environment, given, known)

    def find_program(self, last: Sequence[str], output: Path) -> Running | None:
        return self._programs.find(output)

    def wait_for_program(self, program: Running, seconds: float) -> bool:
        return self._programs.wait(program, seconds)

    def program_busy(self, program: Running) -> bool:
        return self._programs.busy(program)


def _taken(fd: int) -> bool:
    os.lseek(fd, LOCKED_AT, os.SEEK_SET)
    try:
        msvcrt.locking(fd, msvcrt.LK_NBLCK, 1)
    except OSError:
        return False
    return True


def _told(fd: int) -> str:
    os.lseek(fd, 0, os.SEEK_SET)
    return os.read(fd, 400).decode("utf-8", "replace").strip()
