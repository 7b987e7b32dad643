"""The facets of a workstation in memory: what runs there and what can be run."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from kleff.errors import ActionFailed
from kleff.procedure.globs import fold, name_matches
from kleff.procedure.versions import compare_dotted
from kleff.registry.registry import KeyRef, Registry
from kleff.registry.values import RegValue, number_value
from kleff.workstation.memory.tree import MemoryTree
from kleff.workstation.paths import WPath
from kleff.workstation.things import (
    Given,
    Installed,
    Known,
    Package,
    PackageRecord,
    Power,
    Process,
    Running,
    Service,
    ServiceParts,
    Source,
)

# What a program does: it is given its arguments, and returns its exit code and what it says.
Behaviour = Callable[[Sequence[str]], tuple[int, str]]
SELF = 1000  # the number that Kleff itself would have


@dataclass
class MemoryProcesses:
    """Implements `Processes`."""

    files: MemoryTree
    running: list[Process] = field(default_factory=list)
    opens: dict[int, list[str]] = field(default_factory=dict)
    listens: dict[int, list[int]] = field(default_factory=dict)
    stubborn: set[int] = field(default_factory=set)
    _numbers: Iterator[int] = field(default_factory=lambda: itertools.count(SELF + 1))

    def add(
        self, name: str, path: str, account: str = "", opens: Sequence[str] = (), stubborn: bool = False, arguments: Sequence[str] = ()
    ) -> Process:
        """A program that runs; a stubborn one does not close when it is asked to."""
        pid = next(self._numbers)
        process = Process(pid, float(pid), name, path, (path, *arguments), 1, account)
        self.running.append(process)
        self.opens[pid] = list(opens)
        if stubborn:
            self.stubborn.add(pid)
        return process

    def all(self) -> list[Process]:
        return list(self.running)

    def ask_to_end(self, process: Process) -> None:
        if process.pid not in self.stubborn:
            self.end(process)

    def end(self, process: Process) -> None:
        self.running = [p for p in self.running if (p.pid, p.started) != (process.pid, process.started)]

    def listening(self, port: int) -> list[int]:
        return self.listens.get(port, [])

    def holders(self, places: Sequence[WPath]) -> list[tuple[Process, str]]:
        result = []
        for process in self.running:
            paths = ((text, self.files.path(text)) for text in (process.path, *self.opens.get(process.pid, [])))
            found = next((text for text, path in paths if path and any(place.holds(path) for place in places)), None)
            if found is not None:
                result.append((process, found))
        return result

    def service_of(self, process: Process) -> str | None:
        return None

    def opened(self, process: Process) -> list[str]:
        return self.opens.get(process.pid, [])

    def protected(self) -> set[int]:
        return {1, SELF}


@dataclass
class MemoryControl:
    """Implements `ServiceControl`, `TaskControl` and `Machine` of a Windows workstation."""

    registry: Registry
    started: set[str] = field(default_factory=set)
    switched_off: set[str] = field(default_factory=set)
    battery: int | None = None

    def running(self, name: str) -> bool:
        return fold(name) in self.started

    def stop(self, name: str) -> None:
        self.started.discard(fold(name))

    def start(self, name: str) -> None:
        self.started.add(fold(name))

    def set_start(self, name: str, start: int) -> None:
        key = self.registry.canonical(r"HKLM\SYSTEM\CurrentControlSet\Services")[0].child(name)
        self.registry.api.set(key.hive, key.physical, number_value("Start", start))

    def disabled(self, name: str) -> bool:
        return name in self.switched_off

    def set_enabled(self, name: str, enabled: bool) -> None:
        (self.switched_off.discard if enabled else self.switched_off.add)(name)

    def power(self) -> Power:
        return Power(self.battery is None, self.battery)

    def sessions(self) -> list[str]:
        return []


@dataclass
class MemoryServices:
    """Implements `Services` of a workstation that keeps them nowhere else."""

    known: dict[str, Service] = field(default_factory=dict)
    made_of: dict[str, ServiceParts] = field(default_factory=dict)
    held: set[str] = field(default_factory=set)
    can_hold: bool = True

    def add(self, name: str, running: bool = True, start: str = "enabled", parts: ServiceParts | None = None) -> None:
        self.known[name] = Service(name, running, start)
        self.made_of[name] = parts or ServiceParts()

    def get(self, name: str) -> Service | None:
        return self.known.get(name)

    def like(self, pattern: str) -> list[Service]:
        return [service for name, service in self.known.items() if name_matches(pattern, name, False)]

    def programs(self) -> dict[str, tuple[str, ...]]:
        return {name: parts.programs for name, parts in self.made_of.items()}

    def parts(self, name: str) -> ServiceParts:
        return self.made_of.get(name, ServiceParts())

    def stop(self, name: str) -> None:
        self.known[name] = replace(self.known[name], running=False)

    def dependents(self, name: str) -> list[str]:
        return []

    def hold(self, name: str) -> bool:
        self.held |= {name} if self.can_hold else set()
        return self.can_hold

    def settings(self, service: Service) -> list[tuple[KeyRef, RegValue]]:
        return []

    def forget(self, names: Sequence[str]) -> None: ...

    def release(self, service: Service) -> None:
        self.held.discard(service.name)

    def restore(self, service: Service) -> None:
        self.held.discard(service.name)
        if service.name in self.known:
            self.known[service.name] = service


@dataclass
class MemoryCommands:
    """Implements `Commands`: a program is a file with a behaviour, and has ended when it was started."""

    files: MemoryTree
    programs: dict[tuple[str, tuple[str, ...]], Behaviour] = field(default_factory=dict)
    ran: list[list[str]] = field(default_factory=list)

    def add(self, text: str, behaviour: Behaviour) -> None:
        """How the program at a path behaves."""
        path = self.files.path(text)
        assert path is not None
        if self.files.look(path) is None:
            self.files.add(text, "program", mode=0o755)
        self.programs[path.key] = behaviour

    def find(self, name: str) -> str | None:
        return None

    def objection(self, program: WPath) -> str | None:
        look = self.files.look(program)
        if look is None or not look.is_file:
            return f"{program} is not there"
        return None if self.files.only_admin(program.parent) else f"others than an administrator can change {program}"

    def start(self, argv: Sequence[str], output: Path, given: Given | None = None, known: Known | None = None) -> Running:
        path = self.files.path(argv[0])
        if path is None or self.files.look(path) is None:
            raise ActionFailed(f"{argv[0]} cannot be started: it is not there")
        running = Running(SELF + 1, 1.0, output, SELF + 2)
        if known is not None:
            known(running)
        self.ran.append(list(argv))
        behaviour = self.programs.get(path.key)
        running.code, said = behaviour(argv) if behaviour is not None else (0, "")
        with output.open("ab") as log:
            log.write(said.encode())
        if given is not None and given.errors is not None:
            given.errors.touch()
        return running

    def variable_of(self, script: WPath, variable: str) -> str:
        lines = self.files.read(script).decode().splitlines()
        return next((line.partition("=")[2] for line in lines if line.startswith(f"{variable}=")), "")

    def find_running(self, argv: Sequence[str], output: Path) -> Running | None:
        return None

    def wait(self, running: Running, seconds: float) -> bool:
        return True

    def busy(self, running: Running) -> bool:
        return False


@dataclass
class MemoryPackages:
    """Implements `Packages`: names, versions, and the files that belong to each.

    Attributes:
        needs: what each package depends on; automatic: which were brought in for others; sources: which a source offers;
        installed_with: which were asked for in the same act.
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
        going = list(names)
        for name in going:  # grows while it is gone through
            going += [other for other, needed in self.needs.items() if name in needed and other in self.known and other not in going]
        return going

    def unneeded(self, without: Sequence[str] = ()) -> list[str] | None:
        there = [name for name in self.known if name not in (self.would_go(without) or ())]
        kept = [name for name in there if name not in self.automatic]
        for name in kept:
            kept += [needed for needed in self.needs.get(name, []) if needed in there and needed not in kept]
        return [name for name in there if name not in kept]

    def stands_for(self, name: str) -> list[str]:
        return [] if self.known[name][1] else [other for other in self.needs.get(name, []) if other in self.automatic]

    def offered_by(self, source: str) -> set[tuple[str, str]]:
        return {(name, self.known[name][0].version) for name in self.sources.get(source, []) if name in self.known}

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
            config_files=[], services=self.brings.get(name, []),
        )  # fmt: skip

    def put_back(self, records: Sequence[PackageRecord], source: Source, folder: Path, output: Path, ready: Callable[[], None]) -> None:
        for record in records:
            self.known[record.name] = Package(record.name, record.version, "installed"), [text for text, _ in record.paths]
        ready()

    def settle(self, records: Sequence[PackageRecord]) -> list[str]:
        return []

    def make_way(self, records: Sequence[PackageRecord]) -> None: ...

    def clear_stand_ins(self, records: Sequence[PackageRecord], source: Source) -> None: ...

    def clear_up(self) -> None: ...

    def at_work(self) -> str:
        return self.busy_with

    def wait(self) -> None: ...

    def compare(self, a: str, b: str) -> int:
        return compare_dotted(a, b)
