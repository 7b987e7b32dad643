"""Starting programs under a supervisor, without a shell, and waiting for them, also for those an earlier run of Kleff started."""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import sys
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, suppress
from pathlib import Path
from typing import IO, Any

import kleff
from kleff.errors import ActionFailed
from kleff.workstation.posix import supervisor
from kleff.workstation.posix.calls import closing_fd
from kleff.workstation.programs.supervised import over, record_of
from kleff.workstation.things import Given, Known, Running

# A scope is a unit of its own for processes that somebody else starts (systemd.scope(5)): it does not end with Kleff's.
SCOPE = ("systemd-run", "--scope", "--quiet", "--collect", "--")
# The supervisor's own: nothing that Kleff was called with decides which program is found, and no secret is handed down.
ENVIRONMENT = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL": "C.UTF-8"}
# Nothing but Kleff itself is found besides the standard library, and what it imports of that is little: so it starts fast.
MAIN = f"import sys; sys.path.append(sys.argv[1]); from {supervisor.__name__} import main; main(*map(int, sys.argv[2:]))"
PACKAGES = Path(kleff.__file__).parent.parent
SYSTEMD = Path("/run/systemd/system")  # is there if systemd is at work (sd_booted(3))
BOOTS = 1_000_000_000.0  # start times of earlier releases are times of day; no machine is up for that many seconds

_children: dict[int, subprocess.Popen[bytes]] = {}


def start(
    argv: Sequence[str], output: Path, environment: Mapping[str, str], given: Given | None = None, known: Known | None = None
) -> Running:
    """Start a program: first its supervisor, then, once that is `known`, the program itself.

    Raises:
        ActionFailed: it cannot be started.
    """
    given, record = given or Given(), record_of(output)
    record.unlink(missing_ok=True)
    order = {
        "argv": list(argv), "environment": {**environment, **given.environment}, "text": given.text, "hide": [t for t in given.hide if t],
        "hidden": 1 if given.errors is None else 2, "together": given.errors is None, "record": str(record), "linger": given.linger,
    }  # fmt: skip
    with ExitStack() as stack:
        child, orders, answers = stack.enter_context(_supervised(output, given))
        running = Running(child.pid, supervisor.since_boot(child.pid), output)
        if known is not None:
            known(running)
        _children[child.pid] = child
        with suppress(BrokenPipeError):
            orders.write(json.dumps(order).encode() + b"\n")
            orders.close()
        answer: dict[str, Any] = json.loads(answers.read() or "{}")
    if "program" not in answer:
        wait(running, 10)
        raise ActionFailed(f"{argv[0]} cannot be started: {answer.get('error', 'its supervisor ended')}", remedy="check the program")
    running.program = answer["program"]
    return running


@contextlib.contextmanager
def _supervised(output: Path, given: Given) -> Iterator[tuple[subprocess.Popen[bytes], IO[bytes], IO[bytes]]]:
    """A supervisor that waits to be told what to run: its process, the way to it and the way from it."""
    with ExitStack() as stack:
        out = stack.enter_context(_keeping(output))
        errors = out if given.errors is None else stack.enter_context(_keeping(given.errors))
        source = given.stdin or subprocess.DEVNULL
        prefixes = [SCOPE, ()] if given.lasting and os.geteuid() == 0 and SYSTEMD.is_dir() else [()]
        for prefix in prefixes:  # where no scope is to be had, without
            told, orders = _pipe(stack)
            answers, says = _pipe(stack)
            command = [*prefix, sys.executable, "-I", "-S", "-B", "-c", MAIN, str(PACKAGES), str(told.fileno()), str(says.fileno())]
            child = subprocess.Popen(
                command, stdin=source, stdout=out, stderr=errors, pass_fds=(told.fileno(), says.fileno()), env=ENVIRONMENT,
                start_new_session=True,
            )  # fmt: skip
            told.close()
            says.close()
            if answers.read(1):
                break
        yield child, orders, answers


def _pipe(stack: ExitStack) -> tuple[IO[bytes], IO[bytes]]:
    reading, writing = os.pipe()
    return stack.enter_context(os.fdopen(reading, "rb")), stack.enter_context(os.fdopen(writing, "wb"))


@contextlib.contextmanager
def _keeping(file: Path) -> Iterator[int]:
    with closing_fd(os.open(file, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW, 0o600)) as fd:
        yield fd


def wait(running: Running, seconds: float) -> bool:
    """Wait for the end of a program."""
    deadline, pause = time.monotonic() + seconds, 0.001
    while not over(running, _alive):
        left = deadline - time.monotonic()
        if left <= 0:
            return False
        time.sleep(min(pause, left))
        pause = min(2 * pause, 0.05)
    return True


def busy(running: Running) -> bool:
    """Whether the supervisor still watches something, or, without one, the program runs."""
    return _alive(running.pid, running.started) or not over(running, _alive)


def _alive(pid: int, started: float) -> bool:
    """Whether the very process still runs (number and start time)."""
    import psutil

    if pid in _children:
        _children[pid].poll()
    try:
        process = psutil.Process(pid)
        now = process.create_time() if started > BOOTS else supervisor.since_boot(pid)
        return abs(now - started) < 0.01 and process.status() != psutil.STATUS_ZOMBIE
    except psutil.Error:
        return False


def find(argv: Sequence[str], output: Path) -> Running | None:
    """A process that runs with these last arguments: what was started by a Kleff of an earlier release that was killed before it could
    note the number.
    """
    import psutil

    wanted = list(argv)
    for process in psutil.process_iter(["cmdline", "status"]):
        command = process.info["cmdline"] or []
        if command[-len(wanted) :] == wanted and process.info["status"] != psutil.STATUS_ZOMBIE and process.pid != os.getpid():
            return Running(process.pid, supervisor.since_boot(process.pid), output)
    return None
