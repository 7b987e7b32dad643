"""Units of an account's own service manager (systemd --user), worked on as that account."""

from __future__ import annotations

import os

from kleff.errors import ActionFailed
from kleff.workstation.linux.packages.calling import ENVIRONMENT
from kleff.workstation.linux.services import Done, run_quickly
from kleff.workstation.things import Account, Service


class SystemdUnits:
    def _run(self, account: Account, *words: str) -> Done:
        """`systemctl --user` with the account's rights; its manager is reached through its own runtime folder."""
        environment = {**ENVIRONMENT, "HOME": str(account.home), "XDG_RUNTIME_DIR": f"/run/user/{account.uid}"}
        return run_quickly(["systemctl", "--user", *words], environment, None if os.geteuid() == account.uid else account.uid)

    def get(self, account: Account, name: str) -> Service | None:
        if account.uid is None or not os.path.exists(f"/run/user/{account.uid}/systemd"):
            return None  # the account has no session
        done = self._run(account, "show", "--property=LoadState,ActiveState,UnitFileState,Description", "--", name)
        found = dict(line.split("=", 1) for line in done.stdout.splitlines() if "=" in line)
        if found.get("LoadState", "not-found") == "not-found":
            return None
        running = found.get("ActiveState") in ("active", "activating", "reloading")
        return Service(name, running, found.get("UnitFileState", ""), found.get("Description", ""))

    def stop(self, account: Account, name: str) -> None:
        self._run(account, "mask", "--runtime", "--", name)
        done = self._run(account, "stop", "--job-mode=replace-irreversibly", "--", name)
        if done.returncode != 0:
            raise ActionFailed(
                f"the unit {name} of {account.name} does not stop: {done.stderr.strip()}", remedy="stop it by hand, then resume"
            )

    def release(self, account: Account, name: str) -> None:
        self._run(account, "unmask", "--runtime", "--", name)

    def restore(self, account: Account, service: Service) -> None:
        self.release(account, service.name)
        now = self.get(account, service.name)
        if now is not None and service.running and not now.running:
            done = self._run(account, "start", "--", service.name)
            if done.returncode != 0:
                raise ActionFailed(
                    f"the unit {service.name} of {account.name} does not start: {done.stderr.strip()}", remedy="start it by hand"
                )
