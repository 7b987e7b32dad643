"""What every task scheduler has to do."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import AbstractContextManager

from kleff.workstation.windows.contract.checks import Check, expect, refused
from kleff.workstation.windows.tasks import TaskControl

NOBODY_S = r"Kleff\no such task"


class TasksContract:
    """Args: control: the scheduler; made: has a task that is on, and never starts, be there meanwhile; gives its name."""

    def __init__(self, control: TaskControl, made: Callable[[], AbstractContextManager[str]]) -> None:
        self._control, self._made = control, made

    def checks(self) -> dict[str, Check]:
        return {"on as it was made": self._on, "off and on": self._switched, "no such task": self._missing, "gone and back": self._deleted}

    def clear(self) -> None:
        """Nothing is left."""

    def _on(self) -> None:
        with self._made() as name:
            for _ in range(2):
                expect("whether it is off", self._control.disabled(name), False)
                self._control.set_enabled(name, True)

    def _switched(self) -> None:
        """Done twice is done once; what is said is what its own definition says."""
        with self._made() as name:
            for off in (True, True, False, False):
                self._control.set_enabled(name, not off)
                expect("whether it is off", self._control.disabled(name), off)

    def _deleted(self) -> None:
        """Done twice is done once; made again by its definition it is as it was."""
        with self._made() as name:
            definition = self._control.definition(name)
            for _ in range(2):
                self._control.delete(name)
            refused("telling what a task is that is gone", lambda: self._control.definition(name))
            self._control.register(name, definition)
            expect("whether it is off", self._control.disabled(name), False)
            expect("whether it runs something", "<Actions" in definition, "<Actions" in self._control.definition(name))

    def _missing(self) -> None:
        expect("whether it is off", self._control.disabled(NOBODY_S), False)
        refused("switching a task that is not there", lambda: self._control.set_enabled(NOBODY_S, False))
