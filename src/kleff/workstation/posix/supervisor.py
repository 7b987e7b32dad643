"""Runs one program to its end and keeps how it ended, whatever becomes of Kleff.

Started with the standard library alone (`python -I -S`), in a session of its own. The two numbers are
descriptors of pipes: by one the supervisor says that it is there, by the other it is told what to run, then it says whether that could be
started. From then on nothing connects it with Kleff. Its own standard input, output and errors become the program's.
"""

from __future__ import annotations

import contextlib
import ctypes
import json
import os
import signal
import time

TYPE_CHECKING = False
if TYPE_CHECKING:  # a program starts sooner without these
    import threading
    from typing import Any

PR_SET_CHILD_SUBREAPER = 36  # prctl(2): orphans below become this process's own children
DRAINING = 2.0  # seconds that are left for what a program said last
BEAT = 0.1  # seconds after which the record's time tells anew that the program is at work


def main(told: int, answers: int) -> None:
    """Be told what to run, run it, and stay until it and what it left behind have ended."""
    for caught in (signal.SIGHUP, signal.SIGINT, signal.SIGTERM):
        signal.signal(caught, lambda *_: None)  # unlike an ignored one, this is not handed down to the program
    signal.pthread_sigmask(signal.SIG_BLOCK, [signal.SIGCHLD])  # it is waited for
    ctypes.CDLL(None).prctl(PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0)
    for end in (told, answers):
        os.set_inheritable(end, False)
    with os.fdopen(told, "rb") as orders, os.fdopen(answers, "wb", buffering=0) as answer:
        answer.write(b"\n")
        order = orders.readline()
        if not order.endswith(b"\n"):
            return  # whoever asked is gone, and nothing was started
        job = json.loads(order)
        _keep(job["record"], {"program": 0, "started": 0.0})  # without any record nothing can have been started
        try:
            program, hidden = _start(job)
        except OSError as error:
            answer.write(json.dumps({"error": error.strerror}).encode())
            return
        record = {"program": program, "started": since_boot(program)}
        _keep(job["record"], record)
        with contextlib.suppress(OSError):
            answer.write(json.dumps(record).encode())
    _see_to_the_end(job, program, record, hidden)


def _start(job: dict[str, Any]) -> tuple[int, threading.Thread | None]:
    """Start the program; what it says passes through a thread if something in it must not be kept."""
    actions: list[tuple[Any, ...]] = []
    hidden = None
    ends = []
    if job["hide"]:
        import threading

        from kleff.workstation.redaction import pass_on

        reading, writing = os.pipe()
        actions.append((os.POSIX_SPAWN_DUP2, writing, job["hidden"]))
        if job["together"]:
            actions.append((os.POSIX_SPAWN_DUP2, writing, 2))
        hidden = threading.Thread(target=pass_on, args=(reading, os.dup(job["hidden"]), job["hide"]), daemon=True)
        ends.append(writing)
    if job["text"]:
        reading, writing = os.pipe()
        os.write(writing, job["text"].encode("utf-8", "surrogateescape"))  # a passphrase; far less than a pipe holds
        actions.append((os.POSIX_SPAWN_DUP2, reading, 0))
        ends += [reading, writing]
    defaults = [signal.SIGPIPE, signal.SIGXFSZ]  # which Python ignores
    try:
        program = os.posix_spawn(job["argv"][0], job["argv"], job["environment"], file_actions=actions, setsigdef=defaults, setsigmask=[])
    finally:
        for end in ends:
            os.close(end)
    if hidden is not None:
        hidden.start()
    for own in (0, 1, 2):
        os.close(own)  # a reader at the other end shall see the program's end, not ours
    return program, hidden


def _see_to_the_end(job: dict[str, Any], program: int, record: dict[str, Any], hidden: threading.Thread | None) -> None:
    deadline = float("inf")
    while time.monotonic() < deadline:
        try:
            pid, status = os.waitpid(-1, os.WNOHANG)
        except ChildProcessError:
            break
        if pid == program:
            if hidden is not None:
                hidden.join(DRAINING)
            record |= {"code": os.waitstatus_to_exitcode(status), "ended": time.time(), "left": _children()}
            _keep(job["record"], record)
            deadline = time.monotonic() + job["linger"]
        elif pid == 0:
            if "ended" not in record:
                with contextlib.suppress(OSError):  # cut off together with it, this is how long it was at work at least
                    os.utime(job["record"])
            signal.sigtimedwait([signal.SIGCHLD], BEAT)
    _keep(job["record"], record | {"left": _children()})


def _children() -> list[int]:
    """The processes that are this one's children (proc(5))."""
    with contextlib.suppress(OSError), open("/proc/thread-self/children", encoding="ascii") as listed:
        return [int(pid) for pid in listed.read().split()]
    return []


def _keep(file: str, record: dict[str, Any]) -> None:
    """The record, on the disk, whole or not at all; if its folder is gone, nobody wants to know."""
    with contextlib.suppress(OSError):
        fd = os.open(file + ".new", os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
        try:
            os.write(fd, json.dumps(record).encode("ascii"))
            os.fsync(fd)
        finally:
            os.close(fd)
        os.rename(file + ".new", file)
        folder = os.open(os.path.dirname(file), os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            os.fsync(folder)
        finally:
            os.close(folder)


def since_boot(pid: int) -> float:
    """When a process was started, in seconds since the boot (field 22 of /proc/PID/stat, proc(5)); 0.0 if it is gone.

    Unlike a time of day this does not move when the clock is set.
    """
    with contextlib.suppress(OSError, ValueError, IndexError), open(f"/proc/{pid}/stat", "rb") as stat:
        fields = stat.read().rpartition(b")")[2].split()
        return int(fields[19]) / os.sysconf("SC_CLK_TCK")
    return 0.0
