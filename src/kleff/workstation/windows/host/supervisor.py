"""Runs one program of Windows to its end and keeps how it ended, whatever becomes of Kleff.

Started with the standard library and Kleff alone (`python -I -S`), without a console that somebody could close. By its standard output it
says that it is there, by its standard input it is told what to run, then it says whether that could be started. From then on nothing
connects it with Kleff; the program has the handles that the supervisor was started with for it.
"""

from __future__ import annotations

import contextlib
import json
import msvcrt
import os
import sys
import time

from kleff.workstation.windows.native import here
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.system.jobs import Job, Streams, start

TYPE_CHECKING = False
if TYPE_CHECKING:  # a program starts sooner without these
    import threading
    from typing import Any

DRAINING = 2.0  # seconds that are left for what a program said last
SETTLING = 0.3  # seconds
PIECE = 0.5  # seconds for which it is waited at once
CHANGED, TRIES = 0.1, 50  # seconds after which a record is written again that somebody holds open, and how often


def main() -> None:
    """Be told what to run, run it, and stay until it and what it left behind have ended."""
    for own in (0, 1):  # else the program would hold the pipes to Kleff
        os.set_handle_inheritable(msvcrt.get_osfhandle(own), False)
    orders, answer = sys.stdin.buffer, sys.stdout.buffer
    _say(answer, b"\n")
    order = orders.readline()
    if not order.endswith(b"\n"):
        return  # whoever asked is gone, and nothing was started
    told = json.loads(order)
    keep(told["record"], {"program": 0, "started": 0.0})  # without any record nothing can have been started
    try:
        job, hidden = _started(here.api(), told)
    except Failed as failed:
        _say(answer, json.dumps({"error": failed.strerror}).encode() + b"\n")
        return
    record = {"program": job.pid, "started": job.started}
    keep(told["record"], record)
    _say(answer, json.dumps(record).encode() + b"\n")
    _see_to_the_end(told, job, record, hidden)


def _say(answer: Any, data: bytes) -> None:
    with contextlib.suppress(OSError):  # nobody listens any more
        answer.write(data)
        answer.flush()


def _started(api: Api, told: dict[str, Any]) -> tuple[Job, threading.Thread | None]:
    """The program; what it says passes through a thread if something in it must not be kept."""
    says, complains, reads = told["says"], told["complains"], told["reads"]
    ends: list[int] = []
    hidden = None
    if told["hide"]:
        import threading

        from kleff.workstation.redaction import pass_on

        reading, writing = os.pipe()
        kept = msvcrt.open_osfhandle(says if told["together"] else complains, os.O_WRONLY | os.O_BINARY)
        hidden = threading.Thread(target=pass_on, args=(reading, kept, told["hide"]), daemon=True)
        ends.append(writing)
        complains = _inherited(writing)
        says = complains if told["together"] else says
    if told["text"]:
        reading, writing = os.pipe()
        os.write(writing, told["text"].encode("utf-8", "surrogateescape"))  # a passphrase; far less than a pipe holds
        ends += [reading, writing]
        reads = _inherited(reading)
    try:
        job = start(api, told["argv"], Streams(says, complains, reads), told["environment"], told["line"])
    finally:
        for end in ends:
            os.close(end)
    if hidden is not None:
        hidden.start()
    return job, hidden


def _inherited(descriptor: int) -> int:
    """The handle of a descriptor, which a program is to have too."""
    handle = msvcrt.get_osfhandle(descriptor)
    os.set_handle_inheritable(handle, True)
    return handle


def _see_to_the_end(told: dict[str, Any], job: Job, record: dict[str, Any], hidden: threading.Thread | None) -> None:
    while not job.ended(PIECE):
        pass
    if hidden is not None:
        hidden.join(DRAINING)
    job.wait(SETTLING)  # what belongs to the program alone, such as its console, goes with it
    keep(told["record"], record | {"code": job.code, "ended": time.time(), "left": job.running})
    if not job.wait(told["linger"]):
        keep(told["record"], record | {"code": job.code, "ended": time.time(), "left": job.running})


def keep(file: str, record: dict[str, Any]) -> None:
    """The record, on the disk, whole or not at all; if its folder is gone, nobody wants to know."""
    with contextlib.suppress(OSError):
        with open(file + ".new", "wb", buffering=0) as out:
            out.write(json.dumps(record).encode("ascii"))
            os.fsync(out.fileno())
        for _ in range(TRIES):
            with contextlib.suppress(PermissionError):  # somebody reads the last one
                os.replace(file + ".new", file)
                return
            time.sleep(CHANGED)
