"""Calls made in this process, by ctypes."""

from __future__ import annotations

import ctypes
import sys
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from kleff.errors import NoSuchWorkstation
from kleff.workstation.windows.native.caller import Answer, Arg, Call, Crashed, wide

ACCESS_VIOLATION = 0xC0000005
SYSTEM32_ONLY = 0x800  # LOAD_LIBRARY_SEARCH_SYSTEM32: no file beside Kleff on a stick steps in
ALL_ONES = (1 << 64) - 1


@dataclass(frozen=True)
class Loading:
    """Where a process finds libraries, and its last error. The tests give the C library and errno of the machine they run on."""

    library: Callable[[str], Any]
    get_error: Callable[[], int]
    set_error: Callable[[int], object]


def of_windows() -> Loading:
    """The system's own libraries.

    Raises:
        NoSuchWorkstation: this is no 64-bit Python on Windows; arguments have 64 bits, and a 32-bit one sees other files.
    """
    if sys.platform != "win32" or ctypes.sizeof(ctypes.c_void_p) != 8:
        raise NoSuchWorkstation("needs a 64-bit Python on Windows", where="this", remedy="run Kleff with a 64-bit Python")

    def library(name: str) -> Any:
        return ctypes.WinDLL(f"{name}.dll", use_last_error=True, winmode=SYSTEM32_ONLY)

    return Loading(library, ctypes.get_last_error, ctypes.set_last_error)


class LocalCaller:
    """Implements `Caller`."""

    def __init__(self, loading: Loading) -> None:
        self._loading = loading
        self._functions: dict[tuple[str, str], Any] = {}
        self._memory: dict[int, ctypes.Array[ctypes.c_char]] = {}

    def _function(self, dll: str, name: str) -> Any:
        """None if there is none."""
        if (dll, name) not in self._functions:
            try:
                found = getattr(self._loading.library(dll), name)
            except (OSError, AttributeError):
                return None
            found.restype = ctypes.c_uint64
            self._functions[dll, name] = found
        return self._functions[dll, name]

    def address_of(self, dll: str, function: str) -> int:
        found = self._function(dll, function)
        return (ctypes.cast(found, ctypes.c_void_p).value or 0) if found is not None else 0

    def call(self, call: Call) -> Answer:
        found = self._function(call.dll, call.function)
        if found is None:
            raise NotImplementedError(f"{call.dll} has no {call.function} here")
        return self._called(call.function, found, call.arguments)

    def batch(self, calls: Sequence[Call]) -> list[Answer]:
        return [self.call(call) for call in calls]

    def call_at(self, address: int, *arguments: Arg) -> Answer:
        # On 64 bits there is one calling convention, whatever a function's declaration says.
        made = ctypes.CFUNCTYPE(ctypes.c_uint64, *[ctypes.c_uint64] * len(arguments))
        return self._called(f"{address:#x}", made(address), arguments)

    def _called(self, what: str, function: Any, arguments: Sequence[Arg]) -> Answer:
        lasting: list[Any] = []  # what an address is given of must be there until the call has ended
        given = [ctypes.c_uint64(_as_number(argument, lasting)) for argument in arguments]
        self._loading.set_error(0)
        try:
            result = function(*given)
        except OSError as error:  # so ctypes says that a function broke down
            raise Crashed(what, ACCESS_VIOLATION) from error
        return Answer(result, self._loading.get_error())

    def alloc(self, data: int | bytes) -> int:
        made = ctypes.create_string_buffer(data, data if isinstance(data, int) else len(data))
        address = ctypes.addressof(made)
        self._memory[address] = made
        return address

    def free(self, address: int) -> None:
        del self._memory[address]

    def read(self, address: int, size: int) -> bytes:
        return ctypes.string_at(address, size)

    def write(self, address: int, data: bytes) -> None:
        ctypes.memmove(address, data, len(data))


def _as_number(argument: Arg, lasting: list[Any]) -> int:
    """An argument as it stands in a register; of a buffer its address."""
    if argument is None or isinstance(argument, int):
        return (argument or 0) & ALL_ONES
    if isinstance(argument, (str, bytes)):
        argument = bytearray(wide(argument) if isinstance(argument, str) else argument or b"\0")
    place: Any = argument
    if isinstance(argument, bytearray):
        place = (ctypes.c_char * len(argument)).from_buffer(argument)
    lasting.append(place)
    return ctypes.addressof(place)
