"""Which service runs in which process."""

from __future__ import annotations

from collections.abc import Iterator
from ctypes import sizeof

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.native.caller import allocated, narrow, number
from kleff.workstation.windows.native.structures import ENUM_SERVICE_STATUS_PROCESSW

LONGEST = 256  # characters of a name


def services_by_process(api: Api) -> Iterator[tuple[str, int]]:
    """(name, number of the process) of each that runs."""
    manager = api.OpenSCManagerW(None, None, c.SC_MANAGER_CONNECT | c.SC_MANAGER_ENUMERATE_SERVICE)
    try:
        needed, count, more = bytearray(4), bytearray(4), bytearray(4)
        how = (manager, c.SC_ENUM_PROCESS_INFO, c.SERVICE_WIN32, c.SERVICE_ACTIVE)
        api.code("EnumServicesStatusExW", *how, None, 0, needed, count, more, None)
        size = number(needed) + 4096  # one more may have started
        with allocated(api.caller, size) as place:
            more = bytearray(4)
            api.EnumServicesStatusExW(*how, place, size, needed, count, more, None)
            data = api.caller.read(place, size)
        for at in range(number(count)):
            row = ENUM_SERVICE_STATUS_PROCESSW.from_buffer_copy(data, at * sizeof(ENUM_SERVICE_STATUS_PROCESSW))
            start = row.lpServiceName - place
            yield narrow(data[start : start + 2 * LONGEST]), row.ServiceStatusProcess.dwProcessId
    finally:
        api.CloseServiceHandle(manager)
