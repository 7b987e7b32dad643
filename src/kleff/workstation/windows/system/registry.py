"""The registry of a running Windows.

Every key is opened in the 64-bit view by its physical path, with `Wow6432Node` written out. A key that is a link is opened itself, never
what it leads to: the functions that delete by a path go where links lead, so a key is deleted by its own handle.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from struct import pack
from typing import TypeVar

from kleff.registry.values import RegValue
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import narrow, number
from kleff.workstation.windows.system.hives import Hives

MISSING = (c.ERROR_FILE_NOT_FOUND, c.ERROR_KEY_DELETED)
READ = c.KEY_READ | c.KEY_WOW64_64KEY
CHANGE = READ | c.KEY_WRITE
LINK_VALUE = "SymbolicLinkValue"
AT_ONCE = 64  # keys or values that are asked for together
LARGE = 4096  # bytes of one value, from which on each is asked for alone
GROWN = (c.ERROR_MORE_DATA, c.ERROR_NO_MORE_ITEMS)
NOT_EMPTY = 0xC0000121  # STATUS_CANNOT_DELETE: what Windows says of a key that has others below it
T = TypeVar("T")
TRIES = 5  # a key may grow between asking how large it is and asking for what is in it

BEHIND = b"\xff\xff\xff\xff"


class WindowsRegistry:
    """Implements `RegistryApi`. Args: hives: of the accounts."""

    def __init__(self, api: Api, hives: Hives) -> None:
        self._api = api
        self._hives = hives

    # -- reading ----------------------------------------------------------------------------------------------

    def hives(self) -> list[str]:
        return self._hives.sids()

    def subkeys(self, hive: str, path: str) -> list[str] | None:
        return self._read(hive, path, lambda key: self._subkeys(key, self._sizes(key)))

    def values(self, hive: str, path: str) -> list[RegValue] | None:
        return self._read(hive, path, lambda key: self._values(key, self._sizes(key)))

    def contents(self, hive: str, path: str) -> tuple[list[str], list[RegValue]] | None:
        def both(key: int) -> tuple[list[str], list[RegValue]]:
            sizes = self._sizes(key)
            return self._subkeys(key, sizes), self._values(key, sizes)

        return self._read(hive, path, both)

    def link(self, hive: str, path: str) -> RegValue | None:
        with _unless(*MISSING), self._key(hive, path, READ) as key:
            kind, size = bytearray(4), bytearray(4)
            self._api.RegQueryValueExW(key, LINK_VALUE, None, kind, None, size)
            if number(kind) == c.REG_LINK:
                data = bytearray(number(size))
                self._api.RegQueryValueExW(key, LINK_VALUE, None, kind, data, size)
                return RegValue(LINK_VALUE, c.REG_LINK, bytes(data[: number(size)]))
        return None

    def _read(self, hive: str, path: str, ask: Callable[[int], T]) -> T | None:
        """What is asked of a key; None if it is not there."""
        for left in reversed(range(TRIES)):
            try:
                with self._key(hive, path, READ) as key:
                    return ask(key)
            except Failed as failed:
                if failed.code in MISSING:
                    return None
                if failed.code not in GROWN or not left:
                    raise
        return None

    def _subkeys(self, key: int, sizes: _Sizes) -> list[str]:
        rows = [(bytearray(2 * sizes.longest_key + 2), bytearray(pack("<I", sizes.longest_key + 1))) for _ in range(sizes.keys)]
        asked = [(key, at, name, size, None, None, None, None) for at, (name, size) in enumerate(rows)]
        self._api.many("RegEnumKeyExW", asked, AT_ONCE)
        return [narrow(name) for name, _ in rows]

    def _values(self, key: int, sizes: _Sizes) -> list[RegValue]:
        rows = [_Row(sizes) for _ in range(sizes.values)]
        asked = [(key, at, r.name, r.length, None, r.kind, r.data, r.size) for at, r in enumerate(rows)]
        self._api.many("RegEnumValueW", asked, 1 if sizes.longest_data > LARGE else AT_ONCE)
        return [RegValue(narrow(r.name), number(r.kind), bytes(r.data[: number(r.size)])) for r in rows]

    def _sizes(self, key: int) -> _Sizes:
        out = [bytearray(4) for _ in range(5)]
        self._api.RegQueryInfoKeyW(key, None, None, None, out[0], out[1], None, out[2], out[3], out[4], None, None)
        return _Sizes(*map(number, out))

    # -- changing ---------------------------------------------------------------------------------------------

    def create(self, hive: str, path: str) -> None:
        with self._made(hive, path, c.REG_OPTION_OPEN_LINK, 0):
            pass

    def set(self, hive: str, path: str, value: RegValue) -> None:
        with self._made(hive, path, c.REG_OPTION_OPEN_LINK, 0) as (key, _):
            # Of a text without its end the system looks at what lies behind, and takes zeros there for the end.
            self._api.RegSetValueExW(key, value.name, 0, value.type, value.raw + BEHIND, len(value.raw))

    def delete_value(self, hive: str, path: str, name: str) -> None:
        with _unless(*MISSING), self._key(hive, path, CHANGE) as key:
            self._api.RegDeleteValueW(key, name)

    def delete_key(self, hive: str, path: str) -> None:
        with _unless(*MISSING), self._key(hive, path, READ | c.DELETE) as key:
            if self._sizes(key).keys:
                raise Failed("NtDeleteKey", NOT_EMPTY)
            self._api.NtDeleteKey(key)

    def make_link(self, hive: str, path: str, target: RegValue) -> None:
        with _unless(c.ERROR_ALREADY_EXISTS), self._made(hive, path, c.REG_OPTION_CREATE_LINK, c.KEY_CREATE_LINK) as (key, fresh):
            if fresh:
                self._api.RegSetValueExW(key, LINK_VALUE, 0, c.REG_LINK, target.raw, len(target.raw))

    def flush(self) -> None:
        for root in (c.HKEY_LOCAL_MACHINE, c.HKEY_USERS):
            self._api.RegFlushKey(root)

    def release(self) -> list[str]:
        return self._hives.release()

    # -- handles ----------------------------------------------------------------------------------------------

    @contextmanager
    def _key(self, hive: str, path: str, access: int) -> Iterator[int]:
        """A key that is open.

        Raises:
            Failed: with one of `MISSING` if it is not there.
        """
        handle = bytearray(8)
        root, below = self._hives.place(hive, path)
        self._api.RegOpenKeyExW(root, below, c.REG_OPTION_OPEN_LINK, access, handle)
        try:
            yield number(handle)
        finally:
            self._api.RegCloseKey(number(handle))

    @contextmanager
    def _made(self, hive: str, path: str, options: int, access: int) -> Iterator[tuple[int, bool]]:
        """A key that is made unless it is there; and whether it was made."""
        handle, fresh = bytearray(8), bytearray(4)
        root, below = self._hives.place(hive, path)
        self._api.RegCreateKeyExW(root, below, 0, None, options, CHANGE | access, None, handle, fresh)
        try:
            yield number(handle), number(fresh) == c.REG_CREATED_NEW_KEY
        finally:
            self._api.RegCloseKey(number(handle))


@contextmanager
def _unless(*codes: int) -> Iterator[None]:
    """Failures with these codes are none."""
    try:
        yield
    except Failed as failed:
        if failed.code not in codes:
            raise


@dataclass
class _Sizes:
    """How many there are of each, and how long the longest is: names in characters, data in bytes."""

    keys: int
    longest_key: int
    values: int
    longest_name: int
    longest_data: int


class _Row:
    """Room for one value."""

    def __init__(self, sizes: _Sizes) -> None:
        self.name, self.length = bytearray(2 * sizes.longest_name + 2), bytearray(pack("<I", sizes.longest_name + 1))
        self.kind = bytearray(4)
        self.data, self.size = bytearray(max(sizes.longest_data, 1)), bytearray(pack("<I", sizes.longest_data))
