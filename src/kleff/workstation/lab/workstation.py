"""A lab as a workstation: Windows code over the simulated lowest layer."""

from __future__ import annotations

from pathlib import Path

from kleff.procedure.globs import WINDOWS
from kleff.registry.registry import KeyRef, Registry
from kleff.workstation.facets import Workstation
from kleff.workstation.lab.control import LabBoots, LabCommands, LabInstalls, LabMachine, LabProcesses, LabServiceControl
from kleff.workstation.lab.lab import Lab
from kleff.workstation.lab.registry import LabRegistry
from kleff.workstation.lab.tasks import LabTaskControl
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
        api=LabRegistry(lab), files=files, tasks=LabTaskControl(lab, files, Registry(LabRegistry(lab), lab.file.bits)),
        machine=LabMachine(lab), processes=LabProcesses(lab, files),
        services=lambda registry: LabServiceControl(lab, registry),
        commands=lambda search, registered: LabCommands(lab, files, search, registered),
        installs=lambda registry, cache: LabInstalls(lab, files, registry),
        boots=lambda registry: LabBoots(lab, lambda: automatic_services(registry)),
        after_restart=lambda registry: LabBoots(lab, lambda: automatic_services(registry)),
    )  # fmt: skip
    return assemble(
        layer, spec=f"lab:{folder}", name=lab.file.name, identity=f"lab {lab.file.id}", boot=f"{lab.file.id} {lab.state().boot}",
        state=lab.folder / "state" / "kleff", admin=True, bits=lab.file.bits, description=lab.file.description, ground=lab.folder,
    )  # fmt: skip


def automatic_services(registry: Registry) -> list[str]:
    """The services that start with the workstation; those that were marked go before."""
    top = registry.canonical(r"HKLM\SYSTEM\CurrentControlSet\Services")[0]
    for name in registry.subkeys(top):
        if registry.value(top.child(name), "DeleteFlag") is not None:
            registry.delete_tree(top.child(name))
            registry.api.flush()
    names = registry.subkeys(top)
    return [n for n in names if _starts(registry, top.child(n))]


def _starts(registry: Registry, key: KeyRef) -> bool:
    start = registry.value(key, "Start")
    return start is not None and start.number == 2
