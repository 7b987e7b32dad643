"""Moments, as the system counts them."""

from __future__ import annotations

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.structures import FILETIME


def started(api: Api, process: int) -> float:
    """When a process was started, in seconds since 1601. Args: process: a handle that may be asked."""
    created = FILETIME()
    api.GetProcessTimes(process, created, FILETIME(), FILETIME(), FILETIME())
    return float((created.dwHighDateTime << 32) + created.dwLowDateTime) / 10**7


def worked(api: Api, process: int) -> float:
    """The processor time of a process, in seconds. Args: process: a handle that may be asked."""
    kernel, user = FILETIME(), FILETIME()
    api.GetProcessTimes(process, FILETIME(), FILETIME(), kernel, user)
    return sum(float((one.dwHighDateTime << 32) + one.dwLowDateTime) for one in (kernel, user)) / 10**7


def running_since(api: Api, pid: int) -> float:
    """When the process of a number was started; 0.0 if there is none, or it has ended."""
    try:
        process = api.OpenProcess(c.SYNCHRONIZE | c.PROCESS_QUERY_LIMITED_INFORMATION, 0, pid)
    except Failed:
        return 0.0
    try:
        return started(api, process) if api.WaitForSingleObject(process, 0) == c.WAIT_TIMEOUT else 0.0
    finally:
        api.CloseHandle(process)
