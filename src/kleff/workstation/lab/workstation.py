"""A lab as a workstation: Windows code over the simulated lowest layer."""

from __future__ import annotations

from pathlib import Path

from kleff.procedure.globs import WINDOWS
from kleff.registry.registry import KeyRef, Registry
from kleff.workstation.facets import Workstation
from kleff.workstation.lab.control import LabCommands, LabMachine, LabProcesses, LabServiceControl, LabTaskControl
from kleff.workstation.lab.lab import Lab
from kleff.workstation.lab.registry import LabRegistry
from kleff.workstation.trees import open_tree
from kleff.workstation.windows.assembling import LowestLayer, assemble, in_a_profile


def open_lab(folder: Path) -> Workstation:
    """Open a lab.

    Raises:
        NoSuchWorkstation: the folder is no lab, or is incomplete.
    """
    lab = Lab(folder)
    volumes = {f"{p.name.upper()}:": p for p in sorted((lab.folder / "files").iterdir()) if p.is_dir() and len(p.name) == 1}
    files = open_tree(WINDOWS, volumes, private=in_a_profile)
    layer = LowestLayer(
        api=LabRegistry(lab), files=files, tasks=LabTaskControl(lab), machine=LabMachine(lab), processes=LabProcesses(lab, files),
        services=lambda registry: LabServiceControl(lab, registry),
        commands=lambda search, registered: LabCommands(lab, files, search, registered),
    )  # fmt: skip
    return assemble(
        layer, spec=f"lab:{folder}", name=lab.file.name, identity=f"lab {lab.file.id}", boot=f"{lab.file.id} {lab.state().boot}",
        state=lab.folder / "state" / "kleff", admin=True, bits=lab.file.bits, description=lab.file.description, ground=lab.folder,
    )  # fmt: skip


def automatic_services(registry: Registry) -> list[str]:
    """The services that start with the workstation."""
    top = registry.canonical(r"HKLM\SYSTEM\CurrentControlSet\Services")[0]
    names = registry.subkeys(top)
    return [n for n in names if _starts(registry, top.child(n))]


def _starts(registry: Registry, key: KeyRef) -> bool:
    start = registry.value(key, "Start")
    return start is not None and start.number == 2
