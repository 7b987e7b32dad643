"""The facets of a workstation: one small protocol for each, and what they deal in."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Protocol

import msgspec

from kleff.procedure.globs import PathStyle
from kleff.procedure.versions import Compare
from kleff.registry.registry import Registry
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.identity import Identity
from kleff.workstation.paths import Look, WPath


@dataclass(frozen=True)
class Account:
    """A person's profile.

    Attributes:
        id: uid or SID.
        uid: owner of its files where the system has numbers for that.
        ordinary: False for default, public and system accounts, which are touched only when named.
    """

    name: str
    id: str
    home: WPath
    uid: int | None = None
    ordinary: bool = True


@dataclass(frozen=True)
class Process:
    """A running program; `started` tells it from a later one with the same number; `title` is its window's, where there is one."""

    pid: int
    started: float
    name: str
    path: str
    command: tuple[str, ...]
    parent: int
    account: str = ""
    title: str = ""


def line_of(process: Process) -> str:
    """A process for people, with its command line."""
    who = f" of {process.account}" if process.account else ""
    return f"{process.name}, number {process.pid}{who}: {' '.join(process.command)}"


@dataclass(frozen=True)
class Service:
    """A service: whether it runs, and how it starts (`automatic`, `manual`, `disabled`, ...)."""

    name: str
    running: bool
    start: str
    title: str = ""


@dataclass(frozen=True)
class Package:
    """A package as the package manager knows it.

    Attributes:
        state: `installed`, or `config-files` if only its configuration is left.
        config_files: its configuration files, as absolute paths.
        broken: an installation or removal of it was cut off.
    """

    name: str
    version: str
    state: str
    essential: bool = False
    config_files: tuple[str, ...] = ()
    title: str = ""
    installed_size: int = 0
    broken: bool = False


class ConfigFile(msgspec.Struct, kw_only=True):
    """A configuration file of a package; `changed` if its content is not what the package had brought."""

    path: str
    obsolete: bool = False
    changed: bool = False


class PackageRecord(msgspec.Struct, kw_only=True):
    """What the package manager knows of a package besides its files: enough to build the same package anew.

    Attributes:
        installed: False if only its configuration is left.
        control: its control paragraph; `members`: scripts, checksums and the like by name. Bytes that are no text as surrogates.
        paths: (as the package knows it, where it lies), in the package's own order.
        services: that it brings.
    """

    name: str
    version: str
    installed: bool
    control: str
    members: dict[str, str]
    paths: list[tuple[str, str]]
    config_files: list[ConfigFile]
    services: list[str]


# For where a path lies: what was there when the package was removed, how its content is read, where a link led; or None.
Source = Callable[[str], "tuple[Look, Callable[[], IO[bytes]] | None, str] | None"]


@dataclass(frozen=True)
class Entry:
    """A product that is registered as installed.

    Attributes:
        id: tells it from every other, whatever it is called; registered_at: for people.
        quiet: the command that removes it without a question, as arguments; None if none is known.
        account: the account in whose own hive it is registered, or "".
        product_code: of a Windows Installer product, with braces.
    """

    name: str
    version: str
    publisher: str
    id: Identity
    registered_at: str
    quiet: tuple[str, ...] | None
    registered: str
    location: str = ""
    account: str = ""
    product_code: str = ""


@dataclass(frozen=True)
class Given:
    """What a command is given besides its arguments.

    Attributes:
        stdin: a file, or `text`, for its standard input.
        environment: variables besides the usual ones.
        hide: texts that must not appear in what is kept of its output.
        errors: where its standard error goes; with the output if None.
    """

    stdin: Path | None = None
    text: str = ""
    environment: Mapping[str, str] = field(default_factory=dict)
    hide: tuple[str, ...] = ()
    errors: Path | None = None


@dataclass
class Running:
    """A command that was started, told apart for a later run of Kleff by number and start time."""

    pid: int
    started: float
    code: int | None = None


class Accounts(Protocol):
    def all(self) -> list[Account]:
        """Every profile, also those that are touched only when named."""

    def folder(self, account: Account, variable: str) -> WPath | None:
        """What `{user...}` means for an account, from that account's own settings; None if unset."""


class Processes(Protocol):
    def all(self) -> list[Process]: ...

    def ask_to_end(self, process: Process) -> None:
        """Ask the process to close; nothing happens if it is gone or another has its number."""

    def end(self, process: Process) -> None:
        """End the process."""

    def listening(self, port: int) -> list[int]:
        """The numbers of the processes that listen on a TCP port."""

    def holders(self, places: Sequence[WPath]) -> list[tuple[Process, str]]:
        """Who has something open at or below a place, runs from there or works in it; with that path. The protected are left out."""

    def service_of(self, process: Process) -> str | None:
        """The name of the service a process belongs to, where the system tells."""

    def protected(self) -> set[int]:
        """Numbers never to be signalled: process 1, Kleff and its ancestors."""


def with_children(found: list[Process], facet: Processes) -> list[Process]:
    """The processes and everything they started, children last; nothing protected."""
    everything = facet.all()
    protected = facet.protected()
    result = {p.pid: p for p in found}
    grown = True
    while grown:
        more = {p.pid: p for p in everything if p.parent in result and p.pid not in result and p.pid not in protected}
        result.update(more)
        grown = bool(more)
    return list(result.values())


class Services(Protocol):
    def get(self, name: str) -> Service | None: ...

    def stop(self, name: str) -> None:
        """Stop and wait until stopped.

        Raises:
            ActionFailed: it does not stop.
        """

    def dependents(self, name: str) -> list[str]:
        """The services that depend on it and run, in the order in which they must be stopped."""

    def hold(self, name: str) -> bool:
        """Keep it from being started until `release`; False if this system has no way to."""

    def release(self, service: Service) -> None:
        """Let it be started again as before; nothing is started."""

    def restore(self, service: Service) -> None:
        """Give back start type and running state as they were."""


@dataclass(frozen=True)
class Task:
    """A scheduled task: the command it runs, and whether it may run."""

    name: str
    command: str
    enabled: bool


class Tasks(Protocol):
    def all(self) -> list[Task]: ...

    def set_enabled(self, name: str, enabled: bool) -> None:
        """Let a task run, or not.

        Raises:
            ActionFailed: the system says no.
        """


class Units(Protocol):
    """Services that an account's own session runs."""

    def get(self, account: Account, name: str) -> Service | None: ...

    def stop(self, account: Account, name: str) -> None:
        """Stop it, and keep it from being started until `restore`.

        Raises:
            ActionFailed: it does not stop.
        """

    def restore(self, account: Account, service: Service) -> None:
        """Give back its state as it was."""


class Entries(Protocol):
    def all(self) -> list[Entry]: ...

    def present(self, entry: Entry) -> bool:
        """Whether it is still registered."""


class Packages(Protocol):
    def all(self) -> list[Package]: ...

    def owners(self, paths: Sequence[WPath], below: bool = True) -> dict[str, list[str]]:
        """The packages that own each path or (`below`) something below it: path text -> package names."""

    def objection(self, names: Sequence[str], purge: bool) -> str | None:
        """Why the package manager would not remove these (it is asked, nothing is done), or None."""

    def remove(self, names: Sequence[str], purge: bool, output: Path) -> None:
        """Remove or purge.

        Raises:
            ActionFailed: the package manager failed; its output is in the file.
        """

    def record(self, name: str) -> PackageRecord:
        """What it takes to build an installed package anew."""

    def put_back(self, records: Sequence[PackageRecord], source: Source, folder: Path, output: Path, ready: Callable[[], None]) -> None:
        """Build packages anew and install them, without network and without starting services.

        Args:
            folder: where they are built; they are taken away again.
            ready: called when their files are in place and nothing of theirs has run yet.

        Raises:
            ActionFailed: the package manager failed; its output is in the file.
        """

    def clear_stand_ins(self, records: Sequence[PackageRecord], source: Source) -> None:
        """Take away what `put_back` had to invent: stand-ins for files that were not there when the packages were recorded."""

    def clear_up(self) -> None:
        """Take away what a run that was killed may have left in the way."""

    def wait(self) -> None:
        """Let a package manager that is at work end first.

        Raises:
            ActionFailed: it does not end.
        """

    def compare(self, a: str, b: str) -> int:
        """The package manager's own version comparison: below, equal, above zero."""


class Commands(Protocol):
    def find(self, name: str) -> str | None:
        """Where a command of this name is found by the workstation's own search path, or None."""

    def objection(self, program: WPath) -> str | None:
        """Why this program must not be run with Kleff's rights, or None."""

    def start(self, argv: Sequence[str], output: Path, given: Given | None = None) -> Running:
        """Start a program, without a shell; its output goes to the file.

        Raises:
            ActionFailed: it cannot be started.
        """

    def find_running(self, argv: Sequence[str]) -> Running | None:
        """A process that was started with this command and still runs, or None."""

    def wait(self, running: Running, seconds: float) -> bool:
        """Wait for its end; True if it ended (`code` is then set where it can be known)."""


@dataclass(frozen=True)
class Power:
    """Where the power comes from; the battery's charge in percent, where there is one."""

    mains: bool
    percent: int | None = None


class Readiness(Protocol):
    """What the workstation is busy with."""

    def power(self) -> Power: ...

    def restart_pending(self) -> list[str]:
        """Why a restart is pending; empty if none is."""

    def at_work(self) -> list[str]:
        """Installers and package managers that are at work."""

    def signed_in(self) -> list[str]:
        """Who else is signed in."""

    def version(self) -> str:
        """The system's version, or ""."""

    def sync_roots(self) -> list[tuple[str, str]]:
        """Folders that a sync program keeps in step with an account elsewhere, as far as the system shows it: (path, who)."""


class Variables(Protocol):
    def folders(self, variable: str) -> list[WPath]:
        """What a system variable stands for; empty if it is unset here."""


@dataclass
class Workstation:
    """The machine a procedure is run on, with the facets it has.

    Attributes:
        spec: how it is named on the command line.
        system: `windows` or `linux`.
        identity: tells this workstation from every other.
        boot: changes with every restart; "" if it is not running.
        state: folder on the workstation itself for the lock and the mark of an unfinished case.
        admin: whether Kleff works here with an administrator's rights.
        ground: the folder on this machine that is the workstation: `/` for a real one.
        needs_admin: whatever is done there needs an administrator.
    """

    spec: str
    name: str
    system: str
    style: PathStyle
    identity: str
    boot: str
    state: Path
    admin: bool
    bits: int
    description: str
    files: FileTree
    accounts: Accounts
    variables: Variables
    registry: Registry | None = None
    entries: Entries | None = None
    services: Services | None = None
    processes: Processes | None = None
    packages: Packages | None = None
    commands: Commands | None = None
    readiness: Readiness | None = None
    tasks: Tasks | None = None
    units: Units | None = None
    ground: Path = Path("/")
    needs_admin: bool = False

    @property
    def compare_versions(self) -> Compare | None:
        return self.packages.compare if self.packages else None
