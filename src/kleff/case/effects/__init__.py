"""Every kind of effect, one file each: what it records, its act, whether it happened, its inverse, how a person reads it.

A kind of effect that belongs to a kind of object defined elsewhere is known from the moment its class is defined.
"""

from kleff.case.effects import (
    command_ran,
    driver_removed,
    key_removed,
    key_written,
    lines_changed,
    list_item_taken,
    moved,
    moved_at_restart,
    placed,
    process_ended,
    resume_arranged,
    uninstaller_ran,
)
from kleff.case.effects.packages import alternative_removed, flatpak_removed, package_removed
from kleff.case.effects.starting import service_deleted, service_stopped, task_deleted, task_switched_off, unit_stopped, units_changed

__all__ = [
    "alternative_removed",
    "command_ran",
    "driver_removed",
    "flatpak_removed",
    "key_removed",
    "key_written",
    "lines_changed",
    "list_item_taken",
    "moved",
    "moved_at_restart",
    "package_removed",
    "placed",
    "process_ended",
    "resume_arranged",
    "service_deleted",
    "service_stopped",
    "task_deleted",
    "task_switched_off",
    "uninstaller_ran",
    "unit_stopped",
    "units_changed",
]
