"""What Windows Installer knows: products, and packages in its cache ("Windows Installer Reference")."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from kleff.procedure.globs import fold
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath
from kleff.workstation.things import InstallerPackage, InstallerProduct
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import narrow, number

EVERYBODY = "S-1-1-0"  # the products of all accounts
CODE = 39  # characters of a product code with its end
LONGEST = 1024  # characters of a property
OF_CODE = "SELECT `Value` FROM `Property` WHERE `Property` = 'ProductCode'"


class Installer:
    """Implements `Installs`. Raises `Failed` where not said otherwise.

    Args:
        cache: the folder in which packages are kept.
    """

    def __init__(self, api: Api, files: FileTree, cache: WPath) -> None:
        self._api, self._files, self._cache = api, files, cache

    def packages(self) -> list[InstallerPackage]:
        names = self._files.names(self._cache)
        found = (self.package(str(self._cache.child(name))) for name in names if fold(name).endswith(".MSI"))
        return [package for package in found if package is not None]

    def products(self) -> list[InstallerProduct]:
        """All of them, of every account as far as this one may know."""
        return [self._product(*found) for found in self._codes()]

    def package(self, path: str) -> InstallerPackage | None:
        """What is in a package; None if it is none, or damaged."""
        try:
            return InstallerPackage(path, self._subject(path), self._product_code(path))
        except Failed:
            return None

    # -- products ---------------------------------------------------------------------------------------------

    def _codes(self) -> Iterator[tuple[str, str, int]]:
        """(product code, SID or "", context) of each; an account that is no administrator may know its own and the machine's."""
        at = 0
        whose: str | None = EVERYBODY
        while True:
            code, context, sid = bytearray(2 * CODE), bytearray(4), bytearray(2 * LONGEST)
            size = bytearray(LONGEST.to_bytes(4, "little"))
            ended = self._api.code("MsiEnumProductsExW", None, whose, c.MSIINSTALLCONTEXT_ALL, at, code, context, sid, size)
            if ended == c.ERROR_NO_MORE_ITEMS:
                return
            if ended == c.ERROR_ACCESS_DENIED and whose:
                at, whose = 0, None
                continue
            if ended:
                raise Failed("MsiEnumProductsExW", ended)
            yield narrow(code), narrow(sid), number(context)
            at += 1

    def _product(self, code: str, account: str, context: int) -> InstallerProduct:
        def told(name: str) -> str:
            text, size = bytearray(2 * LONGEST), bytearray(LONGEST.to_bytes(4, "little"))
            ended = self._api.code("MsiGetProductInfoExW", code, account or None, context, name, text, size)
            if ended not in (0, c.ERROR_UNKNOWN_PROPERTY, c.ERROR_UNKNOWN_PRODUCT):
                raise Failed("MsiGetProductInfoExW", ended)
            return "" if ended else narrow(text)

        return InstallerProduct(
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
