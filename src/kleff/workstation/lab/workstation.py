"""A lab as a workstation: Windows code over the simulated lowest layer."""

from __future__ import annotations

import stat
from pathlib import Path

from kleff.procedure.globs import WINDOWS
from kleff.registry.registry import KeyRef, Registry
from kleff.workstation.facets import Workstation
from kleff.workstation.lab.control import LabBoots, LabCommands, LabInstalls, LabLocalAccounts, LabMachine, LabProcesses, LabServiceControl
from kleff.workstation.lab.lab import Lab
from kleff.workstation.lab.locking import carry_out, held_by
from kleff.workstation.lab.registry import LabRegistry
from kleff.workstation.lab.shorts import LabShorts
from kleff.workstation.lab.tasks import LabTaskControl
from kleff.workstation.trees import open_tree
from kleff.workstation.windows.assembling import LowestLayer, assemble, in_a_profile
from kleff.workstation.windows.drivers import SimulatedDrivers

A_BOOT = 10**9  # seconds between two boots, more than any clock is set by


def open_lab(folder: Path, loads: bool = False) -> Workstation:
    """Open a lab.

    Args:
        loads: see `LabRegistry`.

    Raises:
        NoSuchWorkstation: the folder is no lab, or is incomplete.
    """
    lab = Lab(folder)
    files = open_tree(WINDOWS, _volumes(lab), in_a_profile, held_by(lab, lambda: files), LabShorts(lab))
    api = LabRegistry(lab, loads)
    layer = LowestLayer(
        api=api, files=files, tasks=LabTaskControl(lab, files, Registry(api, lab.file.bits)),
        machine=LabMachine(lab), processes=LabProcesses(lab, files),
        services=lambda registry: LabServiceControl(lab, registry),
        commands=lambda search, registered, release: LabCommands(lab, files, search, registered, release),
        installs=lambda registry, cache: LabInstalls(lab, files, registry),
        boots=lambda registry: LabBoots(lab, lambda: at_start(lab)),
        after_restart=lambda registry: LabBoots(lab, lambda: at_start(lab)),
        local_accounts=LabLocalAccounts(lab),
        drivers=lambda registry, windows: SimulatedDrivers(registry, files, windows, lambda: lab.file.connected),
    )  # fmt: skip
    state = lab.state()
    return assemble(
        layer, spec=f"lab:{folder}", name=lab.file.name, identity=f"lab {lab.file.id}", boot=f"{lab.file.id} {state.boot}",
        state=lab.folder / "state" / "kleff", admin=True, bits=lab.file.bits, description=lab.file.description, ground=lab.folder,
        boot_by_clock=str(state.boot * A_BOOT + state.clock),
    )  # fmt: skip


def _volumes(lab: Lab) -> dict[str, Path]:
    return {
        f"{p.name.upper()}:": p for p in sorted((lab.folder / "files").iterdir()) if len(p.name) == 1 and stat.S_ISDIR(p.stat().st_mode)
    }


def at_start(lab: Lab) -> list[str]:
    """What is done before any program runs: pending renames are carried out, services that were marked go.

    Returns:
        The services that start with the workstation.
    """
    registry = Registry(LabRegistry(lab), lab.file.bits)
    carry_out(registry, open_tree(WINDOWS, _volumes(lab)))
    top = registry.canonical(r"HKLM\SYSTEM\CurrentControlSet\Services")[0]
    for name in registry.subkeys(top):
        if registry.value(top.child(name), "DeleteFlag") is not None:
            registry.delete_tree(top.child(name))
    registry.api.flush()
    return [n for n in registry.subkeys(top) if _starts(registry, top.child(n))]


def _starts(registry: Registry, key: KeyRef) -> bool:
    start = registry.value(key, "Start")
    return start is not None and start.number == 2
