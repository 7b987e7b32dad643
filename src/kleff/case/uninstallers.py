"""Uninstallers that a killed run has started and that may still be at work."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kleff.case.effect_names import UNINSTALLER
from kleff.workstation.facets import Running, Workstation

if TYPE_CHECKING:
    from kleff.case.journal import Effect


def started_by(effect: Effect, workstation: Workstation) -> Running | None:
    """The process an effect has started on this boot, by its journaled number and start time; where Kleff was killed before
    they were journaled, by its command.
    """
    data = effect.data
    if effect.kind != UNINSTALLER or data.get("boot") != workstation.boot or workstation.commands is None:
        return None
    if data.get("pid"):
        return Running(int(data["pid"]), float(data["started"]))
    return workstation.commands.find_running([str(word) for word in data.get("command", [])])
