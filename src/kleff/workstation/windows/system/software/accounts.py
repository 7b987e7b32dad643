"""The accounts that a running Windows keeps itself ("Network Management Functions", Windows documentation)."""

from __future__ import annotations

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import number


class SystemAccounts:
    """Implements `LocalAccounts`."""

    def __init__(self, api: Api) -> None:
        self._api = api

    def has(self, name: str) -> bool:
        told = bytearray(8)
        try:
            self._api.NetUserGetInfo(None, name, 0, told)
        except Failed as failed:
            if failed.code == c.NERR_UserNotFound:
                return False
            raise
        self._api.NetApiBufferFree(number(told))
        return True

    def delete(self, name: str) -> None:
        try:
            self._api.NetUserDel(None, name)
        except Failed as failed:
            if failed.code != c.NERR_UserNotFound:
                raise
