"""Uninstallers that a killed run has started and that may still be at work."""

from __future__ import annotations

import time
from collections.abc import Callable

from kleff.case.effect_names import UNINSTALLER
from kleff.case.effects import Hands, spare_of
from kleff.case.record.journal import Effect
from kleff.workstation.facets import Running, Workstation

STILL = 2.0  # seconds without a change after which a copy that was handed over to is taken to have ended


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


def until_still(hands: Hands, effect: Effect, enough: Callable[[], bool]) -> None:
    """Wait until nothing of what is in an effect's spare changes any more (a copy that was handed over to may be at work),
    or `enough` says so.
    """
    still_since, last = time.monotonic(), ""
    while effect.data.get("index") and time.monotonic() - still_since < STILL and not enough():
        now = spare_of(hands, effect.id).difference(str(effect.data["index"])).text
        if now != last:
            still_since, last = time.monotonic(), now
        time.sleep(0.2)
