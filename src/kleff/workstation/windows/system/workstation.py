"""A running Windows as a workstation, assembled from what its functions tell."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from kleff.workstation.facets import Workstation
from kleff.workstation.windows.assembling import LowestLayer, assemble
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.system.asking import Asking
from kleff.workstation.windows.system.files.tree import NtTree
from kleff.workstation.windows.system.hives import Hives
from kleff.workstation.windows.system.power.boots import SystemBoots
from kleff.workstation.windows.system.power.machine import SystemMachine, boot_id
from kleff.workstation.windows.system.processes import WindowsProcesses
from kleff.workstation.windows.system.programs import Starting, WindowsPrograms
from kleff.workstation.windows.system.registry import WindowsRegistry
from kleff.workstation.windows.system.rights import is_admin
from kleff.workstation.windows.system.services import ServiceManager
from kleff.workstation.windows.system.software.accounts import SystemAccounts
from kleff.workstation.windows.system.software.drivers import SystemDrivers
from kleff.workstation.windows.system.software.installer import Installer
from kleff.workstation.windows.system.tasks import TaskScheduler


def assemble_system(
    api: Api, hives: Hives, volumes: dict[str, Path], environment: Mapping[str, str], starting: Starting, *, spec: str, name: str,
    identity: str, state: Path, description: str = "Windows", asking: Asking | None = None,
) -> Workstation:  # fmt: skip
    """Assemble it.

    Args:
        hives: of the accounts, to be closed by whoever made them.
        volumes: its drives, and where each lies on the machine Kleff runs on.
        environment: what programs get of variables; starting: how they are started.
        asking: asks handles of other processes.
    """
    files = NtTree(api, volumes)
    processes = WindowsProcesses(api, files, asking)
    layer = LowestLayer(
        api=WindowsRegistry(api, hives), files=files, services=lambda registry: ServiceManager(api), tasks=TaskScheduler(api),
        machine=SystemMachine(api), processes=processes,
        commands=lambda search, registered, release: WindowsPrograms(files, starting, search, registered, environment, release),
        installs=lambda registry, cache: Installer(api, files, cache),
        boots=lambda registry: SystemBoots(api, registry, TaskScheduler(api)),
        after_restart=lambda registry: SystemBoots(api, registry, TaskScheduler(api)), drivers=lambda registry, windows: SystemDrivers(api),
        local_accounts=SystemAccounts(api),
    )  # fmt: skip
    boot = boot_id(api)
    return assemble(
        layer, spec=spec, name=name, identity=identity, boot=boot.boot, state=state, admin=is_admin(api), bits=64,
        description=description, ground=next(iter(volumes.values())), boot_by_clock=boot.by_clock,
    )  # fmt: skip
