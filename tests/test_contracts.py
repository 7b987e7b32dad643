"""The contracts of protocols, on every supplier there is: in memory, on a lab, and on Wine by the calls that a real Windows gets."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from pathlib import Path

import pytest

from kleff.procedure.globs import WINDOWS
from kleff.registry.registry import Registry, RegistryApi
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.lab.control import LabMachine, LabServiceControl
from kleff.workstation.lab.lab import Lab
from kleff.workstation.lab.registry import LabRegistry
from kleff.workstation.lab.shorts import LabShorts
from kleff.workstation.lab.tasks import LabTaskControl
from kleff.workstation.lab.workstation import open_lab
from kleff.workstation.memory.registry import MemoryRegistry
from kleff.workstation.memory.tree import MemoryTree
from kleff.workstation.paths import WPath
from kleff.workstation.posix.tree import PosixTree
from kleff.workstation.windows.contract.checks import Contract, results
from kleff.workstation.windows.contract.files import FilesContract
from kleff.workstation.windows.contract.machine import MachineContract
from kleff.workstation.windows.contract.registry import RegistryContract
from kleff.workstation.windows.contract.services import ServicesContract
from kleff.workstation.windows.contract.tasks import TasksContract
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.services import ServiceControl
from kleff.workstation.windows.system.files.tree import NtTree
from kleff.workstation.windows.system.hives import Hives
from kleff.workstation.windows.system.registry import WindowsRegistry
from kleff.workstation.windows.system.services import ServiceManager
from support import describe
from wine.fixtures import on_wine
from wine.policy import Guarded

# How a supplier departs from the documented Windows, by contract and check, and why that is no fault of Kleff's.
DEPARTS: dict[tuple[str, str], str] = {
    ("lab FilesContract", "names"): "a name that no program on Windows can make can be made on the machine the lab lies on",
    ("lab FilesContract", "letter case"): "that machine tells letter case apart; who makes something on a lab looks for it first",
    ("lab FilesContract", "streams"): "the machine the lab lies on has none",
    ("memory FilesContract", "names"): "as on a lab",
    ("wine FilesContract", "deleting what somebody reads"): "Wine knows no deleting at once",
    ("wine FilesContract", "links"): "Wine has no junctions",
    ("wine FilesContract", "streams"): "Wine has none",
    ("wine FilesContract", "a short name that is given"): "Wine makes them of the name, and gives no other",
}


def holds(contract: Contract, supplier: str) -> None:
    """Every check, but for what is known and named; what is named must really depart."""
    try:
        found = {result.name: result.wrong for result in results(contract.checks())}
    finally:
        contract.clear()
    named = {check: why for (of, check), why in DEPARTS.items() if of == f"{supplier} {type(contract).__name__}"}
    assert {name: wrong for name, wrong in found.items() if wrong and name not in named} == {}
    assert [name for name in named if not found[name]] == [], "named as a departure, and holds"


@pytest.mark.parametrize("supplier", ["memory", "lab", pytest.param("wine", marks=on_wine)])
def test_registry(supplier: str, request: pytest.FixtureRequest, tmp_path: Path) -> None:
    made: RegistryApi
    if supplier == "memory":
        made = MemoryRegistry()
    elif supplier == "lab":
        made = LabRegistry(Lab(request.getfixturevalue("lab")))
    else:
        api = Api(request.getfixturevalue("caller"))
        made = WindowsRegistry(api, Hives(api, lambda text: text))
    holds(RegistryContract(made), supplier)


@pytest.mark.parametrize("supplier", ["lab", pytest.param("wine", marks=on_wine)])
def test_services(supplier: str, request: pytest.FixtureRequest) -> None:
    made: ServiceControl
    if supplier == "lab":
        lab = Lab(request.getfixturevalue("lab"))
        registry, name = Registry(LabRegistry(lab)), "BrindlewortPrintBridge"
        made = LabServiceControl(lab, registry)
    else:
        name, api = request.getfixturevalue("service"), request.getfixturevalue("api")
        registry, made = Registry(WindowsRegistry(api, Hives(api, str))), ServiceManager(api)
    holds(ServicesContract(made, registry, name), supplier)


# On Wine these are held by `kleff selftest`, by a Python for Windows: see test_windows_host.


def test_tasks(lab: Path) -> None:
    """A lab's tasks are the files of their definitions."""
    tasks = lab / "files/C/Windows/System32/Tasks"
    tasks.mkdir(parents=True, exist_ok=True)

    @contextmanager
    def made() -> Iterator[str]:
        (tasks / "Sow").write_text("<Task/>")
        yield "Sow"
        (tasks / "Sow").unlink(missing_ok=True)

    holds(TasksContract(LabTaskControl(Lab(lab), open_lab(lab).files, Registry(LabRegistry(Lab(lab)))), made), "lab")


def test_machine(lab: Path) -> None:
    """Power, sessions, ports and windows, as a lab describes them."""
    describe(lab, name="hub.exe", path=r"C:\Tools\hub.exe", listens=[8010], title="Bed hub")
    workstation = open_lab(lab)
    (hub,) = (process.pid for process in workstation.processes.all() if process.name == "hub.exe")
    machine = MachineContract(LabMachine(Lab(lab)), workstation.processes, lambda: nullcontext((hub, 8010)), lambda: hub)
    holds(machine, "lab")


@pytest.mark.parametrize("supplier", ["memory", "lab", pytest.param("wine", marks=on_wine)])
def test_files(supplier: str, request: pytest.FixtureRequest) -> None:
    """What a program holds is another's on Wine, and in the way of nobody elsewhere."""
    made: FileTree
    if supplier == "memory":
        made = MemoryTree(WINDOWS, ("C:",), shorts=("C:",))
    elif supplier == "lab":
        lab = request.getfixturevalue("lab")
        made = PosixTree(WINDOWS, {"C:": lab / "files/C"}, shorts=LabShorts(Lab(lab)))
    else:
        made = NtTree(Api(Guarded(request.getfixturevalue("caller"))), {"C:": request.getfixturevalue("prefix") / "drive_c"})
    top = WPath(WINDOWS, "C:", ("Contract",))
    with made.folder(top.parent) as above:
        above.make_folder(top.name)
    holds(FilesContract(made, top, None), supplier)
