"""Moments, as the system counts them."""

from __future__ import annotations

from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.native.structures import FILETIME


def started(api: Api, process: int) -> float:
    """When a process was started, in seconds since 1601. Args: process: a handle that may be asked."""
    created = FILETIME()
    api.GetProcessTimes(process, created, FILETIME(), FILETIME(), FILETIME())
    return float((created.dwHighDateTime << 32) + created.dwLowDateTime) / 10**7
