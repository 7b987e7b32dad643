"""Starting programs without a shell and waiting for them, also for those an earlier run of Kleff started."""

from __future__ import annotations

import contextlib
import os
import subprocess
import time
from collections.abc import Mapping, Sequence
from pathlib import Path

from kleff.errors import ActionFailed
from kleff.workstation.facets import Running

_children: dict[int, subprocess.Popen[bytes]] = {}


def start(argv: Sequence[str], output: Path, environment: Mapping[str, str]) -> Running:
    """Start a program in a session of its own, so that Ctrl-C in the technician's terminal does not reach it.

    Raises:
        ActionFailed: it cannot be started.
    """
    fd = os.open(output, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW, 0o600)
    try:
        child = subprocess.Popen(
            list(argv), stdin=subprocess.DEVNULL, stdout=fd, stderr=subprocess.STDOUT, env=dict(environment), start_new_session=True
        )
    except OSError as error:
        raise ActionFailed(f"{argv[0]} cannot be started: {error.strerror}", remedy="check the program") from None
    finally:
        os.close(fd)
    _children[child.pid] = child
    import psutil

    started = 0.0
    with contextlib.suppress(psutil.Error):
        started = psutil.Process(child.pid).create_time()
    return Running(child.pid, started)


def wait(running: Running, seconds: float) -> bool:
    """Wait for the end of a program; its exit code is known only for own children."""
    child = _children.get(running.pid)
    if child is not None:
        try:
            running.code = child.wait(seconds)
        except subprocess.TimeoutExpired:
            return False
        return True
    deadline = time.monotonic() + seconds
    while alive(running):
        if time.monotonic() >= deadline:
            return False
        time.sleep(0.05)
    return True


def alive(running: Running) -> bool:
    """Whether the very process still runs (number and start time)."""
    import psutil

    try:
        process = psutil.Process(running.pid)
        return abs(process.create_time() - running.started) < 0.01 and process.status() != psutil.STATUS_ZOMBIE
    except psutil.Error:
        return False


def find(argv: Sequence[str]) -> Running | None:
    """A process that runs with these last arguments: what was started by a Kleff that was killed before it could note the number."""
    import psutil

    wanted = list(argv)
    for process in psutil.process_iter(["cmdline", "create_time", "status"]):
        command = process.info["cmdline"] or []
        if command[-len(wanted) :] == wanted and process.info["status"] != psutil.STATUS_ZOMBIE and process.pid != os.getpid():
            return Running(process.pid, process.info["create_time"])
    return None
