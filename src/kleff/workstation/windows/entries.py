"""Products registered as installed: the uninstall keys of both views and of every account."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable, Iterator
from functools import partial

from kleff.procedure.globs import fold
from kleff.registry.registry import KeyRef, Registry
from kleff.workstation.identity import KeyId, key_id
from kleff.workstation.things import Account, CommandLine, Entry
from kleff.workstation.windows.command_lines import split_arguments, split_program

UNINSTALL = r"Software\Microsoft\Windows\CurrentVersion\Uninstall"
GUID = r"\{[0-9A-Fa-f]{8}(?:-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}\}"


class WindowsEntries:
    """Reads the uninstall keys.

    Args:
        accounts: gives the accounts whose hives are searched.
        msiexec: path of the installer service's program.
        is_file: whether a text is the path of a file there.
    """

    def __init__(
        self,
        registry: Registry,
        accounts: Callable[[], list[Account]],
        msiexec: str,
        is_file: Callable[[str], bool],
        expand: Callable[[str], str],
    ) -> None:
        self._registry = registry
        self._accounts = accounts
        self._msiexec = msiexec
        self._is_file = is_file
        self._expand = expand

    def all(self) -> list[Entry]:
        return list(self._entries())

    def present(self, entry: Entry) -> bool:
        return isinstance(entry.id, KeyId) and self._registry.exists(entry.id.key)

    def unread(self) -> list[str]:
        return [account.name for account in self._accounts() if not self._readable(account)]

    def _readable(self, account: Account) -> bool:
        try:
            for key in self._registry.canonical(f"HKCU\\{UNINSTALL}", account.id):
                self._registry.subkeys(key)
        except OSError:
            return False
        return True

    def _entries(self) -> Iterator[Entry]:
        for key in self._registry.canonical(f"HKLM\\{UNINSTALL}"):
            yield from self._below(key, "")
        for account in self._accounts():
            for key in self._registry.canonical(f"HKCU\\{UNINSTALL}", account.id):
                with contextlib.suppress(OSError):  # `unread` tells whose those are
                    yield from self._below(key, account.name)

    def _below(self, top: KeyRef, account: str) -> Iterator[Entry]:
        for name in self._registry.subkeys(top):
            key = top.child(name)
            texts = {fold(v.name): v.text for v in self._registry.values(key)}
            text = partial(_named, texts)
            if not text("DisplayName"):
                continue
            registered = text("UninstallString")
            code = self._product_code(name, registered, text("WindowsInstaller"))
            yield Entry(
                name=text("DisplayName"),
                version=text("DisplayVersion"),
                publisher=text("Publisher"),
                id=key_id(key),
                registered_at=str(key),
                quiet=self._quiet(code, text("QuietUninstallString")),
                registered=registered,
                location=self._expand(text("InstallLocation")).rstrip("\\"),
                account=account,
                product_code=code,
                program=self._command(registered),
                size=_number(self._registry, key, "EstimatedSize") * 1024,
            )

    def _product_code(self, name: str, registered: str, by_installer: str) -> str:
        if by_installer == "1" and re.fullmatch(GUID, name):
            return name
        found = re.search(rf"msiexec(?:\.exe)?\"?\s+/[IX]\s*({GUID})", registered, re.IGNORECASE)
        return found[1] if found else ""

    def _quiet(self, code: str, quiet: str) -> CommandLine | None:
        if code:
            return CommandLine((self._msiexec, "/x", code, "/qn", "/norestart", "REBOOT=ReallySuppress"))
        return self._command(quiet)

    def _command(self, text: str) -> CommandLine | None:
        program, line = split_program(self._expand(text), self._is_file)
        return CommandLine((program, *split_arguments(line)), line) if program else None


def _number(registry: Registry, key: KeyRef, name: str) -> int:
    value = registry.value(key, name)
    return value.number or 0 if value is not None else 0


def _named(texts: dict[str, str], name: str) -> str:
    return texts.get(fold(name), "")
