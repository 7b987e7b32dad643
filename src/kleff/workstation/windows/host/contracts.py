"""The contracts, on the Windows that Kleff runs on: what no other machine can show."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from kleff.registry.registry import Registry
from kleff.workstation.paths import WPath
from kleff.workstation.this_machine import host
from kleff.workstation.windows.contract.checks import Contract
from kleff.workstation.windows.contract.files import FilesContract
from kleff.workstation.windows.contract.programs import ProgramsContract
from kleff.workstation.windows.contract.registry import RegistryContract
from kleff.workstation.windows.contract.services import ServicesContract
from kleff.workstation.windows.contract.system import SystemContract
from kleff.workstation.windows.host.places import drives, system_folder
from kleff.workstation.windows.host.this import environment, hives_of_accounts
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native import here
from kleff.workstation.windows.system.files.tree import NtTree
from kleff.workstation.windows.system.hives import Hives
from kleff.workstation.windows.system.processes import WindowsProcesses
from kleff.workstation.windows.system.registry import WindowsRegistry
from kleff.workstation.windows.system.services import ServiceManager


def contracts(scratch: Path, service: str) -> dict[str, Contract]:
    """Every contract by its name.

    Args:
        scratch: an empty folder, in which files are made.
        service: one that may be started and stopped.
    """
    api = here.api()
    tree = NtTree(api, drives(api))
    processes = WindowsProcesses(api, tree)
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

    return {
        "files": FilesContract(tree, place(scratch / "files"), held),
        "registry": RegistryContract(registry),
        "services": ServicesContract(ServiceManager(api), Registry(registry), service),
        "programs": ProgramsContract(host(), interpreter, variables, scratch / "said", processes, place),
        "system": SystemContract(api, lambda: hives_of_accounts(api), processes),
    }
