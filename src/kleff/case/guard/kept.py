"""What must stay, as the kinds and the procedure tell it."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, field

from kleff.workstation.paths import WPath


@dataclass
class Kept:
    """What must stay.

    Attributes:
        patterns: (volume, glob parts, reason) of what the procedure keeps.
        places: paths that something else owns, and why they stay; all below a folder in it stays too.
        single: paths that stay themselves, without what is below them (a package's own folders).
        owned: those of `places` that are a package's; a step that names one as its target has not done what it says.
    """

    patterns: list[tuple[str, tuple[str, ...], str]] = field(default_factory=list)
    places: list[tuple[WPath, str]] = field(default_factory=list)
    single: dict[tuple[str, tuple[str, ...]], str] = field(default_factory=dict)
    owned: set[tuple[str, tuple[str, ...]]] = field(default_factory=set)

    def settle(self, then: Kept) -> None:
        """What had to stay then stays; a folder that was not one owner's alone then has not become that since, though now it seems so."""
        self.places = [(path, reason) for path, reason in self.places if path.key not in then.single]
        self.owned -= set(then.single)
        self.add(then)

    def forget(self, keys: Collection[tuple[str, tuple[str, ...]]]) -> None:
        """These need not stay any more."""
        self.places = [(path, reason) for path, reason in self.places if path.key not in keys]

    def add(self, other: Kept) -> None:
        """What another has to stay stays too; what is known already keeps its reason."""
        known = {path.key for path, _ in self.places}
        self.places += [(path, reason) for path, reason in other.places if path.key not in known]
        self.single = {**other.single, **self.single}
        self.owned |= other.owned
