"""The facets of a workstation in memory: what runs there and what can be run."""

from __future__ import annotations

import errno
import itertools
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from kleff.errors import ActionFailed
from kleff.procedure.globs import fold, name_matches
from kleff.registry.registry import KeyRef, Registry
from kleff.registry.values import RegValue, number_value
from kleff.workstation.memory.tree import MemoryTree
from kleff.workstation.paths import WPath
from kleff.workstation.things import (
    Given,
    Known,
    Power,
    Process,
    Running,
    Service,
    ServiceParts,
)
from kleff.workstation.windows.services import NewService

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
    waits: set[int] = field(default_factory=set)
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

    def silent(self) -> list[Process]:
        return [process for process in self.running if process.pid in self.waits]

    def unit_of(self, process: Process) -> str | None:
        return None

    def service_of(self, process: Process) -> str | None:
        return None

    def opened(self, process: Process) -> list[str]:
        return self.opens.get(process.pid, [])

    def used(self, pids: Collection[int]) -> tuple[float, int]:
        return 0.0, 0

    def protected(self) -> set[int]:
        return {1, SELF}


@dataclass
class MemoryAccounts:
    """Implements `LocalAccounts`."""

    names: set[str] = field(default_factory=set)

    def has(self, name: str) -> bool:
        return fold(name) in map(fold, self.names)

    def delete(self, name: str) -> None:
        self.names = {n for n in self.names if fold(n) != fold(name)}


@dataclass
class MemoryControl:
    """Implements `ServiceControl`, `TaskControl` and `Machine` of a Windows workstation."""

    registry: Registry
    files: MemoryTree
    started: set[str] = field(default_factory=set)
    switched_off: set[str] = field(default_factory=set)
    battery: int | None = None
    needs_password: set[str] = field(default_factory=set)

    def running(self, name: str) -> bool:
        return fold(name) in self.started

    def stop(self, name: str) -> None:
        self.started.discard(fold(name))

    def start(self, name: str) -> None:
        self.started.add(fold(name))

    def set_start(self, name: str, start: int) -> None:
        key = self.registry.canonical(r"HKLM\SYSTEM\CurrentControlSet\Services")[0].child(name)
        self.registry.api.set(key.hive, key.physical, number_value("Start", start))

    def take_out(self, name: str) -> bool:
        self.started.discard(fold(name))
        self.registry.delete_tree(self._service(name))
        return True

    def make(self, name: str, made: NewService) -> None:
        key = self._service(name)
        self.registry.api.create(key.hive, key.physical)

    def _service(self, name: str) -> KeyRef:
        return self.registry.canonical(r"HKLM\SYSTEM\CurrentControlSet\Services")[0].child(name)

    def disabled(self, name: str) -> bool:
        return name in self.switched_off

    def set_enabled(self, name: str, enabled: bool) -> None:
        (self.switched_off.discard if enabled else self.switched_off.add)(name)

    def definition(self, name: str) -> str:
        return self.files.read(self._task(name)).decode()

    def delete(self, name: str) -> None:
        if self.files.look(self._task(name)) is not None:
            self.files.remove_single(self._task(name))

    def register(self, name: str, definition: str) -> None:
        if name in self.needs_password:
            raise PermissionError(errno.EACCES, "it runs with a password", name)
        self.files.add(str(self._task(name)), definition)

    def _task(self, name: str) -> WPath:
        path = self.files.path(rf"C:\Windows\System32\Tasks\{name}")
        assert path is not None
        return path

    def power(self) -> Power:
        return Power(self.battery is None, self.battery)

    def installing(self) -> bool:
        return False

    def sessions(self) -> list[str]:
        return []


HELD = "masked-runtime"  # how a service starts that is held, as systemd calls it


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
        service = self.known.get(name)
        return replace(service, start=HELD) if service is not None and name in self.held else service

    def like(self, pattern: str) -> list[Service]:
        return [service for name in self.known if name_matches(pattern, name, False) and (service := self.get(name)) is not None]

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

    def running(self) -> list[str]:
        return [service.name for service in self.like("*") if service.running]

    def forget(self, names: Sequence[str]) -> None: ...

    def release(self, service: Service) -> None:
        if service.start != HELD:
            self.held.discard(service.name)

    def restore(self, service: Service) -> None:
        self.release(service)
        if service.name in self.held and service.running:
            raise ActionFailed(f"the service {service.name} does not start: it is masked")
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
        words = [argv[0], *([given.line] if given is not None and given.line else []), *argv[1:]]
        self.ran.append(words)
        behaviour = self.programs.get(path.key)
        running.code, said = behaviour(words) if behaviour is not None else (0, "")
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
