"""Processes of a running Windows, as far as Wine can show them: whose they are, what they hold open, how they are ended."""

from __future__ import annotations

import socket
import subprocess
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from kleff.procedure.globs import WINDOWS
from kleff.workstation.memory.tree import MemoryTree
from kleff.workstation.things import Process
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.system.ports import listeners
from kleff.workstation.windows.system.processes import WindowsProcesses
from support import until
from wine.fixtures import on_wine
from wine.remote import WINE, environment

pytestmark = on_wine

Started = Callable[..., Process]


@pytest.fixture
def processes(api: Api) -> WindowsProcesses:
    return WindowsProcesses(api, MemoryTree(WINDOWS, ["C:"]))


@pytest.fixture
def started(processes: WindowsProcesses, prefix: Path, service: str) -> Iterator[Started]:
    """Starts a program in the prefix, and finds it among the processes."""
    running = []

    def start(*words: str) -> Process:
        before = {p.pid for p in processes.all()}
        running.append(subprocess.Popen([WINE, *words], env=environment(prefix), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL))
        name = words[0].rpartition("\\")[2]
        found: list[Process] = []

        def there() -> bool:
            found[:] = [p for p in processes.all() if p.name == name and p.pid not in before]
            return bool(found)

        assert until(there)
        return found[0]

    yield start
    for process in running:
        process.kill()
        process.wait()


def test_what_is_known_of_one(processes: WindowsProcesses, started: Started) -> None:
    one = started(r"C:\program.exe", "sleep", "60")
    assert one.path == r"C:\program.exe"
    assert one.command[1:] == ("sleep", "60")
    assert one.account == "root"
    assert one.started > 13_000_000_000  # seconds since 1601
    assert one.pid not in processes.protected()
    processes.end(replace(one, started=one.started - 1))  # an earlier one of that number
    assert one in processes.all()
    processes.end(one)
    assert one.pid not in {p.pid for p in processes.all()}
    processes.end(one)


def test_what_one_holds_open(processes: WindowsProcesses, started: Started, prefix: Path) -> None:
    """A file below a place, the program's own file too, nothing of a neighbour's; the asking ends though others' pipes are open."""
    one = started(r"C:\program.exe", "hold", r"C:\held.txt")
    files = MemoryTree(WINDOWS, ["C:"])
    held, beside, own = (files.path(text) for text in (r"C:\held.txt", r"C:\held", r"C:\program.exe"))
    assert held
    assert beside
    assert own
    assert until(lambda: bool(processes.holders([held])))
    assert [(p.pid, text) for p, text in processes.holders([held])] == [(one.pid, r"C:\held.txt")]
    assert processes.holders([beside]) == []
    assert one.pid in {p.pid for p, _ in processes.holders([own])}
    assert r"C:\held.txt" in processes.opened(one)
    processes.end(one)
    assert processes.holders([held]) == []


def test_a_window_is_asked_to_close(processes: WindowsProcesses, started: Started) -> None:
    one = started("notepad.exe")
    assert until(lambda: any(p.title for p in processes.all() if p.pid == one.pid))
    processes.ask_to_end(replace(one, started=0))
    assert one.pid in {p.pid for p in processes.all()}
    processes.ask_to_end(one)
    assert until(lambda: one.pid not in {p.pid for p in processes.all()})


def test_ports(processes: WindowsProcesses, api: Api) -> None:
    """Who listens is in the table of both families; whose it is Wine does not tell, and so nobody is named."""
    with socket.create_server(("127.0.0.1", 0)) as four, socket.create_server(("::1", 0), family=socket.AF_INET6) as six:
        wanted = {four.getsockname()[1], six.getsockname()[1]}
        assert wanted <= {port for _, port in listeners(api)}
        assert [processes.listening(port) for port in wanted] == [[], []]
    assert not wanted & {port for _, port in listeners(api)}


def test_the_process_of_a_service(processes: WindowsProcesses, api: Api, service: str) -> None:
    from kleff.workstation.windows.system.services import ServiceManager

    ServiceManager(api).start(service)
    of_it = [p for p in processes.all() if p.name == "program.exe" and processes.service_of(p) == service]
    assert len(of_it) == 1
    ServiceManager(api).stop(service)
    assert processes.service_of(of_it[0]) is None
