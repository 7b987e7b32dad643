"""A lab as a workstation: Windows code over the simulated lowest layer."""

from __future__ import annotations

from pathlib import Path

from kleff.procedure.globs import WINDOWS, fold
from kleff.registry.registry import KeyRef, Registry
from kleff.workstation.facets import Workstation
from kleff.workstation.files.opening import open_tree
from kleff.workstation.lab.control import LabCommands, LabMachine, LabProcesses, LabServiceControl, LabTaskControl
from kleff.workstation.lab.lab import Lab
from kleff.workstation.lab.registry import LabRegistry
from kleff.workstation.paths import WPath
from kleff.workstation.windows.entries import WindowsEntries
from kleff.workstation.windows.profiles import WindowsAccounts, WindowsVariables
from kleff.workstation.windows.readiness import WindowsReadiness
from kleff.workstation.windows.services import WindowsServices
from kleff.workstation.windows.tasks import WindowsTasks

ENVIRONMENT = r"HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\Environment"
APP_PATHS = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\App Paths"


def open_lab(folder: Path) -> Workstation:
    """Open a lab.

    Raises:
        NoSuchWorkstation: the folder is no lab, or is incomplete.
    """
    lab = Lab(folder)
    registry = Registry(LabRegistry(lab), lab.file.bits)
    volumes = {f"{p.name.upper()}:": p for p in sorted((lab.folder / "files").iterdir()) if p.is_dir() and len(p.name) == 1}
    files = open_tree(WINDOWS, volumes, private=_in_a_profile)
    variables = WindowsVariables(registry, files.path)
    accounts = WindowsAccounts(registry, files.path, variables.expand)

    def is_file(text: str) -> bool:
        path = files.path(text)
        look = files.look(path) if path else None
        return look is not None and look.is_file

    system = variables.folders("system")[0]
    search = _search_folders(registry, variables)

    def app_paths() -> list[str]:
        return [n for key in registry.canonical(APP_PATHS) for n in registry.subkeys(key)]

    return Workstation(
        spec=f"lab:{folder}",
        name=lab.file.name,
        system="windows",
        style=WINDOWS,
        identity=f"lab {lab.file.id}",
        boot=f"{lab.file.id} {lab.state().boot}",
        state=lab.folder / "state" / "kleff",
        admin=True,
        bits=lab.file.bits,
        description=lab.file.description,
        files=files,
        accounts=accounts,
        variables=variables,
        registry=registry,
        entries=WindowsEntries(registry, accounts.all, str(system.child("msiexec.exe")), is_file, variables.expand),
        services=WindowsServices(registry, LabServiceControl(lab)),
        processes=LabProcesses(lab, files),
        tasks=WindowsTasks(files, system.child("Tasks"), LabTaskControl(lab)),
        readiness=WindowsReadiness(registry, LabMachine(lab)),
        ground=lab.folder,
        commands=LabCommands(lab, files, search, app_paths),
    )


def _in_a_profile(path: WPath) -> bool:
    return len(path.parts) > 1 and fold(path.parts[0]) == "USERS"


def _search_folders(registry: Registry, variables: WindowsVariables) -> list[str]:
    keys = registry.canonical(ENVIRONMENT)
    text = variables.expand(registry.text(keys[0], "Path")) if keys else ""
    return [p for p in text.split(";") if p]


def automatic_services(registry: Registry) -> list[str]:
    """The services that start with the workstation."""
    top = registry.canonical(r"HKLM\SYSTEM\CurrentControlSet\Services")[0]
    names = registry.subkeys(top)
    return [n for n in names if _starts(registry, top.child(n))]


def _starts(registry: Registry, key: KeyRef) -> bool:
    start = registry.value(key, "Start")
    return start is not None and start.number == 2
