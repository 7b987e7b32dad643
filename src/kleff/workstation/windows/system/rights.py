"""What this process may do: whether it is an administrator's, and privileges, which an administrator has but must switch on."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from ctypes import sizeof

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import allocated, number
from kleff.workstation.windows.native.structures import LUID, TOKEN_PRIVILEGES

THIS_PROCESS = (1 << 64) - 1  # GetCurrentProcess gives this number, which needs no closing
# To read and write whoever's files and hives they are; to take over what nobody may touch.
BACKUP, RESTORE, TAKE_OWNERSHIP, DEBUG = "SeBackupPrivilege", "SeRestorePrivilege", "SeTakeOwnershipPrivilege", "SeDebugPrivilege"
ADMINISTRATORS = bytes.fromhex("01020000000000052000000020020000")  # S-1-5-32-544


def is_admin(api: Api) -> bool:
    """Whether it may do what only an administrator may; with reduced rights it is none."""
    answer = bytearray(4)
    with allocated(api.caller, ADMINISTRATORS) as sid:
        api.CheckTokenMembership(None, sid, answer)
    return bool(number(answer))


def switch_on(api: Api, *names: str) -> list[str]:
    """Switch privileges on. Returns those that this process does not have."""
    with _token(api) as token:
        return [name for name in names if not _on(api, token, name)]


def _on(api: Api, token: int, name: str) -> bool:
    luid = LUID()
    try:
        api.LookupPrivilegeValueW(None, name, luid)
    except Failed:
        return False
    wanted = TOKEN_PRIVILEGES(PrivilegeCount=1)
    wanted.Privileges[0].Luid, wanted.Privileges[0].Attributes = luid, c.SE_PRIVILEGE_ENABLED
    api.AdjustTokenPrivileges(token, 0, wanted, sizeof(wanted), None, None)
    return api.last_error != c.ERROR_NOT_ALL_ASSIGNED


@contextlib.contextmanager
def _token(api: Api) -> Iterator[int]:
    handle = bytearray(8)
    api.OpenProcessToken(THIS_PROCESS, c.TOKEN_QUERY | c.TOKEN_ADJUST_PRIVILEGES, handle)
    try:
        yield number(handle)
    finally:
        api.CloseHandle(number(handle))
