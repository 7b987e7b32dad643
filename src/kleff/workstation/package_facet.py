"""The facet of packages: what any package manager is asked."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

from kleff.workstation.paths import WPath
from kleff.workstation.things import Installed, Package, PackageRecord, Source


@dataclass(frozen=True)
class Surroundings:
    """Places that scripts of packages change, as texts.

    Attributes:
        copied: with all below; their files may be changed in place.
        linked: files that are only ever replaced.
        alone: folders and links by themselves.
        by_name: of those that are copied, the files whose entries (accounts, groups) come back by their names, whatever their numbers.
    """

    copied: list[str] = field(default_factory=list)
    linked: list[str] = field(default_factory=list)
    alone: list[str] = field(default_factory=list)
    by_name: list[str] = field(default_factory=list)


Ready = Callable[[Sequence[PackageRecord]], None]


class Packages(Protocol):
    def all(self) -> list[Package]: ...

    def owners(self, paths: Sequence[WPath], below: bool = True) -> dict[str, list[str]]:
        """The packages that own each path or (`below`) something below it: path text -> package names."""

    def would_go(self, names: Sequence[str]) -> list[str] | None:
        """These and all that the package manager would remove with them, since it needs them (it is asked, nothing is done); None if it
        cannot tell. Names without their architecture.
        """

    def unneeded(self, without: Sequence[str] = ()) -> list[str] | None:
        """What was brought in for others and nothing needs, once some are gone, in all rounds; None if it cannot be told."""

    def stands_for(self, name: str) -> list[str]:
        """Of an installed package without content of its own: those it depends on that were brought in for others; else empty."""

    def offered_by(self, source: str) -> set[tuple[str, str]]:
        """The packages a source offers, by name and version; nothing if there is no such source.

        Args:
            source: the name of its file.

        Raises:
            ActionFailed: it cannot be told, since its lists are not there.
        """

    def lists_of(self, source: str) -> list[str]:
        """The paths of what was downloaded of a source alone.

        Raises:
            ActionFailed: it cannot be told.
        """

    def others_offer(self, source: str, names: Sequence[str]) -> dict[str, str]:
        """The newest version of some packages that the other sources have, by name.

        Raises:
            ActionFailed: it cannot be told.
        """

    def change_objection(self, versions: Mapping[str, str]) -> str:
        """Why packages would not be changed to other versions, or what else would be done then; "" if nothing (it is asked only)."""

    def change(self, versions: Mapping[str, str], output: Path) -> None:
        """Install other versions of packages, from the sources that are known.

        Raises:
            ActionFailed: the package manager failed; its output is in the file.
        """

    def files_of(self, names: Sequence[str]) -> dict[str, list[str]]:
        """The paths that belong to packages, as they are written down."""

    def history(self) -> dict[str, Installed]:
        """The last installation of each package that is still written down; by names without their architecture."""

    def objection(self, names: Sequence[str], purge: bool) -> str | None:
        """Why the package manager would not remove these (it is asked, nothing is done), or None."""

    def remove(self, names: Sequence[str], purge: bool, output: Path) -> None:
        """Remove or purge.

        Raises:
            ActionFailed: the package manager failed; its output is in the file.
        """

    def record(self, name: str) -> PackageRecord:
        """What it takes to build an installed package anew."""

    def put_back(self, records: Sequence[PackageRecord], source: Source, folder: Path, output: Path, ready: Ready) -> None:
        """Build packages anew and install them, without network and without starting services.

        Args:
            folder: where they are built; they are taken away again.
            ready: called with those whose files are in place now, before anything of theirs has run.

        Raises:
            ActionFailed: the package manager failed; its output is in the file.
        """

    def hold(self, names: Sequence[str]) -> None:
        """Put packages on hold, which they were before something let go of it."""

    def make_way(self, records: Sequence[PackageRecord]) -> None:
        """Let others' files give way to those of packages that are installed again, as far as they do not yet."""

    def settle(self, records: Sequence[PackageRecord]) -> list[str]:
        """Give packages that are installed again their marks, answers, owners and choices, as far as they are not as recorded. Done twice
        is done once. Returns what could not be given, for people.
        """

    def clear_stand_ins(self, records: Sequence[PackageRecord], source: Source) -> None:
        """Take away what `put_back` had to invent: stand-ins for files that were not there when the packages were recorded."""

    def clear_up(self) -> None:
        """Take away what a run that was killed may have left in the way."""

    def left_over(self) -> bool:
        """Whether there is anything that `clear_up` takes away."""

    def around(self) -> Surroundings:
        """What scripts of packages change though it is others' as well."""

    def last_acted(self, output: Path) -> int:
        """When a removal that was cut off last did something, as far as it can be told, in ns.

        Args:
            output: into which it has written.
        """

    def at_work(self) -> str:
        """Which package manager is at work now, by name and number; "" if none is."""

    def wait(self) -> None:
        """Let a package manager that is at work end first.

        Raises:
            ActionFailed: it does not end.
        """

    def compare(self, a: str, b: str) -> int:
        """The package manager's own version comparison: below, equal, above zero."""
