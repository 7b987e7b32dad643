"""Power, sessions and the boot of a running Windows."""

from __future__ import annotations

from collections.abc import Iterator
from ctypes import sizeof
from typing import NamedTuple

from kleff.procedure.globs import fold
from kleff.workstation.things import Power
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.native.caller import narrow, number
from kleff.workstation.windows.native.structures import SYSTEM_POWER_STATUS, SYSTEM_TIMEOFDAY_INFORMATION, WTS_SESSION_INFOW

UNKNOWN, NO_BATTERY, ON_MAINS = 255, 128, 1  # SYSTEM_POWER_STATUS, Windows documentation
LONGEST = 512  # bytes of a name


class SystemMachine:
    """Implements `Machine`."""

    def __init__(self, api: Api) -> None:
        self._api = api

    def power(self) -> Power:
        told = SYSTEM_POWER_STATUS()
        self._api.GetSystemPowerStatus(told)
        without = told.BatteryFlag == UNKNOWN or told.BatteryFlag & NO_BATTERY
        percent = None if without or told.BatteryLifePercent == UNKNOWN else int(told.BatteryLifePercent)
        return Power(bool(without) or told.ACLineStatus == ON_MAINS, percent)

    def installing(self) -> bool:
        return False

    def sessions(self) -> list[str]:
        own = self._own_session()
        names = {fold(name): name for session, name in self._all() if session != own and name}
        return sorted(names.values())

    def _own_session(self) -> int:
        session = bytearray(4)
        self._api.ProcessIdToSessionId(self._api.GetCurrentProcessId(), session)
        return number(session)

    def _all(self) -> Iterator[tuple[int, str]]:
        """(number, name of the account) of each session in which somebody works or has left it."""
        place, count = bytearray(8), bytearray(4)
        self._api.WTSEnumerateSessionsW(None, 0, 1, place, count)
        try:
            size = number(count) * sizeof(WTS_SESSION_INFOW)
            data = self._api.caller.read(number(place), size) if size else b""
        finally:
            self._api.WTSFreeMemory(number(place))
        for at in range(number(count)):
            row = WTS_SESSION_INFOW.from_buffer_copy(data, at * sizeof(WTS_SESSION_INFOW))
            if row.State in (c.WTSActive, c.WTSDisconnected):
                yield row.SessionId, self._name(row.SessionId)

    def _name(self, session: int) -> str:
        place, size = bytearray(8), bytearray(4)
        self._api.WTSQuerySessionInformationW(None, session, c.WTSUserName, place, size)
        try:
            return narrow(self._api.caller.read(number(place), min(number(size), LONGEST)))
        finally:
            self._api.WTSFreeMemory(number(place))


class BootId(NamedTuple):
    """Which boot it is.

    Attributes:
        boot: the same for as long as it lasts; by_clock: the moment at which it began, which is moved when the clock is set.
    """

    boot: str
    by_clock: str


def boot_id(api: Api) -> BootId:
    """Another after every restart. What the clock was moved by since is told beside the moment (SYSTEM_TIMEOFDAY_INFORMATION)."""
    told = SYSTEM_TIMEOFDAY_INFORMATION()
    api.NtQuerySystemInformation(c.SystemTimeOfDayInformation, told, sizeof(told), bytearray(4))
    moved = int.from_bytes(bytes(told.Reserved1)[4:12], "little", signed=True)
    return BootId(f"boot {told.BootTime - moved}", str(told.BootTime))
