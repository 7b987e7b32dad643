"""The packages of a workstation in memory."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from kleff.procedure.versions import compare_dotted
from kleff.workstation.memory.tree import MemoryTree
from kleff.workstation.package_facet import Ready, Surroundings
from kleff.workstation.paths import WPath
from kleff.workstation.things import Installed, Package, PackageRecord, Source


@dataclass
class MemoryPackages:
    """Implements `Packages`: names, versions, and the files that belong to each.

    Attributes:
        needs: what each package depends on; automatic: which were brought in for others; sources: which a source offers;
        installed_with: which were asked for in the same act; lists: what was downloaded of a source; elsewhere: versions of other sources.
    """

    files: MemoryTree
    known: dict[str, tuple[Package, list[str]]] = field(default_factory=dict)
    brings: dict[str, list[str]] = field(default_factory=dict)
    folders: dict[str, list[str]] = field(default_factory=dict)
    members: dict[str, dict[str, str]] = field(default_factory=dict)
    scripts: dict[str, Callable[[], None]] = field(default_factory=dict)
    busy_with: str = ""
    needs: dict[str, list[str]] = field(default_factory=dict)
    automatic: set[str] = field(default_factory=set)
    sources: dict[str, list[str]] = field(default_factory=dict)
    installed_with: dict[str, list[str]] = field(default_factory=dict)
    lists: dict[str, list[str]] = field(default_factory=dict)
    elsewhere: dict[str, str] = field(default_factory=dict)

    def add(
        self, name: str, version: str, paths: Sequence[str], config: Sequence[str] = (), essential: bool = False,
        services: Sequence[str] = (), folders: Sequence[str] = (), scripts: dict[str, str] | None = None,
    ) -> None:  # fmt: skip
        """An installed package, with its files, and folders that it knows without what lies in them. What its scripts do is said in
        `self.scripts`.
        """
        for text in (*paths, *config):
            self.files.add(text, f"{text} of {name} {version}")
        for text in folders:
            self.files.add(text, folder=True)
        package = Package(name, version, "installed", essential, tuple(config))
        self.known[name] = package, [*paths, *config]
        self.brings[name], self.folders[name], self.members[name] = list(services), list(folders), scripts or {}

    def all(self) -> list[Package]:
        return [package for package, _ in self.known.values()]

    def owners(self, paths: Sequence[WPath], below: bool = True) -> dict[str, list[str]]:
        found: dict[str, list[str]] = {}
        for name, (_, texts) in self.known.items():
            for path in paths:
                for text in (*texts, *self.folders.get(name, [])):
                    owned = self.files.path(text)
                    if owned is not None and (path.holds(owned) if below else path == owned):
                        found.setdefault(text, []).append(name)
        return found

    def would_go(self, names: Sequence[str]) -> list[str] | None:
        needed_by: dict[str, list[str]] = {}
        for other, needed in self.needs.items():
            for name in needed if other in self.known else ():
                needed_by.setdefault(name, []).append(other)
        going, known = list(names), set(names)
        for name in going:  # grows while it is gone through
            more = [other for other in needed_by.get(name, []) if other not in known]
            going += more
            known.update(more)
        return going

    def unneeded(self, without: Sequence[str] = ()) -> list[str] | None:
        going = set(self.would_go(without) or ())
        there = dict.fromkeys(name for name in self.known if name not in going)
        kept = dict.fromkeys(name for name in there if name not in self.automatic)
        waiting = list(kept)
        while waiting:
            more = [needed for needed in self.needs.get(waiting.pop(), []) if needed in there and needed not in kept]
            kept.update(dict.fromkeys(more))
            waiting += more
        return [name for name in there if name not in kept]

    def stands_for(self, name: str) -> list[str]:
        return [] if self.known[name][1] else [other for other in self.needs.get(name, []) if other in self.automatic]

    def offered_by(self, source: str) -> set[tuple[str, str]]:
        return {(name, self.known[name][0].version) for name in self.sources.get(source, []) if name in self.known}

    def lists_of(self, source: str) -> list[str]:
        return self.lists.get(source, [])

    def others_offer(self, source: str, names: Sequence[str]) -> dict[str, str]:
        return {name: self.elsewhere[name] for name in names if name in self.elsewhere}

    def change_objection(self, versions: Mapping[str, str]) -> str:
        return ""

    def change(self, versions: Mapping[str, str], output: Path) -> None:
        for name, version in versions.items():
            package, texts = self.known[name]
            self.known[name] = replace(package, version=version), texts

    def files_of(self, names: Sequence[str]) -> dict[str, list[str]]:
        return {name: self.known[name][1] for name in names}

    def history(self) -> dict[str, Installed]:
        return {name: Installed(when="", command="", with_=asked) for name, asked in self.installed_with.items()}

    def objection(self, names: Sequence[str], purge: bool) -> str | None:
        return None

    def remove(self, names: Sequence[str], purge: bool, output: Path) -> None:
        for name in names:
            package, texts = self.known.pop(name)
            for text in texts:
                path = self.files.path(text)
                if path is not None and (purge or text not in package.config_files) and self.files.look(path) is not None:
                    self.files.remove_single(path)
            if name in self.scripts:
                self.scripts[name]()

    def record(self, name: str) -> PackageRecord:
        package, texts = self.known[name]
        paths = [(text, text) for text in texts]
        return PackageRecord(
            name=name, version=package.version, installed=True, control="", members=self.members.get(name, {}), paths=paths,
            config_files=[], services=self.brings.get(name, []), automatic=name in self.automatic,
        )  # fmt: skip

    def put_back(self, records: Sequence[PackageRecord], source: Source, folder: Path, output: Path, ready: Ready) -> None:
        for record in records:
            self.known[record.name] = Package(record.name, record.version, "installed"), [text for text, _ in record.paths]
        ready(records)

    def settle(self, records: Sequence[PackageRecord]) -> list[str]:
        return []

    def hold(self, names: Sequence[str]) -> None: ...

    def make_way(self, records: Sequence[PackageRecord]) -> None: ...

    def clear_stand_ins(self, records: Sequence[PackageRecord], source: Source) -> None: ...

    def clear_up(self) -> None: ...

    def left_over(self) -> bool:
        return False

    def around(self) -> Surroundings:
        return Surroundings()

    def last_acted(self, output: Path) -> int:
        return 0

    def at_work(self) -> str:
        return self.busy_with

    def wait(self) -> None: ...

    def compare(self, a: str, b: str) -> int:
        return compare_dotted(a, b)
