"""Starting a running Windows anew, what it does by itself then, and keeping it awake."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from subprocess import list2cmdline
from xml.sax.saxutils import escape

from kleff.errors import ActionFailed
from kleff.registry.registry import Registry
from kleff.workstation.system_facet import AFAR
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.system.rights import switch_on
from kleff.workstation.windows.system.tasks import TaskScheduler

SHUTDOWN = "SeShutdownPrivilege"
WHY = c.SHTDN_REASON_MAJOR_APPLICATION | c.SHTDN_REASON_MINOR_INSTALLATION | c.SHTDN_REASON_FLAG_PLANNED
ENCRYPTED = r"HKLM\SYSTEM\CurrentControlSet\Control\BitLockerStatus"  # says so since there is drive encryption
TASK = "Kleff goes on after the restart"
SYSTEM = "S-1-5-18"
# Task Scheduler schema, version 1.2: once the system has started, as the system itself, for as long as it takes.
DEFINITION = """<?xml version="1.0" encoding="UTF-16"?>
<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task">
<RegistrationInfo><Description>{title}</Description></RegistrationInfo>
<Triggers><BootTrigger><Enabled>true</Enabled></BootTrigger></Triggers>
<Principals><Principal id="Author"><UserId>{account}</UserId><RunLevel>HighestAvailable</RunLevel></Principal></Principals>
<Settings><DisallowStartIfOnBatteries>false</DisallowStartIfOnBatteries><StopIfGoingOnBatteries>false</StopIfGoingOnBatteries>
<ExecutionTimeLimit>PT0S</ExecutionTimeLimit><Enabled>true</Enabled></Settings>
<Actions Context="Author"><Exec><Command>{program}</Command><Arguments>{arguments}</Arguments></Exec></Actions></Task>"""


class SystemBoots:
    """Implements `Boots` and `AfterRestart`."""

    def __init__(self, api: Api, registry: Registry, tasks: TaskScheduler) -> None:
        self._api, self._registry, self._tasks = api, registry, tasks

    def restart(self) -> None:
        lacking = switch_on(self._api, SHUTDOWN)
        try:
            self._api.InitiateSystemShutdownExW(None, "Kleff restarts it", 0, 0, 1, WHY)
        except Failed as failed:
            why = "this account may not" if lacking else failed.strerror
            raise ActionFailed(f"the system does not restart: {why}", remedy="restart it by hand, then resume") from None

    def prompts(self) -> list[str]:
        values = (self._registry.value(key, "BootStatus") for key in self._registry.canonical(ENCRYPTED, view=64))
        encrypted = any(value is not None and value.number for value in values)
        told = ["its drive is encrypted: it may ask for a key before it has started"] if encrypted else []
        return told + ([AFAR] if os.environ.get("SESSIONNAME", "").upper().startswith("RDP-") else [])

    @contextmanager
    def awake(self) -> Iterator[None]:
        """The thread's wish, which is over with the process too."""
        self._api.SetThreadExecutionState(c.ES_CONTINUOUS | c.ES_SYSTEM_REQUIRED)
        try:
            yield
        finally:
            self._api.SetThreadExecutionState(c.ES_CONTINUOUS)

    def arrange(self, title: str, words: Sequence[str]) -> None:
        self._tasks.register(TASK, definition_of(title, words))

    def cancel(self) -> None:
        self._tasks.delete(TASK)


def definition_of(title: str, words: Sequence[str]) -> str:
    """The task that starts a program once the system has started, as XML."""
    arguments = escape(list2cmdline(words[1:]))
    return DEFINITION.format(title=escape(title), account=SYSTEM, program=escape(words[0]), arguments=arguments)
