"""The contracts of protocols, on every supplier there is: in memory, on a lab, and on Wine by the calls that a real Windows gets."""

from __future__ import annotations

from pathlib import Path

import pytest

from kleff.registry.registry import Registry, RegistryApi
from kleff.workstation.lab.control import LabServiceControl
from kleff.workstation.lab.lab import Lab
from kleff.workstation.lab.registry import LabRegistry
from kleff.workstation.memory.registry import MemoryRegistry
from kleff.workstation.windows.contract.checks import results
from kleff.workstation.windows.contract.registry import RegistryContract
from kleff.workstation.windows.contract.services import ServicesContract
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.services import ServiceControl
from kleff.workstation.windows.system.hives import Hives
from kleff.workstation.windows.system.registry import WindowsRegistry
from kleff.workstation.windows.system.services import ServiceManager
from wine.fixtures import on_wine

# How Wine departs from the documented Windows, by contract and check, and why that is no fault of Kleff's.
DEPARTS: dict[tuple[str, str], str] = {}


def holds(contract: RegistryContract | ServicesContract, supplier: str) -> None:
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
