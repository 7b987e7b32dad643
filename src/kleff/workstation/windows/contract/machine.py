"""What a Windows has to tell of its power, its sessions, its ports and its windows."""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import AbstractContextManager
from dataclasses import replace

from kleff.workstation.facets import Processes
from kleff.workstation.things import Process
from kleff.workstation.windows.contract.checks import Check, expect
from kleff.workstation.windows.readiness import Machine

SECONDS = 30.0  # in which a window shows, and closes when asked
NO_PORT = 1  # nobody listens on it


class MachineContract:
    """Args:
    machine: power and sessions; processes: those that run.
    listening: has the process of a number listen on a port meanwhile.
    shows: starts a program that shows a window and closes when it is asked; its number.
    """

    def __init__(
        self, machine: Machine, processes: Processes, listening: Callable[[], AbstractContextManager[tuple[int, int]]],
        shows: Callable[[], int],
    ) -> None:  # fmt: skip
        self._machine, self._processes, self._listening, self._shows = machine, processes, listening, shows

    def checks(self) -> dict[str, Check]:
        return {"power": self._power, "sessions": self._sessions, "who listens": self._ports, "a window": self._window}

    def clear(self) -> None:
        """Nothing is left."""

    def _power(self) -> None:
        power = self._machine.power()
        expect("the battery", power.percent in (None, *range(101)), True)
        expect("that there is power", power.mains or power.percent is not None, True)

    def _sessions(self) -> None:
        names = self._machine.sessions()
        expect("names, each once", (names, all(names)), (sorted(set(names), key=names.index), True))

    def _ports(self) -> None:
        expect("who listens where nobody does", self._processes.listening(NO_PORT), [])
        with self._listening() as (pid, port):
            expect("who listens", self._processes.listening(port), [pid])

    def _window(self) -> None:
        """It has a title; an earlier process of its number is not taken for it; asked to close it is gone."""
        pid = self._shows()
        expect("that it has a title", _until(lambda: any(one.title for one in self._found(pid))), True)
        (one,) = self._found(pid)
        self._processes.ask_to_end(replace(one, started=one.started - 1))
        expect("that an earlier one is not taken for it", [other.pid for other in self._found(pid)], [pid])
        self._processes.ask_to_end(one)
        expect("that it is gone", _until(lambda: not self._found(pid)), True)

    def _found(self, pid: int) -> list[Process]:
        return [one for one in self._processes.all() if one.pid == pid]


def _until(holds: Callable[[], bool]) -> bool:
    ends = time.monotonic() + SECONDS
    while not holds():
        if time.monotonic() > ends:
            return False
        time.sleep(0.1)
    return True
