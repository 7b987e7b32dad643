"""What Wine cannot show, answered in its place: every file is an administrator's, and nobody else may change it."""

from __future__ import annotations

from collections.abc import Sequence

from kleff.workstation.windows.native.caller import Answer, Arg, Call
from kleff.workstation.windows.system.files.security import for_admins_alone
from wine.remote import RemoteCaller

SECURITY = for_admins_alone()
DONE = Answer(0, 0)


class AdministratorsFiles:
    """Passes calls on, but for those about who may change a file: Wine knows no owners and keeps no access lists."""

    def __init__(self, under: RemoteCaller) -> None:
        self._under = under

    def call(self, call: Call) -> Answer:
        if call.function == "NtQuerySecurityObject":
            data, size = call.arguments[2], call.arguments[4]
            assert isinstance(data, bytearray)
            assert isinstance(size, bytearray)
            data[: len(SECURITY)] = SECURITY
            size[:] = len(SECURITY).to_bytes(4, "little")
            return DONE
        return DONE if call.function == "NtSetSecurityObject" else self._under.call(call)

    def batch(self, calls: Sequence[Call]) -> list[Answer]:
        return self._under.batch(calls)

    def call_at(self, address: int, *arguments: Arg) -> Answer:
        return self._under.call_at(address, *arguments)

    def address_of(self, dll: str, function: str) -> int:
        return self._under.address_of(dll, function)

    def alloc(self, data: int | bytes) -> int:
        return self._under.alloc(data)

    def free(self, address: int) -> None:
        self._under.free(address)

    def read(self, address: int, size: int) -> bytes:
        return self._under.read(address, size)

    def write(self, address: int, data: bytes) -> None:
        self._under.write(address, data)
