"""The contracts, on the Windows that Kleff runs on: what no other machine can show."""

from __future__ import annotations

import os
import socket
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from uuid import uuid4

from kleff.registry.registry import Registry
from kleff.workstation.paths import WPath
from kleff.workstation.things import Running
from kleff.workstation.this_machine import host
from kleff.workstation.windows.contract.checks import Broken, Contract
from kleff.workstation.windows.contract.files import FilesContract
from kleff.workstation.windows.contract.machine import MachineContract
from kleff.workstation.windows.contract.programs import ProgramsContract
from kleff.workstation.windows.contract.registry import RegistryContract
from kleff.workstation.windows.contract.services import ServicesContract
from kleff.workstation.windows.contract.system import SystemContract
from kleff.workstation.windows.contract.tasks import TasksContract
from kleff.workstation.windows.host.places import drives, system_folder
from kleff.workstation.windows.host.this import asking_helper, environment, hives_of_accounts
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native import here
from kleff.workstation.windows.system.files.tree import NtTree
from kleff.workstation.windows.system.hives import Hives
from kleff.workstation.windows.system.power.machine import SystemMachine
from kleff.workstation.windows.system.processes import WindowsProcesses
from kleff.workstation.windows.system.registry import WindowsRegistry
from kleff.workstation.windows.system.services import ServiceManager
from kleff.workstation.windows.system.tasks import TaskScheduler

SECONDS = 60.0
NEVER = "Kleff selftest, never started"
DEFINITION = """<?xml version="1.0" encoding="UTF-16"?>
<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task"><Triggers/><Settings><Enabled>true</Enabled></Settings>
<Actions><Exec><Command>cmd.exe</Command></Exec></Actions></Task>"""


def contracts(scratch: Path, service: str) -> dict[str, Contract]:
    """Every contract by its name.

    Args:
        scratch: an empty folder, in which files are made.
        service: one that may be started and stopped.
    """
    api = here.api()
    tree = NtTree(api, drives(api))
    processes = WindowsProcesses(api, tree, asking_helper())
    registry = WindowsRegistry(api, Hives(api, str))
    variables, interpreter = environment(system_folder(api)), rf"{system_folder(api)}\system32\cmd.exe"
    for name in ("files", "said"):
        host().make_private(scratch / name)

    def place(path: Path) -> WPath:
        found = tree.path(str(path))
        assert found is not None
        return found

    @contextmanager
    def held(path: WPath) -> Iterator[None]:
        file = api.CreateFileW(str(path), c.GENERIC_READ, 0, None, c.OPEN_EXISTING, 0, None)
        try:
            yield
        finally:
            api.CloseHandle(file)

    schtasks = rf"{system_folder(api)}\system32\schtasks.exe"

    def shows() -> int:
        return _start(scratch / "said", variables, rf"{system_folder(api)}\system32\winver.exe").program

    return {
        "files": FilesContract(tree, place(scratch / "files"), held),
        "registry": RegistryContract(registry),
        "services": ServicesContract(ServiceManager(api), Registry(registry), service),
        "programs": ProgramsContract(host(), interpreter, variables, scratch / "said", processes, place),
        "system": SystemContract(api, lambda: hives_of_accounts(api), processes),
        "machine": MachineContract(SystemMachine(api), processes, _listening, shows),
        "tasks": TasksContract(TaskScheduler(api), lambda: _never(scratch / "said", variables, schtasks)),
    }


@contextmanager
def _listening() -> Iterator[tuple[int, int]]:
    """This very process does."""
    with socket.create_server(("127.0.0.1", 0)) as server:
        yield os.getpid(), server.getsockname()[1]


@contextmanager
def _never(folder: Path, variables: dict[str, str], program: str) -> Iterator[str]:
    """A task by the system's own program, which no event starts."""
    definition = folder / "task.xml"
    definition.write_text(DEFINITION, "utf-16")
    _ended(_start(folder, variables, program, "/create", "/xml", str(definition), "/tn", NEVER, "/f"))
    try:
        yield NEVER
    finally:
        _ended(_start(folder, variables, program, "/delete", "/tn", NEVER, "/f"))


def _start(folder: Path, variables: dict[str, str], *words: str) -> Running:
    return host().start_program(words, folder / f"{uuid4().hex}.txt", variables)


def _ended(running: Running) -> None:
    """Raises: Broken: it goes on, or has failed."""
    if not host().wait_for_program(running, SECONDS) or running.code != 0:
        raise Broken(f"the system's own program ended with {running.code}")
