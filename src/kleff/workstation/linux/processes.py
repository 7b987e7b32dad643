"""Real processes, told apart by number and start time, signalled through a pidfd."""

from __future__ import annotations

import contextlib
import os
import signal
from collections.abc import Collection, Iterator, Sequence

import psutil

from kleff.workstation.paths import WPath
from kleff.workstation.things import Process


def _opened(pid: int) -> Iterator[str]:
    """What a process runs, where it works, and what it has open or mapped (proc(5))."""
    for link in ("exe", "cwd"):
        with contextlib.suppress(OSError):
            yield os.readlink(f"/proc/{pid}/{link}")
    with contextlib.suppress(OSError):
        for name in os.listdir(f"/proc/{pid}/fd"):
            with contextlib.suppress(OSError):
                yield os.readlink(f"/proc/{pid}/fd/{name}")
    with contextlib.suppress(OSError), open(f"/proc/{pid}/maps", encoding="utf-8", errors="surrogateescape") as maps:
        for line in maps:
            fields = line.split(maxsplit=5)
            if len(fields) == 6 and fields[5].startswith("/"):
                yield fields[5].rstrip("\n")


class LinuxProcesses:
    def all(self) -> list[Process]:
        mine = self._namespace(os.getpid())
        found = []
        for process in psutil.process_iter():
            with contextlib.suppress(psutil.Error, OSError), process.oneshot():
                if process.status() == psutil.STATUS_ZOMBIE or self._namespace(process.pid) not in (mine, None):
                    continue
                found.append(self._describe(process))
        return found

    def _describe(self, process: psutil.Process) -> Process:
        path, account = "", ""
        with contextlib.suppress(psutil.Error, OSError):
            path = process.exe()
        with contextlib.suppress(psutil.Error, KeyError):
            account = process.username()
        command = tuple(process.cmdline())
        return Process(process.pid, process.create_time(), process.name(), path, command, process.ppid(), account)

    def _namespace(self, pid: int) -> str | None:
        try:
            return os.readlink(f"/proc/{pid}/ns/pid")
        except OSError:
            return None

    def used(self, pids: Collection[int]) -> tuple[float, int]:
        cpu, written = 0.0, 0
        for pid in pids:
            with contextlib.suppress(psutil.Error, OSError):
                process = psutil.Process(pid)
                cpu += sum(process.cpu_times()[:2])
                written += process.io_counters().write_bytes
        return round(cpu, 1), written

    def listening(self, port: int) -> list[int]:
        found = psutil.net_connections("tcp")
        return [c.pid for c in found if c.status == psutil.CONN_LISTEN and c.laddr and c.laddr.port == port and c.pid]

    def holders(self, places: Sequence[WPath]) -> list[tuple[Process, str]]:
        tops = [str(p) for p in places]
        protected = self.protected()
        result = []
        for process in self.all():
            found = next((p for p in _opened(process.pid) if any(p == t or p.startswith(t + "/") for t in tops)), "")
            if found and process.pid not in protected:
                result.append((process, found))
        return result

    def silent(self) -> list[Process]:
        return []

    def opened(self, process: Process) -> list[str]:
        return list(dict.fromkeys(p for p in _opened(process.pid) if p.startswith("/")))

    def unit_of(self, process: Process) -> str | None:
        """The deepest one below its account's service manager (user@.service)."""
        names = _units_of(process.pid)
        return names[-1] if len(names) > 1 and names[0].startswith("user@") else None

    def service_of(self, process: Process) -> str | None:
        names = _units_of(process.pid)
        return names[0] if names else None

    def protected(self) -> set[int]:
        pids = {1, os.getpid()}
        with contextlib.suppress(psutil.Error):
            pids.update(p.pid for p in psutil.Process().parents())
        return pids

    def ask_to_end(self, process: Process) -> None:
        self._signal(process, signal.SIGTERM)

    def end(self, process: Process) -> None:
        self._signal(process, signal.SIGKILL)

    def _signal(self, process: Process, number: signal.Signals) -> None:
        if process.pid in self.protected():
            return
        with contextlib.suppress(ProcessLookupError):
            fd = os.pidfd_open(process.pid)
            try:
                # The descriptor is bound to one process; only then is it asked which.
                with contextlib.suppress(psutil.NoSuchProcess):
                    if abs(psutil.Process(process.pid).create_time() - process.started) < 0.01:
                        signal.pidfd_send_signal(fd, number)
            finally:
                os.close(fd)


def _units_of(pid: int) -> list[str]:
    """The services that a process belongs to, outermost first, by its control group (systemd's layout, systemd.slice(5))."""
    with contextlib.suppress(OSError), open(f"/proc/{pid}/cgroup", encoding="utf-8", errors="replace") as groups:
        parts = [part for line in groups for part in line.strip().split("/")]
        return [part.removesuffix(".service") for part in parts if part.endswith(".service")]
    return []
