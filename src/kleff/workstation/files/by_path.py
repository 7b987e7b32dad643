"""What a tree of files does with paths alone, whichever system it is of."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from functools import cached_property
from pathlib import Path
from typing import IO, cast

from kleff.errors import DamagedCase
from kleff.procedure.globs import PathStyle, fold
from kleff.workstation.files.named import Named, no_folder
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import Look, WPath, from_raw


class ByPath:
    """A part of a `FileTree`.

    Attributes:
        style: how paths are written there; volumes: volume name -> where it lies on the machine Kleff runs on.
    """

    style: PathStyle
    volumes: dict[str, Path]

    @cached_property
    def _named(self) -> Named:
        return Named(self._list, self._stands)

    def _list(self, path: WPath) -> list[str]:
        """The names in a folder, sorted; no link is followed.

        Raises:
            FileNotFoundError: nothing is there; NotADirectoryError: it is no folder.
        """
        raise NotImplementedError

    def _stands(self, path: WPath) -> Look | None:
        """What stands at a path; None where a file is on the way to it.

        Raises:
            FileNotFoundError: nothing; OSError: a link is on the way, or it cannot be looked at.
        """
        raise NotImplementedError

    def _reading(self, path: WPath) -> IO[bytes]:
        raise NotImplementedError

    def look(self, path: WPath) -> Look | None:
        try:
            return self._named.seen(path, lambda: self._stands(path))
        except FileNotFoundError:
            return None

    def names(self, path: WPath) -> list[str]:
        try:
            names = self._named.seen(path, lambda: self._list(path))
        except FileNotFoundError:
            return []
        except NotADirectoryError:
            if (look := self.look(path)) is None:
                return []
            raise no_folder(path, look) from None
        self._named.note(path, names)
        return names

    def reading(self, path: WPath) -> IO[bytes]:
        return self._named.seen(path, lambda: self._reading(path))

    def path(self, text: str) -> WPath | None:
        split = self.style.split(text)
        if split is None or split[0] not in self.volumes:
            return None
        path = WPath(self.style, split[0], split[1])
        return self._long(path) if self.style.folded and "~" in text else path

    def _long(self, path: WPath) -> WPath:
        """With the long names of what is called by short ones, which hold a `~`. No link is followed."""
        files, names = cast(FileTree, self), list[str]()
        for part in path.parts:
            name = part
            if "~" in part:
                with suppress(OSError), files.folder(WPath(self.style, path.volume, tuple(names))) as folder:
                    name = files.spelled(folder, part)
            names.append(name if fold(name) != fold(part) else part)
        return WPath(self.style, path.volume, tuple(names))

    def from_raw(self, raw: bytes) -> WPath:
        path = from_raw(self.style, raw)
        if path.volume not in self.volumes:
            raise DamagedCase(
                "a path that is kept in the case is of no volume of this workstation", remedy="restore the case folder from a copy"
            )
        return path

    def expand(self, volume: str, pattern: Sequence[str], limit: int = 0) -> Iterator[WPath]:
        from kleff.workstation.files.matching import expand

        return expand(cast(FileTree, self), volume, pattern, limit)
