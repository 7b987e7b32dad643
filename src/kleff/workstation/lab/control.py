"""The lowest layer of a lab's processes, services and commands."""

from __future__ import annotations

import dataclasses
import errno
import os
import sys
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from kleff.errors import ActionFailed
from kleff.procedure.globs import fold
from kleff.registry.registry import KeyRef, Registry
from kleff.registry.values import number_value, text_value
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.lab.lab import LINE, Lab, add_process
from kleff.workstation.paths import WPath
from kleff.workstation.things import Given, InstallerPackage, InstallerProduct, Known, Power, Process, Running
from kleff.workstation.this_machine import host
from kleff.workstation.windows.command_lines import behind
from kleff.workstation.windows.programs import find_program, objection
from kleff.workstation.windows.services import NewService

DISABLED = 4  # a start type


class LabProcesses:
    def __init__(self, lab: Lab, files: FileTree) -> None:
        self._lab = lab
        self._files = files

    def all(self) -> list[Process]:
        return [
            Process(p["pid"], p["started"], p["name"], p["path"], tuple(p["command"]), p["parent"], p["account"], p.get("title", ""))
            for p in self._lab.state().processes
        ]

    def ask_to_end(self, process: Process) -> None:
        self._end(process, force=False)

    def end(self, process: Process) -> None:
        self._end(process, force=True)

    def opened(self, process: Process) -> list[str]:
        return [text for p in self._lab.state().processes if p["pid"] == process.pid for text in p.get("opens", [])]

    def unit_of(self, process: Process) -> str | None:
        return None

    def service_of(self, process: Process) -> str | None:
        return None  # a lab's services are no processes

    def used(self, pids: Collection[int]) -> tuple[float, int]:
        own = [p for p in self._lab.state().processes if p["pid"] in pids]
        return sum(p.get("cpu", 0.0) for p in own), sum(p.get("written", 0) for p in own)

    def protected(self) -> set[int]:
        return {1}

    def listening(self, port: int) -> list[int]:
        return [p["pid"] for p in self._lab.state().processes if port in p.get("listens", [])]

    def holders(self, places: Sequence[WPath]) -> list[tuple[Process, str]]:
        result = []
        for process, state in zip(self.all(), self._lab.state().processes, strict=True):
            for text in (process.path, *state.get("opens", [])):
                path = self._files.path(text)
                if path is not None and any(p.holds(path) for p in places):
                    result.append((process, text))
                    break
        return result

    def silent(self) -> list[Process]:
        waiting = {p["pid"] for p in self._lab.state().processes if p.get("waits")}
        return [process for process in self.all() if process.pid in waiting]

    def _end(self, process: Process, force: bool) -> None:
        with self._lab.locked():
            state = self._lab.state()
            before = {(p["pid"], p["started"]) for p in state.processes}
            state.processes = [
                p for p in state.processes if (p["pid"], p["started"]) != (process.pid, process.started) or (p["stubborn"] and not force)
            ]
            if (process.pid, process.started) in before - {(p["pid"], p["started"]) for p in state.processes}:
                for described in self._lab.file.process:  # a watchdog starts it again
                    if described.name == process.name and described.kept_by in {p["name"] for p in state.processes}:
                        add_process(state, described)
            self._lab.save(state)


class LabMachine:
    """Power and sessions of a lab, as `lab.toml` says."""

    def __init__(self, lab: Lab) -> None:
        self._lab = lab

    def power(self) -> Power:
        return Power(self._lab.file.battery is None, self._lab.file.battery)

    def installing(self) -> bool:
        return self._lab.state().installing

    def sessions(self) -> list[str]:
        return self._lab.sessions()


class LabLocalAccounts:
    """The accounts that programs have made on a lab."""

    def __init__(self, lab: Lab) -> None:
        self._lab = lab

    def has(self, name: str) -> bool:
        gone = [fold(n) for n in self._lab.state().accounts_gone]
        return fold(name) in map(fold, self._lab.file.made_accounts) and fold(name) not in gone

    def delete(self, name: str) -> None:
        with self._lab.locked():
            state = self._lab.state()
            state.accounts_gone.append(name)
            self._lab.save(state)


class LabInstalls:
    """The installer of a lab: packages as `lab.toml` describes them, as long as their files are there.

    Args:
        registry: in which it knows what it has installed.
    """

    def __init__(self, lab: Lab, files: FileTree, registry: Registry) -> None:
        self._lab, self._files, self._registry = lab, files, registry

    def products(self) -> list[InstallerProduct]:
        return [
            InstallerProduct(p.product_code, "", p.subject, p.version, p.publisher, p.path) for p in self._lab.file.package
            if p.registered and any(self._registry.exists(key) for key in self._registry.canonical(p.registered, view=64))
        ]  # fmt: skip

    def packages(self) -> list[InstallerPackage]:
        there = [p for p in self._lab.file.package if (path := self._files.path(p.path)) and self._files.look(path)]
        return [InstallerPackage(p.path, p.subject, p.product_code) for p in there]


class LabBoots:
    """Starting a lab anew, and what it does by itself then: `kleff lab restart` starts it."""

    def __init__(self, lab: Lab, automatic: Callable[[], list[str]]) -> None:
        self._lab, self._automatic = lab, automatic

    def restart(self) -> None:
        self._lab.restart(self._automatic(), wait=False)

    def prompts(self) -> list[str]:
        return [self._lab.file.locked] if self._lab.file.locked else []

    @contextmanager
    def awake(self) -> Iterator[None]:
        self._count(1)
        try:
            yield
        finally:
            self._count(-1)

    def _count(self, more: int) -> None:
        with self._lab.locked():
            state = self._lab.state()
            state.awake = max(state.awake + more, 0)
            self._lab.save(state)

    def arrange(self, title: str, words: Sequence[str]) -> None:
        self._arranged(list(words))

    def cancel(self) -> None:
        self._arranged([])

    def _arranged(self, words: list[str]) -> None:
        with self._lab.locked():
            state = self._lab.state()
            state.arranged = words
            self._lab.save(state)


class LabServiceControl:
    """Implements the service manager of a lab."""

    def __init__(self, lab: Lab, registry: Registry) -> None:
        self._lab = lab
        self._registry = registry

    def set_start(self, name: str, start: int) -> None:
        key = self._key(name)
        self._registry.api.set(key.hive, key.physical, number_value("Start", start))
        self._registry.api.flush()

    def _key(self, name: str) -> KeyRef:
        return self._registry.canonical(r"HKLM\SYSTEM\CurrentControlSet\Services")[0].child(name)

    def running(self, name: str) -> bool:
        return name.upper() in {n.upper() for n in self._lab.state().running_services}

    def stop(self, name: str) -> None:
        with self._lab.locked():
            state = self._lab.state()
            state.running_services = [n for n in state.running_services if n.upper() != name.upper()]
            self._lab.save(state)

    def start(self, name: str) -> None:
        key = self._key(name)
        start = self._registry.value(key, "Start")
        if not self._registry.exists(key):
            raise FileNotFoundError(errno.ENOENT, "there is no such service", name)
        if start is not None and start.number == DISABLED:
            raise OSError(errno.EIO, "the service is disabled", name)
        with self._lab.locked():
            state = self._lab.state()
            if name.upper() not in {n.upper() for n in state.running_services}:
                state.running_services.append(name)
                self._lab.save(state)

    def take_out(self, name: str) -> bool:
        """One that a program of the lab has open goes at the restart only; it is marked so."""
        self.stop(name)
        key = self._key(name)
        if any(name in p.get("opens", []) for p in self._lab.state().processes) and self._registry.exists(key):
            self._registry.api.set(key.hive, key.physical, number_value("DeleteFlag", 1))
        elif self._registry.exists(key):
            self._registry.delete_tree(key)
        self._registry.api.flush()
        return not self._registry.exists(key)

    def make(self, name: str, made: NewService) -> None:
        key = self._key(name)
        if self._registry.exists(key):
            raise FileExistsError(errno.EEXIST, "there is such a service", name)
        self._registry.api.create(key.hive, key.physical)
        self._registry.api.set(key.hive, key.physical, text_value("ImagePath", made.program, expand="%" in made.program))
        self._registry.api.set(key.hive, key.physical, number_value("Start", made.start))
        self._registry.api.flush()


class LabCommands:
    """Runs a lab's programs, each as a process of its own on this machine.

    Args:
        search: the folders in which a bare command name is looked for.
        app_paths: gives the names registered as programs besides.
        release: lets go of what must not be held while a program works.
    """

    def __init__(
        self, lab: Lab, files: FileTree, search: Sequence[str], app_paths: Callable[[], list[str]], release: Callable[[], object]
    ) -> None:
        self._lab = lab
        self._files = files
        self._search = search
        self._app_paths = app_paths
        self._release = release

    def find(self, name: str) -> str | None:
        return find_program(self._files, self._search, self._app_paths(), name)

    def objection(self, program: WPath) -> str | None:
        return objection(self._files, program)

    def start(self, argv: Sequence[str], output: Path, given: Given | None = None, known: Known | None = None) -> Running:
        program = self._files.path(argv[0])
        look = self._files.look(program) if program else None
        if look is None or not look.is_file:
            raise ActionFailed(f"{argv[0]} is not there", remedy="check the procedure, or remove the product by hand")
        self._release()
        own = {name: value for name, value in os.environ.items() if not name.startswith("KLEFF_SECRET_")}
        environment = {**own, "PYTHONPATH": os.pathsep.join(p for p in sys.path if p)}
        given = given or Given()
        line = behind(given.line, argv[1:])
        self._lab.note_line(argv[0], line)
        command = [sys.executable, "-m", "kleff.workstation.lab.program", str(self._lab.folder), argv[0], LINE, line]
        return host().start_program(command, output, environment, dataclasses.replace(given, line=""), known)

    def find_running(self, argv: Sequence[str], output: Path) -> Running | None:
        return host().find_program(["kleff.workstation.lab.program", str(self._lab.folder), *argv], output)

    def wait(self, process: Running, seconds: float) -> bool:
        ended = host().wait_for_program(process, seconds)
        if ended and process.code is not None:
            process.code = self._full_code(process)
        return ended

    def busy(self, process: Running) -> bool:
        return host().program_busy(process)

    def _full_code(self, process: Running) -> int | None:
        """This machine passes on 8 bits of an exit code only; the program leaves the whole number beside the state."""
        try:
            return int((self._lab.folder / "state" / f"exit-{process.program}").read_text("ascii"))
        except (OSError, ValueError):
            return process.code
