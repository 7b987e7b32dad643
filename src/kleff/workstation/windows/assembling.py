"""A Windows workstation, assembled from its lowest layer: the real system's, or a simulated one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from kleff.procedure.globs import WINDOWS, fold
from kleff.registry.registry import Registry, RegistryApi
from kleff.workstation.driver_facet import DriverControl
from kleff.workstation.facets import Commands, Processes, Workstation
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath
from kleff.workstation.system_facet import AfterRestart, Boots, Installs, LocalAccounts
from kleff.workstation.windows.command_lines import split_command
from kleff.workstation.windows.drivers import WindowsDrivers
from kleff.workstation.windows.entries import WindowsEntries
from kleff.workstation.windows.profiles import WindowsAccounts, WindowsVariables
from kleff.workstation.windows.readiness import Machine, WindowsReadiness
from kleff.workstation.windows.renames import PendingRenames
from kleff.workstation.windows.services import ServiceControl, WindowsServices
from kleff.workstation.windows.tasks import TaskControl, WindowsTasks

ENVIRONMENT = r"HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\Environment"
APP_PATHS = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\App Paths"


@dataclass(frozen=True)
class LowestLayer:
    """What a system has to offer; all else of a workstation is made from it.

    Attributes:
        services: makes the service manager; it is given the registry.
        commands: makes what runs programs, from the folders in which a bare name is looked for, and what gives the names that are
            registered as programs besides, and what lets go of accounts' hives.
        installs: makes what knows the installer's products, from the registry and the folder of its cache.
        drivers: makes what removes and adds drivers, from the registry and the system's folder.
        boots, after_restart: make what starts it anew, and what is done then; they are given the registry.
    """

    api: RegistryApi
    files: FileTree
    services: Callable[[Registry], ServiceControl]
    tasks: TaskControl
    machine: Machine
    processes: Processes
    commands: Callable[[list[str], Callable[[], list[str]], Callable[[], object]], Commands]
    installs: Callable[[Registry, WPath], Installs] | None = None
    boots: Callable[[Registry], Boots] | None = None
    after_restart: Callable[[Registry], AfterRestart] | None = None
    drivers: Callable[[Registry, WPath], DriverControl] | None = None
    local_accounts: LocalAccounts | None = None


def assemble(layer: LowestLayer, *, spec: str, name: str, identity: str, boot: str, state: Path, admin: bool, bits: int, description: str,
             ground: Path, boot_by_clock: str = "") -> Workstation:  # fmt: skip
    """Assemble a workstation; the names are those of `Workstation`."""
    files, registry = layer.files, Registry(layer.api, bits)
    variables = WindowsVariables(registry, files.path)
    accounts = WindowsAccounts(registry, files.path, variables.expand)
    system = variables.folders("system")[0]

    def is_file(text: str) -> bool:
        path = files.path(text)
        look = files.look(path) if path else None
        return look is not None and look.is_file

    def app_paths() -> list[str]:
        return [n for key in registry.canonical(APP_PATHS) for n in registry.subkeys(key)]

    services = WindowsServices(registry, layer.services(registry), lambda text: split_command(variables.expand(text), is_file))
    return Workstation(
        spec=spec, name=name, system="windows", style=WINDOWS, identity=identity, boot=boot, state=state, admin=admin, bits=bits,
        description=description, ground=ground, boot_by_clock=boot_by_clock,
        files=files,
        accounts=accounts,
        variables=variables,
        registry=registry,
        entries=WindowsEntries(registry, accounts.all, str(system.child("msiexec.exe")), is_file, variables.expand),
        installs=layer.installs(registry, system.parent.child("Installer")) if layer.installs else None,
        boots=layer.boots(registry) if layer.boots else None,
        after_restart=layer.after_restart(registry) if layer.after_restart else None,
        renames=PendingRenames(registry), local_accounts=layer.local_accounts,
        drivers=WindowsDrivers(registry, files, system.parent, layer.drivers(registry, system.parent)) if layer.drivers else None,
        services=services, registrations=services,
        processes=layer.processes,
        tasks=WindowsTasks(files, system.child("Tasks"), layer.tasks),
        readiness=WindowsReadiness(registry, layer.machine),
        commands=layer.commands(_search_folders(registry, variables), app_paths, layer.api.release),
        program_folders=(system, system.parent),
    )  # fmt: skip


def in_a_profile(path: WPath) -> bool:
    """Whether a path lies where people other than an administrator may write, by the path alone."""
    first = [fold(part) for part in path.parts[:2]]
    return (len(path.parts) > 1 and first[0] == "USERS") or first == ["WINDOWS", "TEMP"]


def _search_folders(registry: Registry, variables: WindowsVariables) -> list[str]:
    keys = registry.canonical(ENVIRONMENT)
    text = variables.expand(registry.text(keys[0], "Path")) if keys else ""
    return [p for p in text.split(";") if p]
