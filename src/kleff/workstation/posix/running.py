"""Starting programs without a shell and waiting for them, also for those an earlier run of Kleff started."""

from __future__ import annotations

import contextlib
import os
import subprocess
import threading
import time
from base64 import b64encode
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import IO
from urllib.parse import quote

from kleff.errors import ActionFailed
from kleff.workstation.posix.calls import closing_fd
from kleff.workstation.things import Given, Running

_children: dict[int, subprocess.Popen[bytes]] = {}
_redactors: dict[int, threading.Thread] = {}


def start(argv: Sequence[str], output: Path, environment: Mapping[str, str], given: Given | None = None) -> Running:
    """Start a program in a session of its own, so that Ctrl-C in the technician's terminal does not reach it.

    Raises:
        ActionFailed: it cannot be started.
    """
    given = given or Given()
    with ExitStack() as stack:
        out = stack.enter_context(_keeping(output))
        errors = subprocess.STDOUT if given.errors is None else stack.enter_context(_keeping(given.errors))
        hidden = given.errors or output
        source = stack.enter_context(given.stdin.open("rb")) if given.stdin else subprocess.PIPE if given.text else subprocess.DEVNULL
        try:
            child = subprocess.Popen(
                list(argv), stdin=source, stdout=subprocess.PIPE if given.hide and given.errors is None else out,
                stderr=subprocess.PIPE if given.hide and given.errors else errors,
                env={**environment, **given.environment}, start_new_session=True,
            )  # fmt: skip
        except OSError as error:
            raise ActionFailed(f"{argv[0]} cannot be started: {error.strerror}", remedy="check the program") from None
    _children[child.pid] = child
    pipe = child.stderr or child.stdout
    if pipe is not None:
        _redactors[child.pid] = threading.Thread(target=_redact, args=(pipe, hidden, given.hide), daemon=True)
        _redactors[child.pid].start()
    if child.stdin is not None:
        with contextlib.suppress(BrokenPipeError):
            child.stdin.write(given.text.encode())
            child.stdin.close()
    import psutil

    started = 0.0
    with contextlib.suppress(psutil.Error):
        started = psutil.Process(child.pid).create_time()
    return Running(child.pid, started)


@contextlib.contextmanager
def _keeping(file: Path) -> Iterator[int]:
    with closing_fd(os.open(file, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW, 0o600)) as fd:
        yield fd


def _redact(pipe: IO[bytes], file: Path, hide: tuple[str, ...]) -> None:
    """Keep what a program says, line by line, without what must not be kept."""
    with _keeping(file) as fd, pipe:
        for line in pipe:
            os.write(fd, redacted(line, hide))


def redacted(data: bytes, hide: tuple[str, ...]) -> bytes:
    """`data` with dots for each of the texts, as they stand or in base64, percent signs or 16-bit letters."""
    for text in (t for t in hide if t):
        raw = text.encode()
        for form in {raw, text.encode("utf-16-le"), b64encode(raw), b64encode(raw).rstrip(b"="), quote(text).encode(), raw.hex().encode()}:
            data = data.replace(form, b"......")
    return data


def wait(running: Running, seconds: float) -> bool:
    """Wait for the end of a program; its exit code is known only for own children."""
    child = _children.get(running.pid)
    if child is not None:
        try:
            running.code = child.wait(seconds)
        except subprocess.TimeoutExpired:
            return False
        if running.pid in _redactors:
            _redactors.pop(running.pid).join(seconds)
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
