"""What a Windows workstation is busy with, as its registry tells; power and sessions from its lowest layer."""

from __future__ import annotations

from typing import Protocol

from kleff.registry.registry import Registry
from kleff.workstation.things import Power

CURRENT = r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion"
MANAGER = r"HKLM\SYSTEM\CurrentControlSet\Control\Session Manager"
# Keys that exist while a restart is pending, and who made them.
PENDING = {
    r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Component Based Servicing\RebootPending": "the system's own servicing asks for one",
    r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\WindowsUpdate\Auto Update\RebootRequired": "an update asks for one",
}
# Where sync programs register their folders with the system ("SyncRootManager", Windows documentation of cloud files).
SYNC = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Explorer\SyncRootManager"
INSTALLING = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Installer\InProgress"


class Machine(Protocol):
    """The lowest layer: what no registry tells."""

    def power(self) -> Power: ...

    def sessions(self) -> list[str]:
        """Names of the accounts that are signed in, Kleff's own left out."""

    def installing(self) -> bool:
        """Whether the installer service is busy, where the registry does not tell."""


class WindowsReadiness:
    def __init__(self, registry: Registry, machine: Machine) -> None:
        self._registry = registry
        self._machine = machine

    def power(self) -> Power:
        return self._machine.power()

    def restart_pending(self) -> list[str]:
        found = [why for text, why in PENDING.items() if any(self._registry.exists(k) for k in self._registry.canonical(text, view=64))]
        for key in self._registry.canonical(MANAGER):
            renames = self._registry.value(key, "PendingFileRenameOperations")
            if renames is not None and renames.raw.strip(b"\0"):
                found.append("files wait to be deleted or replaced at the next start")
        return found

    def at_work(self) -> list[str]:
        here = self._machine.installing() or any(self._registry.exists(key) for key in self._registry.canonical(INSTALLING, view=64))
        return ["the installer service is at work"] if here else []

    def signed_in(self) -> list[str]:
        return self._machine.sessions()

    def sync_roots(self) -> list[tuple[str, str]]:
        found = []
        for top in self._registry.canonical(SYNC, view=64):
            for name in self._registry.subkeys(top):
                shown = self._registry.text(top.child(name), "DisplayNameResource") or name.partition("!")[0]
                for value in self._registry.values(top.child(name).child("UserSyncRoots")):
                    found.append((value.text, shown))
        return found

    def version(self) -> str:
        keys = self._registry.canonical(CURRENT, view=64)
        if not keys:
            return ""
        major = self._registry.value(keys[0], "CurrentMajorVersionNumber")
        minor = self._registry.value(keys[0], "CurrentMinorVersionNumber")
        build = self._registry.text(keys[0], "CurrentBuild")
        return f"{major.number if major else 10}.{minor.number if minor else 0}{f'.{build}' if build else ''}"
