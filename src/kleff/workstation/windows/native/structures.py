"""Structures of Windows, under their own names and those of their fields; a test holds size and place of each against the headers.

Only fields of a fixed size. A `P` is an address in the process in which the calls are made.
"""

from __future__ import annotations

from ctypes import Structure, c_int32, c_uint8, c_uint16, c_uint32, c_uint64

P, U8, U16, U32, U64, I32 = c_uint64, c_uint8, c_uint16, c_uint32, c_uint64, c_int32


class LUID(Structure):
    _fields_ = (("LowPart", U32), ("HighPart", I32))


class LUID_AND_ATTRIBUTES(Structure):
    _fields_ = (("Luid", LUID), ("Attributes", U32))


class TOKEN_PRIVILEGES(Structure):
    _fields_ = (("PrivilegeCount", U32), ("Privileges", LUID_AND_ATTRIBUTES * 1))


class SERVICE_STATUS(Structure):
    _fields_ = (
        ("dwServiceType", U32), ("dwCurrentState", U32), ("dwControlsAccepted", U32), ("dwWin32ExitCode", U32),
        ("dwServiceSpecificExitCode", U32), ("dwCheckPoint", U32), ("dwWaitHint", U32),
    )  # fmt: skip


class SERVICE_STATUS_PROCESS(Structure):
    _fields_ = (*SERVICE_STATUS._fields_, ("dwProcessId", U32), ("dwServiceFlags", U32))


STRUCTURES: dict[str, type[Structure]] = {
    made.__name__: made for made in (LUID, LUID_AND_ATTRIBUTES, TOKEN_PRIVILEGES, SERVICE_STATUS, SERVICE_STATUS_PROCESS)
}
