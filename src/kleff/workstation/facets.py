"""The facets of a workstation: one small protocol for each."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from kleff.procedure.globs import PathStyle
from kleff.procedure.versions import Compare
from kleff.registry.registry import KeyRef, Registry
from kleff.registry.values import RegValue
from kleff.workstation.driver_facet import Drivers
from kleff.workstation.files.lines import Edit
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.flatpak_facet import Flatpaks
from kleff.workstation.package_facet import Packages
from kleff.workstation.paths import WPath
from kleff.workstation.system_facet import AfterRestart, Boots, Installs, LocalAccounts, Readiness, Registrations, Renames
from kleff.workstation.things import (
    Account,
    Alternative,
    Entry,
    Given,
    Known,
    Number,
    Process,
    Running,
    Service,
    ServiceParts,
    Task,
)


class Accounts(Protocol):
    def all(self) -> list[Account]:
        """Every profile, also those that are touched only when named."""

    def numbers(self) -> list[Number]:
        """Every account and group that files can belong to, the system's own too."""

    def folder(self, account: Account, variable: str) -> WPath | None:
        """What `{user...}` means for an account, from that account's own settings; None if such a system has no such folder.

        Raises:
            NotTold: it has, and where it is cannot be told.
        """


class Records(Protocol):
    """Where a workstation keeps which accounts and groups there are, those of services too."""

    def find(self, name: str, group: bool) -> Number | None:
        """An account or group; None if there is none of that name."""

    def groups(self, name: str) -> tuple[str, list[str]]:
        """An account's own group, and those it is a member of besides."""

    def members(self, name: str) -> list[str]:
        """The accounts of a group, those whose own group it is first."""

    def parts(self, name: str, group: bool, own_group: bool) -> list[tuple[WPath, Callable[[list[str]], list[Edit]]]]:
        """The files that know it, and what must be done to their lines to forget it, in that order.

        Args:
            own_group: an account's group of the same name goes with it.
        """

    def settled(self, path: WPath, made: Sequence[Edit], primary: str) -> tuple[list[Edit], str]:
        """The same edits with numbers that are free now, and what to tell of that.

        Args:
            primary: the name of the account's own group.
        """

    def locked(self) -> AbstractContextManager[None]:
        """Keep others from changing these files meanwhile."""

    def belongings(self, number: Number) -> Iterator[WPath]:
        """What belongs to it on the workstation's own disks, without what is set aside or goes with a restart."""


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

    def silent(self) -> list[Process]:
        """Of which `holders` could not tell, when it was asked last, all that they have open: what they have gave no answer."""

    def unit_of(self, process: Process) -> str | None: ...  # of its account's own session

    def service_of(self, process: Process) -> str | None:
        """The name of the service a process belongs to, where the system tells."""

    def opened(self, process: Process) -> list[str]:
        """The paths of what it has open or works in, as far as the system shows it."""

    def protected(self) -> set[int]:
        """Numbers never to be signalled: process 1, Kleff and its ancestors."""

    def used(self, pids: Collection[int]) -> tuple[float, int]:
        """What processes have used together: (seconds of processor time, bytes written)."""


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

    def like(self, pattern: str) -> list[Service]:
        """Those whose name matches a pattern with wildcards, as far as they are registered or loaded; instances of templates too."""

    def programs(self) -> dict[str, tuple[str, ...]]:
        """The programs that each registered service runs, where the system tells."""

    def parts(self, name: str) -> ServiceParts:
        """What a service consists of besides its state; nothing where it is not registered."""

    def stop(self, name: str) -> None:
        """Stop and wait until stopped.

        Raises:
            ActionFailed: it does not stop.
        """

    def dependents(self, name: str) -> list[str]:
        """The services that depend on it and run, in the order in which they must be stopped."""

    def hold(self, name: str) -> bool:
        """Keep it from being started until `release`; False if this system has no way to."""

    def settings(self, service: Service) -> list[tuple[KeyRef, RegValue]]:
        """What `hold` changes in the registry, as it was before."""

    def running(self) -> list[str]:
        """All that is started now, sockets and timers too; nothing where no manager can be asked."""

    def forget(self, names: Sequence[str]) -> None:
        """Let the service manager look anew what there is, and forget of these what is not there any more; nothing is stopped."""

    def release(self, service: Service) -> None:
        """Let it be started again as before; nothing is started."""

    def restore(self, service: Service) -> None:
        """Give back start type and running state as they were."""


class Tasks(Protocol):
    def all(self) -> list[Task]: ...

    def set_enabled(self, name: str, enabled: bool) -> None:
        """Let a task run, or not.

        Raises:
            ActionFailed: the system says no.
        """

    def definition(self, name: str) -> str:
        """What a task is, as XML (Task Scheduler schema)."""

    def delete(self, name: str) -> None:
        """With all that the system knows of it. Done twice is done once."""

    def register(self, name: str, definition: str) -> None:
        """The inverse: make it as it was."""


class Units(Protocol):
    """Services that an account's own session runs."""

    def get(self, account: Account, name: str) -> Service | None: ...

    def stop(self, account: Account, name: str) -> None:
        """Stop it, and keep it from being started until `restore` or `release`. Raises ActionFailed: it does not stop."""

    def release(self, account: Account, name: str) -> None: ...

    def restore(self, account: Account, service: Service) -> None:
        """Give back its state as it was."""


class Entries(Protocol):
    def all(self) -> list[Entry]: ...

    def present(self, entry: Entry) -> bool:
        """Whether it is still registered."""

    def unread(self) -> list[str]:
        """The accounts whose registered products cannot be looked at now."""


class Commands(Protocol):
    def find(self, name: str) -> str | None:
        """Where a command of this name is found by the workstation's own search path, or None."""

    def objection(self, program: WPath) -> str | None:
        """Why this program must not be run with Kleff's rights, or None."""

    def start(self, argv: Sequence[str], output: Path, given: Given | None = None, known: Known | None = None) -> Running:
        """Start a program, without a shell, under a supervisor that outlives Kleff and keeps how it ended beside the output.

        Args:
            known: is called before the program itself runs; if Kleff is killed within, nothing was started.

        Raises:
            ActionFailed: it cannot be started.
        """

    def find_running(self, argv: Sequence[str], output: Path) -> Running | None:
        """A process that was started with this command and still runs, or None."""

    def wait(self, running: Running, seconds: float) -> bool:
        """Wait for its end; True if it ended (`code` is then set, unless its supervisor was killed too)."""

    def busy(self, running: Running) -> bool:
        """Whether it, or anything it has left at work, still runs and is watched."""


class Alternatives(Protocol):
    """Names that stand for one of several programs."""

    def all(self) -> list[Alternative]:
        """Every one of each name.

        Raises:
            ActionFailed: it cannot be told.
        """

    def remove(self, one: Alternative) -> None:
        """Let it be one no more.

        Raises:
            ActionFailed: the system says no.
        """

    def put_back(self, one: Alternative) -> None:
        """The inverse; done twice is done once.

        Raises:
            ActionFailed: the system says no.
        """


class Scripts(Protocol):
    """Scripts of a shell, which are only asked what they set."""

    def variable_of(self, script: WPath, variable: str) -> str:
        """What a variable holds once a script was sourced, with no rights, no network and little time; "" if it is not set.

        Raises:
            ActionFailed: it does not end, or cannot be asked so.
        """


class Variables(Protocol):
    def folders(self, variable: str) -> list[WPath]:
        """What a system variable stands for; empty if such a system has none of that name.

        Raises:
            NotTold: it has, and it is not set here.
        """


@dataclass
class Workstation:
    """The machine a procedure is run on, with the facets it has.

    Attributes:
        spec: how it is named on the command line.
        system: `windows` or `linux`.
        identity: tells this workstation from every other.
        boot: changes with every restart, and with nothing else; "" if it is not running.
        boot_by_clock: as an earlier Kleff kept it of a Windows; it moves when the clock is set.
        state: folder on the workstation itself for the lock and the mark of an unfinished case.
        admin: whether Kleff works here with an administrator's rights.
        ground: the folder on this machine that is the workstation: `/` for a real one.
        needs_admin: whatever is done there needs an administrator.
        program_folders: where the system's own programs lie; in which a program is looked for that is named by its name alone.
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
    installs: Installs | None = None
    services: Services | None = None
    registrations: Registrations | None = None
    processes: Processes | None = None
    packages: Packages | None = None
    commands: Commands | None = None
    readiness: Readiness | None = None
    tasks: Tasks | None = None
    units: Units | None = None
    records: Records | None = None
    scripts: Scripts | None = None
    after_restart: AfterRestart | None = None
    boots: Boots | None = None
    renames: Renames | None = None
    drivers: Drivers | None = None
    local_accounts: LocalAccounts | None = None
    alternatives: Alternatives | None = None
    flatpaks: Flatpaks | None = None
    boot_by_clock: str = ""
    ground: Path = Path("/")
    needs_admin: bool = False
    program_folders: tuple[WPath, ...] = ()

    def release(self) -> list[str]:
        """Hold nothing that keeps people from their work, as before a question, a program that is run, a restart: see `RegistryApi`."""
        return self.registry.api.release() if self.registry else []

    @property
    def compare_versions(self) -> Compare | None:
        return self.packages.compare if self.packages else None
