"""Drivers of a running Windows, removed and added by the system's own functions (SetupAPI, "Device Installation Functions")."""

from __future__ import annotations

import contextlib
from ctypes import sizeof

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import number
from kleff.workstation.windows.native.structures import SP_DEVINFO_DATA


class SystemDrivers:
    """Implements `DriverControl`."""

    knows_devices = True

    def __init__(self, api: Api) -> None:
        self._api = api

    def remove_device(self, instance: str) -> bool:
        devices = self._api.SetupDiCreateDeviceInfoList(None, None)
        try:
            device = SP_DEVINFO_DATA(cbSize=sizeof(SP_DEVINFO_DATA))
            try:
                self._api.SetupDiOpenDeviceInfoW(devices, instance, None, 0, device)
            except Failed as failed:
                if failed.code == c.ERROR_NO_SUCH_DEVINST:
                    return False
                raise
            restart = bytearray(4)
            self._api.DiUninstallDevice(None, devices, device, 0, restart)
            return bool(number(restart))
        finally:
            self._api.SetupDiDestroyDeviceInfoList(devices)

    def remove_package(self, inf: str) -> bool:
        with contextlib.suppress(FileNotFoundError):
            self._api.SetupUninstallOEMInfW(inf, c.SUOI_FORCEDELETE, None)
        return False

    def add_package(self, file: str) -> bool:
        restart = bytearray(4)
        self._api.DiInstallDriverW(None, file, 0, restart)
        return bool(number(restart))
