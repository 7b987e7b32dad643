"""What else a Windows has to tell: rights, hives of accounts, the boot. Nothing is changed for longer than a check lasts."""

from __future__ import annotations

from collections.abc import Callable

from kleff.workstation.facets import Processes
from kleff.workstation.windows.contract.checks import Check, expect
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.system.hives import OURS, Hives
from kleff.workstation.windows.system.power.machine import boot_id
from kleff.workstation.windows.system.registry import WindowsRegistry
from kleff.workstation.windows.system.rights import BACKUP, RESTORE, TAKE_OWNERSHIP, switch_on


class SystemContract:
    """Args: hives: makes one that sees to the hives of accounts; processes: those that run."""

    def __init__(self, api: Api, hives: Callable[[], Hives], processes: Processes) -> None:
        self._api, self._hives, self._processes = api, hives, processes

    def checks(self) -> dict[str, Check]:
        return {
            "an administrator's rights": self._rights, "hives of accounts": self._accounts, "the boot": self._boot,
            "this very process": self._own,
        }  # fmt: skip

    def clear(self) -> None:
        """Nothing is left."""

    def _rights(self) -> None:
        expect("rights that are lacking", switch_on(self._api, BACKUP, RESTORE, TAKE_OWNERSHIP), [])

    def _accounts(self) -> None:
        """Each can be read, also of those who are not signed in, and what was loaded for that is unloaded."""
        hives = self._hives()
        try:
            registry = WindowsRegistry(self._api, hives)
            unread = [sid for sid in hives.sids() if registry.subkeys("HKU", f"{sid}\\Software") is None]
            expect("accounts whose settings cannot be read", unread, [])
        finally:
            hives.close()
        names = WindowsRegistry(self._api, self._hives()).subkeys("HKU", "") or []
        expect("hives that are left loaded", [name for name in names if name.startswith(OURS)], [])

    def _boot(self) -> None:
        expect("the boot, asked again", boot_id(self._api), boot_id(self._api))

    def _own(self) -> None:
        own = self._api.GetCurrentProcessId()
        found = [process for process in self._processes.all() if process.pid == own]
        expect("how often it is found", len(found), 1)
        expect(
            "that it has a path, a start and an account", [bool(found[0].path), found[0].started > 0, bool(found[0].account)], [True] * 3
        )
        expect("whether it may be ended", own in self._processes.protected(), True)
