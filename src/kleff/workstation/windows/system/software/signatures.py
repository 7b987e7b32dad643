"""Whether a file is signed by somebody whom Windows trusts (WinVerifyTrust)."""

from __future__ import annotations

from ctypes import sizeof
from uuid import UUID

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.native.caller import allocated, wide
from kleff.workstation.windows.native.structures import WINTRUST_DATA, WINTRUST_FILE_INFO

NO_WINDOW = (1 << 64) - 1  # nobody is asked
GENERIC_VERIFY = UUID("00aac56b-cd44-11d0-8cc2-00c04fc295ee")  # WINTRUST_ACTION_GENERIC_VERIFY_V2


def is_signed(api: Api, path: str) -> bool:
    """By a signature in the file itself. Anything else than a plain yes is a no, also that the file is not there. Nothing is fetched."""
    with allocated(api.caller, wide(path)) as name:
        file = WINTRUST_FILE_INFO(cbStruct=sizeof(WINTRUST_FILE_INFO), pcwszFilePath=name)
        with allocated(api.caller, bytes(file)) as place:
            asked = WINTRUST_DATA(
                cbStruct=sizeof(WINTRUST_DATA), dwUIChoice=c.WTD_UI_NONE, fdwRevocationChecks=c.WTD_REVOKE_NONE,
                dwUnionChoice=c.WTD_CHOICE_FILE, pFile=place, dwStateAction=c.WTD_STATEACTION_VERIFY,
                dwProvFlags=c.WTD_CACHE_ONLY_URL_RETRIEVAL,
            )  # fmt: skip
            found = api.WinVerifyTrust(NO_WINDOW, GENERIC_VERIFY.bytes_le, asked)
            asked.dwStateAction = c.WTD_STATEACTION_CLOSE
            api.WinVerifyTrust(NO_WINDOW, GENERIC_VERIFY.bytes_le, asked)
    return found == 0
