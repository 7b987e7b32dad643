"""Objects of Windows that are used through their tables of methods (COM); a test holds each method's place against the headers."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from uuid import UUID

from kleff.workstation.windows.native.api import FAILING, LOW, Api, Failed
from kleff.workstation.windows.native.caller import Arg, Caller, allocated, number

METHODS = {
    "IUnknown": {"Release": 2},
    "ITaskService": {"GetFolder": 7, "Connect": 10},
    "ITaskFolder": {"GetTask": 13, "DeleteTask": 15, "RegisterTask": 16},
    "IRegisteredTask": {"get_Enabled": 10, "put_Enabled": 11, "get_Xml": 20},
}
TASK_SCHEDULER = (UUID("0f87369f-a4e5-4cfc-bd3e-73e6154572dd"), UUID("2faba4c7-4da9-4013-9697-20cc3fd40f85"))  # class, ITaskService
IN_THIS_PROCESS, ANY_THREAD = 1, 0  # CLSCTX_INPROC_SERVER, COINIT_MULTITHREADED
EMPTY = bytes(24)  # a VARIANT with nothing in it


class Interface:
    """An object by one of its interfaces."""

    def __init__(self, caller: Caller, name: str, address: int) -> None:
        self._caller = caller
        self._name = name
        self.address = address

    def call(self, method: str, *arguments: Arg) -> None:
        """Raises: Failed: the HRESULT says so."""
        table = number(self._caller.read(self.address, 8))
        place = METHODS[self._name if method in METHODS[self._name] else "IUnknown"][method]
        answer = self._caller.call_at(number(self._caller.read(table + 8 * place, 8)), self.address, *arguments)
        code = answer.result & LOW
        if code >= FAILING and method != "Release":  # which gives how many hold it still
            raise Failed(f"{self._name}::{method}", code)

    @contextlib.contextmanager
    def gives(self, name: str, method: str, *arguments: Arg) -> Iterator[Interface]:
        """What a method gives: an object, released in the end."""
        place = bytearray(8)
        self.call(method, *arguments, place)
        made = Interface(self._caller, name, number(place))
        try:
            yield made
        finally:
            made.call("Release")


@contextlib.contextmanager
def created(api: Api, name: str, which: tuple[UUID, UUID]) -> Iterator[Interface]:
    """A new object. Args: which: its class and the interface."""
    api.code("CoInitializeEx", None, ANY_THREAD)  # done before is no error that matters
    place = bytearray(8)
    api.CoCreateInstance(which[0].bytes_le, None, IN_THIS_PROCESS, which[1].bytes_le, place)
    made = Interface(api.caller, name, number(place))
    try:
        yield made
    finally:
        made.call("Release")


@contextlib.contextmanager
def text(api: Api, value: str) -> Iterator[int]:
    """A text as these objects take it (BSTR)."""
    address = api.SysAllocString(value)
    try:
        yield address
    finally:
        api.SysFreeString(address)


def text_at(api: Api, address: int) -> str:
    """A text that an object has given, which is freed."""
    size = number(api.caller.read(address - 4, 4))
    try:
        return api.caller.read(address, size).decode("utf-16-le", "surrogatepass") if size else ""
    finally:
        api.SysFreeString(address)


@contextlib.contextmanager
def nothing(api: Api, count: int) -> Iterator[list[int]]:
    """So many arguments that are left out; each is handed over by its address."""
    with allocated(api.caller, EMPTY * count) as place:
        yield [place + len(EMPTY) * at for at in range(count)]
