"""The places that are the product's own, as far as they are known."""

from __future__ import annotations

from dataclasses import dataclass

from kleff.workstation.paths import WPath


@dataclass(frozen=True)
class OwnPlaces:
    """The product's places: folders with all that lies in them, and single files by their key.

    Attributes:
        known: where its programs lie is known, by `[places]` or its registration; what steps delete is not all of it.
    """

    folders: tuple[WPath, ...] = ()
    files: frozenset[tuple[str, tuple[str, ...]]] = frozenset()
    known: bool = False

    def lacks(self, path: WPath | None) -> bool:
        """Whether a path is known to lie elsewhere; False where nothing is known."""
        if path is None or not self.known:
            return False
        return path.key not in self.files and not any(folder.holds(path) for folder in self.folders)
