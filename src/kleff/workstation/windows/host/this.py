"""The Windows that Kleff runs on, as a workstation."""

from __future__ import annotations

import atexit
import os
from collections.abc import Mapping

from kleff.closing import at_the_end, close_all
from kleff.registry.registry import KeyRef, Registry
from kleff.workstation.facets import Workstation
from kleff.workstation.this_machine import host
from kleff.workstation.windows.host.places import account_folder, drives, machine_folder, system_folder
from kleff.workstation.windows.host.running import APART, variables_for_helpers, words_for
from kleff.workstation.windows.native import here
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.system.asking import Helper, Patient
from kleff.workstation.windows.system.hives import Hives
from kleff.workstation.windows.system.registry import WindowsRegistry
from kleff.workstation.windows.system.rights import BACKUP, RESTORE, TAKE_OWNERSHIP, is_admin, switch_on
from kleff.workstation.windows.system.workstation import assemble_system

NAMES = KeyRef("HKLM", r"SYSTEM\CurrentControlSet\Control\ComputerName\ComputerName")
ASKER = "kleff.workstation.windows.host.handle_asker"
FIRST_OF_11 = 22000  # its build
RELEASE = KeyRef("HKLM", r"SOFTWARE\Microsoft\Windows NT\CurrentVersion")
MACHINE = KeyRef("HKLM", r"SOFTWARE\Microsoft\Cryptography")
# Whatever else Kleff was called with decides nothing about the programs that it runs.
KEPT = (
    "ALLUSERSPROFILE", "APPDATA", "CommonProgramFiles", "CommonProgramFiles(x86)", "CommonProgramW6432", "COMPUTERNAME", "ComSpec",
    "HOMEDRIVE", "HOMEPATH", "LOCALAPPDATA", "NUMBER_OF_PROCESSORS", "OS", "PATHEXT", "PROCESSOR_ARCHITECTURE", "PROCESSOR_IDENTIFIER",
    "ProgramData", "ProgramFiles", "ProgramFiles(x86)", "ProgramW6432", "PUBLIC", "SESSIONNAME", "SystemDrive", "SystemRoot", "TEMP", "TMP",
    "USERDOMAIN", "USERNAME", "USERPROFILE", "windir",
)  # fmt: skip


def open_this() -> Workstation:
    """Open it. Hives that have to be loaded are unloaded when Kleff ends.

    Raises:
        NoSuchWorkstation: this Python cannot make its calls.
    """
    api = here.api()
    registry = Registry(WindowsRegistry(api, Hives(api, str)), 64)
    variables = environment(system_folder(api))
    hives = hives_of_accounts(api)
    at_the_end(hives.close)
    atexit.register(close_all)  # where nobody did before
    admin = is_admin(api)
    if admin:
        switch_on(api, BACKUP, RESTORE, TAKE_OWNERSHIP)  # an administrator has these rights, and must ask for them
    state = machine_folder(api) if admin else account_folder()
    return assemble_system(
        api, hives, drives(api), variables, host(), spec="this", name=_told(registry, NAMES, "ComputerName"),
        identity=f"this {_told(registry, MACHINE, 'MachineGuid')}", state=state, description=_description(registry),
        asking=asking_helper(),
    )  # fmt: skip


def asking_helper() -> Patient:
    """What asks other processes' handles; it ends with Kleff."""
    patient = Patient(lambda: Helper(words_for(ASKER), variables_for_helpers(), APART))
    atexit.register(patient.close)
    return patient


def hives_of_accounts(api: Api) -> Hives:
    """What sees to the hives of this Windows' accounts; to be closed."""
    variables = environment(system_folder(api))
    return Hives(api, lambda text: _expanded(text, variables))


def environment(system: str) -> dict[str, str]:
    """What programs get of variables."""
    found = {name: os.environ[name] for name in KEPT if name in os.environ}
    path = rf"{system}\system32;{system};{system}\System32\Wbem;{system}\System32\WindowsPowerShell\v1.0"
    return {**found, "SystemRoot": system, "windir": system, "SystemDrive": system[:2], "Path": path}


def _expanded(text: str, variables: Mapping[str, str]) -> str:
    """A path of the profile list; it names the system's drive at most."""
    for name in ("SystemDrive", "SystemRoot"):
        text = text.replace(f"%{name}%", variables[name])
    return text


def _told(registry: Registry, key: KeyRef, name: str) -> str:
    return next((text for one in registry.canonical(f"{key.hive}\\{key.path}") if (text := registry.text(one, name))), "")


def _description(registry: Registry) -> str:
    """Such as `Windows 10 Pro 22H2 (build 19045)`."""
    title, shown, build = (_told(registry, RELEASE, name) for name in ("ProductName", "DisplayVersion", "CurrentBuildNumber"))
    if build.isdecimal() and int(build) >= FIRST_OF_11:
        title = title.replace("Windows 10", "Windows 11")  # the registry still calls it so
    return " ".join(part for part in (title or "Windows", shown, f"(build {build})" if build else "") if part)
