"""Whose a process is."""

from __future__ import annotations

import contextlib

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import allocated, narrow, number

LONGEST = 256  # characters of a name
LARGEST = 88  # bytes of a SID with what stands before it (TOKEN_USER)
BEFORE = 16  # of which so many are its address and its attributes


def user_of(api: Api, process: int) -> bytes:
    """The SID of the account that a process runs for, in binary. Args: process: a handle that may be asked."""
    handle = bytearray(8)
    api.OpenProcessToken(process, c.TOKEN_QUERY, handle)
    try:
        with allocated(api.caller, LARGEST) as place:
            api.GetTokenInformation(number(handle), c.TokenUser, place, LARGEST, bytearray(4))
            told = api.caller.read(place, LARGEST)
            return api.caller.read(number(told[:8]), _size(told[number(told[:8]) - place :]))
    finally:
        api.CloseHandle(number(handle))


def _size(sid: bytes) -> int:
    """A revision, how many numbers follow, six bytes of an authority, the numbers ([MS-DTYP] 2.4.2.2)."""
    return 8 + 4 * sid[1]


class Names:
    """The names of accounts, each asked for once."""

    def __init__(self, api: Api) -> None:
        self._api = api
        self._known: dict[bytes, str] = {}

    def of(self, sid: bytes) -> str:
        """ "" if the system knows none."""
        if sid not in self._known:
            self._known[sid] = self._asked(sid)
        return self._known[sid]

    def _asked(self, sid: bytes) -> str:
        name, domain = bytearray(2 * LONGEST), bytearray(2 * LONGEST)
        sizes = [bytearray(LONGEST.to_bytes(4, "little")) for _ in range(2)]
        with contextlib.suppress(Failed):
            self._api.LookupAccountSidW(None, sid, name, sizes[0], domain, sizes[1], bytearray(4))
            return narrow(name)
        return ""
