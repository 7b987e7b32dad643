"""The table of the kinds of object. A new kind is one new file in `objects` and one line here."""

from __future__ import annotations

from kleff.objects.base import Kind
from kleff.objects.commands import CommandKind, CommandMissingKind
from kleff.objects.drivers import DriverKind
from kleff.objects.entries import EntryKind
from kleff.objects.facts import FactKind, PackagesKind
from kleff.objects.keys import KeyKind, ValueKind
from kleff.objects.manual import ManualKind
from kleff.objects.packages import PackageKind
from kleff.objects.paths import PathKind
from kleff.objects.presence import MODELS as PRESENCE
from kleff.objects.processes import PortKind, ProcessKind, WindowKind
from kleff.objects.readiness import CHECKS, CheckKind
from kleff.objects.rescue import RescueKind
from kleff.objects.services import ServiceKind
from kleff.objects.tasks import StartupKind, TaskKind, UnitKind
from kleff.procedure.load import PHASES
from kleff.procedure.model import Step

_PATHS = PathKind()

KINDS: dict[str, Kind] = {
    "path": _PATHS,
    "paths": _PATHS,
    "key": KeyKind(),
    "value": ValueKind(),
    "process": ProcessKind(),
    "service": ServiceKind(),
    "entry": EntryKind(),
    "package": PackageKind(),
    "command": CommandKind(),
    "command_missing": CommandMissingKind(),
    "fact": FactKind(),
    "driver": DriverKind(),
    "packages": PackagesKind(),
    "manual": ManualKind(),
    "rescue": RescueKind(),
    "window": WindowKind(),
    "port": PortKind(),
    "task": TaskKind(),
    "startup": StartupKind(),
    "unit": UnitKind(),
    **{name: CheckKind(name) for name in CHECKS},
}


def model_table() -> dict[str, dict[str, type[Step]]]:
    """For each phase, the step model each object key stands for."""
    table: dict[str, dict[str, type[Step]]] = {phase: {} for phase in ("evidence", *PHASES)}
    for key, kind in KINDS.items():
        for phase, model in kind.models.items():
            if key in model.__struct_fields__:
                table[phase][key] = model
    table["before"].update(PRESENCE)
    return table
