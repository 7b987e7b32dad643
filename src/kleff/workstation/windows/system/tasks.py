"""The task scheduler of a running Windows (Task Scheduler 2.0 interfaces)."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from kleff.errors import ActionFailed
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import number
from kleff.workstation.windows.native.interfaces import TASK_SCHEDULER, Interface, created, nothing, text, text_at

MISSING = (0x80070002, 0x80070003)
TRUE, FALSE = 0xFFFF, 0  # VARIANT_BOOL
CREATE_OR_UPDATE, AS_DEFINED = 6, 0  # TASK_CREATION, TASK_LOGON_TYPE
OFF = "<Enabled>false</Enabled>"


class TaskScheduler:
    """Implements `TaskControl`."""

    def __init__(self, api: Api) -> None:
        self._api = api

    def disabled(self, name: str) -> bool:
        try:
            with self._task(name) as task:
                return self._is_off(task)
        except Failed as failed:
            if failed.code in MISSING:
                return False
            raise

    def set_enabled(self, name: str, enabled: bool) -> None:
        """Raises: ActionFailed: the scheduler says yes, and its definition says otherwise."""
        with self._task(name) as task:
            task.call("put_Enabled", TRUE if enabled else FALSE)
            if self._is_off(task) == enabled:
                raise ActionFailed(f"the task {name} is {'off' if enabled else 'on'} still", remedy="look at it; then resume")

    def register(self, name: str, definition: str) -> None:
        """Make a task, or replace it. Args: definition: as XML."""
        name = f"\\{name.lstrip(chr(92))}"
        with created(self._api, "ITaskService", TASK_SCHEDULER) as service, nothing(self._api, 4) as left_out:
            service.call("Connect", *left_out)
            with (
                text(self._api, "\\") as root, service.gives("ITaskFolder", "GetFolder", root) as folder,
                text(self._api, name) as path, text(self._api, definition) as xml, nothing(self._api, 3) as (user, password, security),
                folder.gives("IRegisteredTask", "RegisterTask", path, xml, CREATE_OR_UPDATE, user, password, AS_DEFINED, security),
            ):  # fmt: skip
                pass

    def delete(self, name: str) -> None:
        """Done twice is done once."""
        with created(self._api, "ITaskService", TASK_SCHEDULER) as service, nothing(self._api, 4) as left_out:
            service.call("Connect", *left_out)
            with text(self._api, "\\") as root, service.gives("ITaskFolder", "GetFolder", root) as folder, text(self._api, name) as path:
                try:
                    folder.call("DeleteTask", path, 0)
                except Failed as failed:
                    if failed.code not in MISSING:
                        raise

    def _is_off(self, task: Interface) -> bool:
        """By its own definition: its settings hold this only if it is switched off."""
        settings = self._definition(task).partition("<Settings>")[2].partition("</Settings>")[0]
        return OFF in settings.replace(" ", "")

    def definition(self, name: str) -> str:
        """Of a task, as XML."""
        with self._task(name) as task:
            return self._definition(task)

    def _definition(self, task: Interface) -> str:
        place = bytearray(8)
        task.call("get_Xml", place)
        return text_at(self._api, number(place))

    @contextlib.contextmanager
    def _task(self, name: str) -> Iterator[Interface]:
        with created(self._api, "ITaskService", TASK_SCHEDULER) as service, nothing(self._api, 4) as left_out:
            service.call("Connect", *left_out)
            with (
                text(self._api, "\\") as root,
                service.gives("ITaskFolder", "GetFolder", root) as folder,
                text(self._api, f"\\{name}") as path,
                folder.gives("IRegisteredTask", "GetTask", path) as task,
            ):
                yield task
