"""Services of the running system: systemd where it runs, init scripts where it does not."""

from __future__ import annotations

import os
import re
import subprocess
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from kleff.errors import ActionFailed
from kleff.procedure.globs import name_matches
from kleff.registry.registry import KeyRef
from kleff.registry.values import RegValue
from kleff.workstation.linux.packages.calling import ENVIRONMENT
from kleff.workstation.linux.processes import LinuxProcesses
from kleff.workstation.things import Service, ServiceParts

Done = subprocess.CompletedProcess[str]
PATIENCE = 120  # seconds a command may take
STARTING = 15  # seconds a service may need to say that it runs
# sd-booted(3): this folder exists while systemd is the service manager.
RUNTIME = Path("/run/systemd/system")  # what is masked until the next start (systemctl(1), --runtime)
OWN_FOLDERS = {
    "StateDirectory": "/var/lib", "CacheDirectory": "/var/cache", "LogsDirectory": "/var/log", "ConfigurationDirectory": "/etc",
    "RuntimeDirectory": "/run",
}  # fmt: skip
SYSTEMD_RUNS = Path("/run/systemd/system")
OF_SESSIONS = ("user@", "user-runtime-dir@", "session-", "run-")  # these come and go with people, and with whoever asks for them
TRIES = 3  # to stop what is started again


def run_quickly(argv: Sequence[str], environment: Mapping[str, str] = ENVIRONMENT, account: int | None = None) -> Done:
    """Run a program of the service manager's to its end, as an account of that number if one is given.

    Raises:
        ActionFailed: it does not end.
    """
    own: dict[str, Any] = {} if account is None else {"user": account, "group": account, "extra_groups": []}
    try:
        return subprocess.run(
            argv, capture_output=True, text=True, errors="replace", env=environment, timeout=PATIENCE, check=False,
            stdin=subprocess.DEVNULL, cwd="/", **own,
        )  # fmt: skip
    except subprocess.TimeoutExpired:
        raise ActionFailed(f"{' '.join(argv)} has not ended after {PATIENCE} s", remedy="look at the service by hand") from None


def _run(*argv: str) -> Done:
    return run_quickly(argv)


def _unit(name: str) -> str:
    return name if "." in name else f"{name}.service"


def open_services() -> SystemdServices | ScriptServices:
    """The service facet that fits what runs here."""
    return SystemdServices() if SYSTEMD_RUNS.is_dir() else ScriptServices()


class SystemdServices:
    def get(self, name: str) -> Service | None:
        done = _run("systemctl", "show", "--property=LoadState,ActiveState,UnitFileState,Description", "--", name)
        found = dict(line.split("=", 1) for line in done.stdout.splitlines() if "=" in line)
        running = found.get("ActiveState") in ("active", "activating", "reloading", "deactivating")
        if found.get("LoadState", "not-found") == "not-found" and not running:
            return None  # one that runs on, though its unit is gone, is there
        return Service(name, running, found.get("UnitFileState", ""), found.get("Description", ""))

    def like(self, pattern: str) -> list[Service]:
        """By list-units and list-unit-files of systemctl(1); a template itself is neither run nor stopped."""
        names: dict[str, None] = {}
        for listing in (("list-units", "--all"), ("list-unit-files",)):
            for line in _run("systemctl", *listing, "--plain", "--no-legend", "--no-pager", "--", _unit(pattern)).stdout.splitlines():
                names |= dict.fromkeys(n.removesuffix(".service") for n in line.split()[:1])
        return [found for name in names if not name.endswith("@") and (found := self.get(name)) is not None]

    def programs(self) -> dict[str, tuple[str, ...]]:
        """Of what is loaded or registered; of instances of templates, what is loaded."""
        found: dict[str, tuple[str, ...]] = {}
        listed = _run("systemctl", "list-unit-files", "--type=service", "--plain", "--no-legend", "--no-pager").stdout.splitlines()
        names = [n for line in listed for n in line.split()[:1] if "@." not in n]
        shown = _run("systemctl", "show", "--property=Id,ExecStart", "--", "*.service", *names).stdout
        for block in shown.split("\n\n"):
            values = dict(line.split("=", 1) for line in block.splitlines() if "=" in line)
            programs = tuple(re.findall(r"path=(/\S+)", values.get("ExecStart", "")))
            if programs:
                found[values.get("Id", "").removesuffix(".service")] = programs
        return found

    def parts(self, name: str) -> ServiceParts:
        """By systemctl(1) `show`; the folders by systemd.exec(5), RuntimeDirectory= and its like."""
        wanted = ",".join(("FragmentPath", "DropInPaths", "EnvironmentFiles", "ExecStart", "WorkingDirectory", *OWN_FOLDERS))
        found: dict[str, str] = {}
        for line in _run("systemctl", "show", f"--property={wanted}", "--", name).stdout.splitlines():
            key, _, value = line.partition("=")
            found[key] = f"{found.get(key, '')} {value}".strip()
        files = [*found.get("FragmentPath", "").split(), *found.get("DropInPaths", "").split()]
        files += re.findall(r"(/\S+) \(ignore_errors=", found.get("EnvironmentFiles", ""))
        folders = [f"{top}/{text}" for key, top in OWN_FOLDERS.items() for text in found.get(key, "").split()]
        folders += [text for text in found.get("WorkingDirectory", "").split() if text.startswith("/")]
        return ServiceParts(tuple(files), tuple(re.findall(r"path=(/\S+)", found.get("ExecStart", ""))), tuple(folders))

    def stop(self, name: str) -> None:
        for _ in range(TRIES):
            # Irreversibly: else a timer's start, queued a moment before the unit was masked, cancels the stop (systemctl(1), --job-mode).
            done = _run("systemctl", "stop", "--job-mode=replace-irreversibly", "--", name)
            if done.returncode != 0:
                raise ActionFailed(f"the service {name} does not stop: {done.stderr.strip()}", remedy="stop it by hand, then resume")
            runs_on = self._left_of(name)
            if not runs_on:
                return
            if _run("systemctl", "is-active", "--", name).stdout.strip() not in ("active", "activating"):
                break  # else such a start came through right behind the stop
        raise ActionFailed(f"the service {name} does not stop: {runs_on} runs on", remedy="end that by hand, then resume")

    def _left_of(self, name: str) -> str:
        """What runs on of a stopped service whose processes should all have ended (systemd.kill(5), KillMode=); "" if nothing does."""
        shown = _run("systemctl", "show", "--property=KillMode,Id", "--", name).stdout
        found = dict(line.split("=", 1) for line in shown.splitlines() if "=" in line)
        if found.get("KillMode") not in ("control-group", "mixed"):
            return ""
        service, processes = found.get("Id", _unit(name)).removesuffix(".service"), LinuxProcesses()
        return next((f"{p.name}, number {p.pid}," for p in processes.all() if processes.service_of(p) == service), "")

    def dependents(self, name: str) -> list[str]:
        order: list[str] = []

        def add(of: str) -> None:
            done = _run("systemctl", "show", "--property=RequiredBy,BoundBy,ConsistsOf", "--value", "--", of)
            for other in dict.fromkeys(done.stdout.split()):
                if other.endswith(".service") and other not in seen:
                    seen.add(other)
                    add(other)
                    order.append(other)

        unit = _unit(name)
        seen = {unit}  # units may require each other in a ring
        add(unit)
        return [n for n in order if (found := self.get(n)) and found.running]

    def hold(self, name: str) -> bool:
        return _run("systemctl", "mask", "--runtime", "--", name).returncode == 0

    def settings(self, service: Service) -> list[tuple[KeyRef, RegValue]]:
        return []

    def release(self, service: Service) -> None:
        if service.start != "masked-runtime" and self._held(service.name):
            _run("systemctl", "unmask", "--runtime", "--", service.name)
            if self.get(service.name) is None:  # its package is gone
                self.forget([_unit(service.name)])

    def running(self) -> list[str]:
        """Also one that has ended well and counts as active."""
        sorts = ("--type=service,socket,timer,path", "--state=active,activating,reloading")
        said = _run("systemctl", "list-units", *sorts, "--plain", "--no-legend", "--no-pager").stdout
        return [name for line in said.splitlines() for name in line.split()[:1] if not name.startswith(OF_SESSIONS)]

    def forget(self, names: Sequence[str]) -> None:
        """Units that are gone stay in its memory as failed or not found until they are reset (systemctl(1), reset-failed)."""
        _run("systemctl", "daemon-reload")
        for name in names:
            _run("systemctl", "reset-failed", "--", f"{name}.*" if "." not in name else name)

    def _held(self, name: str) -> bool:
        unit = RUNTIME / _unit(name)
        return unit.is_symlink() and os.readlink(unit) == "/dev/null"

    def restore(self, service: Service) -> None:
        self.release(service)
        now = self.get(service.name)
        if now is None:
            return
        if service.start != now.start and service.start in ("enabled", "disabled"):
            _run("systemctl", "enable" if service.start == "enabled" else "disable", "--", service.name)
        if service.running and not now.running:
            done = _run("systemctl", "start", "--", service.name)
            if done.returncode != 0:
                raise ActionFailed(f"the service {service.name} does not start: {done.stderr.strip()}", remedy="start it by hand")


class ScriptServices:
    """Init scripts in /etc/init.d (LSB: `status` ends with 0 while the service runs)."""

    def _script(self, name: str) -> Path | None:
        if not re.fullmatch(r"[A-Za-z0-9_.@-]+", name):
            return None
        script = Path("/etc/init.d") / name.removesuffix(".service")
        return script if script.is_file() else None

    def get(self, name: str) -> Service | None:
        script = self._script(name)
        if script is None:
            return None
        starts = any(Path("/etc").glob(f"rc[2-5].d/S[0-9][0-9]{script.name}"))
        return Service(name, _run(str(script), "status").returncode == 0, "automatic" if starts else "manual")

    def like(self, pattern: str) -> list[Service]:
        names = sorted(p.name for p in Path("/etc/init.d").glob("*"))
        return [s for n in names if name_matches(pattern.removesuffix(".service"), n, False) and (s := self.get(n)) is not None]

    def programs(self) -> dict[str, tuple[str, ...]]:
        return {}  # a script does not say what it runs

    def parts(self, name: str) -> ServiceParts:
        script = self._script(name)
        settings = Path("/etc/default") / script.name if script else None
        return ServiceParts(tuple(str(f) for f in (script, settings) if f is not None and f.exists()))

    def stop(self, name: str) -> None:
        script = self._script(name)
        if script is None:
            return
        done = _run(str(script), "stop")
        if _run(str(script), "status").returncode == 0:
            raise ActionFailed(f"the service {name} does not stop: {done.stderr.strip()}", remedy="stop it by hand, then resume")

    def dependents(self, name: str) -> list[str]:
        return []  # init scripts say in which order they start, not what needs what

    def hold(self, name: str) -> bool:
        return False

    def settings(self, service: Service) -> list[tuple[KeyRef, RegValue]]:
        return []

    def running(self) -> list[str]:
        return []

    def forget(self, names: Sequence[str]) -> None: ...

    def release(self, service: Service) -> None: ...

    def restore(self, service: Service) -> None:
        script = self._script(service.name)
        now = self.get(service.name)
        if script is None or now is None:
            return
        if service.running and not now.running:
            _run(str(script), "start")
            deadline = time.monotonic() + STARTING
            while (stopped := _run(str(script), "status").returncode != 0) and time.monotonic() < deadline:
                time.sleep(0.1)  # a script may return before its program is up
            if stopped:
                raise ActionFailed(f"the service {service.name} does not start", remedy="start it by hand")
