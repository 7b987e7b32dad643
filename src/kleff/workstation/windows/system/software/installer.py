"""What Windows Installer knows: products, and packages in its cache ("Windows Installer Reference")."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import narrow, number

EVERYBODY = "S-1-1-0"  # the products of all accounts
CODE = 39  # characters of a product code with its end
LONGEST = 1024  # characters of a property
OF_CODE = "SELECT `Value` FROM `Property` WHERE `Property` = 'ProductCode'"


@dataclass(frozen=True)
class InstalledProduct:
    """A product that is installed.

    Attributes:
        code: its product code; account: the SID of whose it is, "" for the machine's.
        package: where its package lies in the installer's cache; "" if that is not known.
    """

    code: str
    account: str
    name: str
    version: str
    publisher: str
    package: str


@dataclass(frozen=True)
class Package:
    """What a package says of itself: `subject` is usually the product's name."""

    subject: str
    product_code: str


class Installer:
    """Raises `Failed` where not said otherwise."""

    def __init__(self, api: Api) -> None:
        self._api = api

    def products(self) -> list[InstalledProduct]:
        """All of them, of every account as far as this one may know."""
        return [self._product(*found) for found in self._codes()]

    def package(self, path: str) -> Package | None:
        """What is in a package; None if it is none, or damaged."""
        try:
            return Package(self._subject(path), self._product_code(path))
        except Failed:
            return None

    # -- products ---------------------------------------------------------------------------------------------

    def _codes(self) -> Iterator[tuple[str, str, int]]:
        """(product code, SID or "", context) of each."""
        at = 0
        while True:
            code, context, sid = bytearray(2 * CODE), bytearray(4), bytearray(2 * LONGEST)
            size = bytearray(LONGEST.to_bytes(4, "little"))
            ended = self._api.code("MsiEnumProductsExW", None, EVERYBODY, c.MSIINSTALLCONTEXT_ALL, at, code, context, sid, size)
            if ended == c.ERROR_NO_MORE_ITEMS:
                return
            if ended:
                raise Failed("MsiEnumProductsExW", ended)
            yield narrow(code), narrow(sid), number(context)
            at += 1

    def _product(self, code: str, account: str, context: int) -> InstalledProduct:
        def told(name: str) -> str:
            text, size = bytearray(2 * LONGEST), bytearray(LONGEST.to_bytes(4, "little"))
            ended = self._api.code("MsiGetProductInfoExW", code, account or None, context, name, text, size)
            if ended not in (0, c.ERROR_UNKNOWN_PROPERTY, c.ERROR_UNKNOWN_PRODUCT):
                raise Failed("MsiGetProductInfoExW", ended)
            return "" if ended else narrow(text)

        return InstalledProduct(
            code, account, told("InstalledProductName"), told("VersionString"), told("Publisher"), told("LocalPackage")
        )  # fmt: skip

    # -- packages ---------------------------------------------------------------------------------------------

    def _subject(self, path: str) -> str:
        with self._opened("MsiGetSummaryInformationW", 0, path, 0) as summary:
            text, size = bytearray(2 * LONGEST), bytearray(LONGEST.to_bytes(4, "little"))
            self._api.MsiSummaryInfoGetPropertyW(summary, c.PIDSI_SUBJECT, bytearray(4), bytearray(4), bytearray(8), text, size)
            return narrow(text)

    def _product_code(self, path: str) -> str:
        with self._opened("MsiOpenDatabaseW", path, None) as database, self._opened("MsiDatabaseOpenViewW", database, OF_CODE) as view:
            self._api.MsiViewExecute(view, 0)
            with self._opened("MsiViewFetch", view) as record:
                text, size = bytearray(2 * CODE), bytearray(CODE.to_bytes(4, "little"))
                self._api.MsiRecordGetStringW(record, 1, text, size)
                return narrow(text)

    @contextlib.contextmanager
    def _opened(self, function: str, *arguments: int | str | None) -> Iterator[int]:
        """What a function opens, closed in the end; its handles have 32 bits."""
        handle = bytearray(4)
        getattr(self._api, function)(*arguments, handle)
        try:
            yield number(handle)
        finally:
            self._api.MsiCloseHandle(number(handle))
