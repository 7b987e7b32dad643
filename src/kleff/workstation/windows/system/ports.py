"""Who listens on which port."""

from __future__ import annotations

from collections.abc import Iterator
from ctypes import sizeof

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import number
from kleff.workstation.windows.native.structures import MIB_TCP6ROW_OWNER_PID, MIB_TCPROW_OWNER_PID

ROWS = {c.AF_INET: MIB_TCPROW_OWNER_PID, c.AF_INET6: MIB_TCP6ROW_OWNER_PID}


def listeners(api: Api) -> Iterator[tuple[int, int]]:
    """(number of the process, port) of each that listens by TCP."""
    for family, row in ROWS.items():
        table = _table(api, family)
        for at in range(number(table[:4])):
            one = row.from_buffer_copy(table, 4 + at * sizeof(row))
            port = one.dwLocalPort
            yield one.dwOwningPid, (port & 0xFF) << 8 | port >> 8 & 0xFF  # as it travels: the high byte first


def _table(api: Api, family: int) -> bytes:
    size = bytearray(4)
    while True:  # it may grow between asking how large it is and asking for it
        data = bytearray(max(number(size), 4))
        code = api.code("GetExtendedTcpTable", data, size, 0, family, c.TCP_TABLE_OWNER_PID_LISTENER, 0)
        if code == c.ERROR_NOT_SUPPORTED:  # a system without this family
            return bytes(4)
        if code not in (0, c.ERROR_INSUFFICIENT_BUFFER):
            raise Failed("GetExtendedTcpTable", code)
        if not code:
            return bytes(data)
