"""How a Windows function is called: by name, with integers and buffers only.

On a real Windows the calls are made in this process (`local.py`); the tests make the same calls in a helper under Wine. Nothing above
knows which of them it has, and these rules make both the same:

- an argument is an int (handles and addresses too), a str or bytes (only read), None for NULL, or a bytearray or `Structure` that the
  function may change;
- structures have fields of a fixed size only: `c_long`, `c_wchar` and `ctypes.wintypes` have other sizes on other systems;
- a pointer inside a structure is an address from `alloc`; there are no callbacks;
- no call waits for ever: it is given a time, and made again.
"""

from __future__ import annotations

import ctypes
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import NamedTuple, Protocol

Arg = int | str | bytes | bytearray | ctypes.Structure | None
MOST = 16  # arguments


class Call(NamedTuple):
    """One call."""

    dll: str
    function: str
    arguments: Sequence[Arg]


class Answer(NamedTuple):
    """What came of a call.

    Attributes:
        result: 64 bits, of which only as many count as the function's own type has.
        error: the thread's last error afterwards (GetLastError).
    """

    result: int
    error: int


class Crashed(OSError):
    """A function broke down inside; `code` is the exception's, such as 0xC0000005 for an access violation."""

    def __init__(self, what: str, code: int) -> None:
        super().__init__(f"{what} broke down with exception {code:#x}")
        self.code = code


class Caller(Protocol):
    """Makes calls."""

    def call(self, call: Call) -> Answer:
        """Make one call.

        Raises:
            NotImplementedError: this system has no such function.
            Crashed: it broke down.
        """

    def batch(self, calls: Sequence[Call]) -> list[Answer]:
        """Several calls, none of which needs what another gives back."""

    def call_at(self, address: int, *arguments: Arg) -> Answer:
        """Call what lies at an address, as the methods of an object do."""

    def address_of(self, dll: str, function: str) -> int:
        """Where a function lies; 0 if this system has none of that name."""

    def alloc(self, data: int | bytes) -> int:
        """Memory that stays where it is: so many zeros, or this. Returns its address."""

    def free(self, address: int) -> None: ...

    def read(self, address: int, size: int) -> bytes: ...

    def write(self, address: int, data: bytes) -> None: ...


@contextmanager
def allocated(caller: Caller, data: int | bytes) -> Iterator[int]:
    """Memory for as long as the block lasts; its address."""
    address = caller.alloc(data)
    try:
        yield address
    finally:
        caller.free(address)


def wide(text: str) -> bytes:
    """A text as Windows takes it: UTF-16 with a NUL at its end; names may hold half a surrogate pair."""
    return text.encode("utf-16-le", "surrogatepass") + b"\0\0"


def narrow(data: bytes | bytearray) -> str:
    """The inverse of `wide`: up to the first NUL."""
    return bytes(data[: len(data) // 2 * 2]).decode("utf-16-le", "surrogatepass").partition("\0")[0]


def number(data: bytes | bytearray) -> int:
    """What a function has written into a buffer as a number."""
    return int.from_bytes(data, "little")
