"""What a tree of files does with paths alone, whichever system it is of."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import cast

from kleff.errors import DamagedCase
from kleff.procedure.globs import PathStyle
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath, from_raw


class ByPath:
    """A part of a `FileTree`.

    Attributes:
        style: how paths are written there; volumes: volume name -> where it lies on the machine Kleff runs on.
    """

    style: PathStyle
    volumes: dict[str, Path]

    def path(self, text: str) -> WPath | None:
        split = self.style.split(text)
        if split is None or split[0] not in self.volumes:
            return None
        return WPath(self.style, split[0], split[1])

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
