"""The files of a running Windows, by path."""

from __future__ import annotations

import contextlib
import errno
import io
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import IO

from kleff.errors import LinkOnTheWay
from kleff.procedure.globs import WINDOWS, fold
from kleff.workstation.files.by_path import ByPath
from kleff.workstation.files.protocol import Folder
from kleff.workstation.paths import Look, Measure, Resolved, Space, WPath
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.native.caller import number
from kleff.workstation.windows.system.files import security
from kleff.workstation.windows.system.files.handles import NtFile, NtFolder
from kleff.workstation.windows.system.files.nt import READ, NtFiles

MAX_LINKS = 63  # as the system's own limit


class NtTree(ByPath):
    """Implements `FileTree`.

    Args:
        volumes: the drives, such as `C:`, and where each lies on the machine Kleff runs on.
        tops: the topmost folder of each as the kernel takes it, where that is not the drive's own.
        private: whether others than an administrator can write below a path, by the path alone; None to ask the system.
    """

    def __init__(
        self, api: Api, volumes: dict[str, Path], tops: Mapping[str, str] | None = None, private: Callable[[WPath], bool] | None = None
    ) -> None:
        self.style = WINDOWS
        self.volumes = volumes
        self._tops = tops or {volume: f"\\??\\{volume}\\" for volume in volumes}
        self._private = private
        self._nt = NtFiles(api)

    # -- names ------------------------------------------------------------------------------------------------

    def host(self, path: WPath) -> str:
        return str(self.volumes[path.volume].joinpath(*path.parts))

    def spelled(self, folder: Folder, name: str) -> str:
        assert isinstance(folder, NtFolder)
        wanted, listed = fold(name), folder.shorts()
        found = next((one for one, _ in listed if fold(one) == wanted), "")
        return found or next((one for one, short in listed if short and fold(short) == wanted), name)

    # -- opening ----------------------------------------------------------------------------------------------

    def open_folder(self, path: WPath) -> Folder:
        folder = NtFolder(self._nt, self._nt.open_top(self._tops[path.volume]))
        for part in path.parts:
            folder = self._below(folder, part)
        return folder

    def open_below(self, folder: Folder, name: str) -> Folder:
        return self._below(folder, name)

    def _below(self, folder: Folder, name: str) -> NtFolder:
        assert isinstance(folder, NtFolder)
        try:
            return NtFolder(self._nt, self._nt.open_folder(folder.handle, name))
        finally:
            folder.close()

    @contextlib.contextmanager
    def folder(self, path: WPath) -> Iterator[Folder]:
        folder = self.open_folder(path)
        try:
            yield folder
        finally:
            folder.close()

    @contextlib.contextmanager
    def parent(self, path: WPath) -> Iterator[tuple[Folder, str]]:
        with self.folder(path.parent) as folder:
            yield folder, self.spelled(folder, path.name)

    # -- one thing --------------------------------------------------------------------------------------------

    def _stands(self, path: WPath) -> Look | None:
        try:
            if not path.parts:
                with self.folder(path) as folder:
                    return folder.look()
            with self.folder(path.parent) as folder:
                return folder.look_at(path.name)
        except NotADirectoryError as error:
            self._refuse_link_on_way(path, error)
            return None

    def _refuse_link_on_way(self, path: WPath, error: OSError) -> None:
        for end in range(1, len(path.parts)):
            look = self.look(WPath(self.style, path.volume, path.parts[:end]))
            if look is not None and look.is_link:
                raise OSError(errno.ELOOP, "a folder on the way is a link", str(path)) from error
            if look is None or not look.is_folder:
                return

    def _list(self, path: WPath) -> list[str]:
        with self.folder(path) as folder:
            return sorted(folder.names())

    def read(self, path: WPath, limit: int = 1 << 20) -> bytes:
        with self.reading(path) as file:
            return file.read(limit)

    def _reading(self, path: WPath) -> IO[bytes]:
        with self.folder(path.parent) as folder:
            assert isinstance(folder, NtFolder)
            file = NtFile(self._nt, self._nt.open(folder.handle, path.name, READ))
            look = file.look()
            if not look.is_file:
                file.close()
                raise OSError(errno.ELOOP if look.is_link else errno.EINVAL, "is no regular file", str(path))
            return io.BufferedReader(_Reading(file, look.size), 1 << 18)

    def sha256(self, path: WPath) -> str:
        with self.parent(path) as (folder, name):
            return folder.sha256(name)

    def read_link(self, path: WPath) -> str:
        with self.parent(path) as (folder, name):
            return folder.read_link(name)

    def remove_single(self, path: WPath) -> None:
        with self.parent(path) as (folder, name):
            if not folder.look_at(name).is_folder:
                folder.remove(name)
                return
            with folder.folder(name) as below:
                if below.names():
                    raise OSError(errno.ENOTEMPTY, "is not empty", str(path))
            folder.remove_if_empty(name)

    # -- links on the way, patterns ---------------------------------------------------------------------------

    def resolve(self, path: WPath) -> Resolved:
        return self._resolve(path, (), 0)

    def _resolve(self, path: WPath, links: tuple[str, ...], depth: int) -> Resolved:
        for end in range(1, len(path.parts)):
            step = WPath(self.style, path.volume, path.parts[:end])
            look = self.look(step)
            if look is None:
                return Resolved(self._spelled(path), links, False)
            if look.is_link:
                return self._followed(step, path.parts[end:], links, depth)
            if not look.is_folder:  # nothing can be below it
                return Resolved(self._spelled(step.parent).child(*path.parts[end - 1 :]), links, True)
        return Resolved(self._spelled(path), links, self.look(path) is not None)

    def _followed(self, link: WPath, rest: tuple[str, ...], links: tuple[str, ...], depth: int) -> Resolved:
        target = self.read_link(link)
        if not self.only_admin(link.parent):
            raise LinkOnTheWay(f"the folder {link} on the way is a link to {target}, which others than an administrator can change")
        led = self.path(target)
        if led is None or depth > MAX_LINKS:
            why = "is not on this workstation" if led is None else "leads through too many links"
            raise LinkOnTheWay(f"the link {link} leads to {target}, which {why}")
        return self._resolve(led.child(*rest), (*links, f"{link} -> {target}"), depth + 1)

    def _spelled(self, path: WPath) -> WPath:
        names: list[str] = []
        for part in path.parts:
            try:
                with self.folder(WPath(self.style, path.volume, tuple(names))) as folder:
                    names.append(self.spelled(folder, part))
            except OSError:
                names.append(part)
        return WPath(self.style, path.volume, tuple(names))

    def only_admin(self, path: WPath) -> bool:
        if self._private is not None:
            return not self._private(path)
        for end in range(len(path.parts) + 1):
            rights = security.CHANGING if end == len(path.parts) else security.REPLACING
            with self.folder(WPath(self.style, path.volume, path.parts[:end])) as folder:
                assert isinstance(folder, NtFolder)
                if not security.only_admin(self._nt.security(folder.handle), rights=rights):
                    return False
        return True

    # -- trees ------------------------------------------------------------------------------------------------

    def walk(self, path: WPath, enter: Callable[[WPath, Look], bool] = lambda path, look: True) -> Iterator[tuple[WPath, Look]]:
        look = self.look(path)
        if look is None:
            return
        yield path, look
        todo = [path] if enter(path, look) and look.is_folder else []
        while todo:
            above = todo.pop()
            entered = []
            for below, seen in self._in(above):
                yield below, seen
                if enter(below, seen) and seen.is_folder:
                    entered.append(below)
            todo += reversed(entered)

    def _in(self, path: WPath) -> list[tuple[WPath, Look]]:
        """What is directly in a folder; what goes meanwhile is left out."""
        found = []
        with contextlib.suppress(FileNotFoundError, NotADirectoryError), self.folder(path) as folder:
            for name in sorted(folder.names()):
                with contextlib.suppress(FileNotFoundError):
                    found.append((path.child(name), folder.look_at(name)))
        return found

    def find(self, path: WPath, wanted: Callable[[str], object]) -> Iterator[tuple[WPath, Look]]:
        for below, look in self.walk(path):
            if not look.is_folder and wanted(below.name):
                yield below, look

    def measure(self, path: WPath, processes: int = 2) -> Measure:
        items, files, size, seen = 0, 0, 0, set[tuple[int, int]]()
        for _, look in self.walk(path):
            items += 1
            if look.is_file and look.identity not in seen:
                files, size = files + 1, size + look.size
                seen |= {look.identity} if look.links > 1 else set()
        return Measure(items, files, size)

    # -- volumes ----------------------------------------------------------------------------------------------

    def mounts_in(self, path: WPath) -> list[str]:
        return []  # a volume that is mounted in a folder is a link of its own kind there, which nothing follows

    def layered(self, path: WPath) -> bool:
        return False

    def mount_root(self, path: WPath) -> WPath:
        return WPath(self.style, path.volume, ())

    def space(self, path: WPath) -> Space:
        free = bytearray(8)
        self._nt.api.GetDiskFreeSpaceExW(self._tops[path.volume].replace("\\??\\", "\\\\?\\"), free, None, None)
        look = self.look(WPath(self.style, path.volume, ()))
        return Space(look.identity[0] if look else 0, number(free))


class _Reading(io.RawIOBase):
    """An open file for whoever reads files as Python has them."""

    def __init__(self, file: NtFile, size: int) -> None:
        self._file = file
        self._size = size
        self._place = 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        self._place = max(0, offset + {io.SEEK_SET: 0, io.SEEK_CUR: self._place, io.SEEK_END: self._size}[whence])
        return self._place

    def readinto(self, buffer: bytearray | memoryview) -> int:  # type: ignore[override]
        data = self._file.read_at(len(buffer), self._place)
        buffer[: len(data)] = data
        self._place += len(data)
        return len(data)

    def close(self) -> None:
        if not self.closed:
            self._file.close()
        super().close()
