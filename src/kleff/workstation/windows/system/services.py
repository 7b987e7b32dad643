"""The service manager of a running Windows. It keeps its own copy of how services start: what is written beside it counts for nothing."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from ctypes import sizeof

from kleff.errors import ActionFailed
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import wide
from kleff.workstation.windows.native.structures import SERVICE_STATUS, SERVICE_STATUS_PROCESS
from kleff.workstation.windows.services import NewService

PATIENCE = 60  # seconds in which a service must have started or stopped
PAUSE = 0.1
MISSING = (c.ERROR_SERVICE_DOES_NOT_EXIST, c.ERROR_INVALID_NAME)


class ServiceManager:
    """Implements `ServiceControl`."""

    def __init__(self, api: Api) -> None:
        self._api = api

    def running(self, name: str) -> bool:
        return self._state(name) not in (None, c.SERVICE_STOPPED)

    def stop(self, name: str) -> None:
        """Stop a service, and wait until it has.

        Raises:
            ActionFailed: it does not stop in time.
            Failed: it may not be stopped.
        """
        with self._service(name, c.SERVICE_STOP) as service:
            code = self._api.code("ControlService", service, c.SERVICE_CONTROL_STOP, SERVICE_STATUS())
        if code not in (0, c.ERROR_SERVICE_NOT_ACTIVE):
            raise Failed("ControlService", code)
        if self._until(name, (None, c.SERVICE_STOPPED)) not in (None, c.SERVICE_STOPPED):
            raise ActionFailed(f"the service {name} has not stopped after {PATIENCE} s", remedy="stop it by hand, then resume")

    def start(self, name: str) -> None:
        """Start a service, and wait until it runs.

        Raises:
            ActionFailed: it ends again, or does not run in time.
            Failed: it may not be started.
        """
        with self._service(name, c.SERVICE_START) as service:
            code = self._api.code("StartServiceW", service, 0, None)
        if code not in (0, c.ERROR_SERVICE_ALREADY_RUNNING):
            raise Failed("StartServiceW", code)
        if self._until(name, (None, c.SERVICE_STOPPED, c.SERVICE_RUNNING)) != c.SERVICE_RUNNING:
            raise ActionFailed(f"the service {name} does not run though it was started", remedy="look at it; then resume")

    def set_start(self, name: str, start: int) -> None:
        same = c.SERVICE_NO_CHANGE
        with self._service(name, c.SERVICE_CHANGE_CONFIG) as service:
            self._api.ChangeServiceConfigW(service, same, start, same, None, None, None, None, None, None, None)

    def take_out(self, name: str) -> bool:
        try:
            with self._service(name, c.DELETE) as service:
                code = self._api.code("DeleteService", service)
        except Failed as failed:
            if failed.code in MISSING:
                return True
            raise
        if code not in (0, c.ERROR_SERVICE_MARKED_FOR_DELETE):
            raise Failed("DeleteService", code)
        return self._state(name) is None

    def make(self, name: str, made: NewService) -> None:
        manager = self._api.OpenSCManagerW(None, None, c.SC_MANAGER_CONNECT | c.SC_MANAGER_CREATE_SERVICE)
        needs = wide("".join(f"{text}\0" for text in made.needs)) if made.needs else None
        try:
            service = self._api.CreateServiceW(
                manager, name, made.title or None, c.SERVICE_QUERY_STATUS, made.type, made.start, made.error, made.program,
                made.group or None, None, needs, _account(made), None,
            )  # fmt: skip
            self._api.CloseServiceHandle(service)
        finally:
            self._api.CloseServiceHandle(manager)

    # -- asking -----------------------------------------------------------------------------------------------

    def _until(self, name: str, states: tuple[int | None, ...]) -> int | None:
        """Wait until it is in one of some states. Returns that which it is in at last."""
        deadline = time.monotonic() + PATIENCE
        while (state := self._state(name)) not in states and time.monotonic() < deadline:
            time.sleep(PAUSE)
        return state

    def _state(self, name: str) -> int | None:
        """None if there is no such service."""
        status = SERVICE_STATUS_PROCESS()
        try:
            with self._service(name, c.SERVICE_QUERY_STATUS) as service:
                self._api.QueryServiceStatusEx(service, c.SC_STATUS_PROCESS_INFO, status, sizeof(status), bytearray(4))
        except Failed as failed:
            if failed.code in MISSING:
                return None
            raise
        return int(status.dwCurrentState)

    @contextmanager
    def _service(self, name: str, access: int) -> Iterator[int]:
        manager = self._api.OpenSCManagerW(None, None, c.SC_MANAGER_CONNECT)
        try:
            service = self._api.OpenServiceW(manager, name, access)
            try:
                yield service
            finally:
                self._api.CloseServiceHandle(service)
        finally:
            self._api.CloseServiceHandle(manager)


def _account(made: NewService) -> str | None:
    """Of a driver the name of its object, of which nobody needs one; of a program its account, which runs without a password alone."""
    return made.account or None if made.type & c.SERVICE_WIN32 else None
