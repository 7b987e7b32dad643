"""What shows on a lab that one of its programs is at work: a process with its window, processor time, bytes; an installer that is busy."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from kleff.workstation.lab.described import LabProgram
from kleff.workstation.lab.lab import Lab

EVERY = 0.3  # seconds between two signs of life
WRITTEN = 256 << 10  # bytes that it writes in that time


@contextmanager
def at_work(lab: Lab, behaviour: LabProgram, program: str) -> Iterator[None]:
    """It is among the lab's processes meanwhile, if it takes long enough to be seen."""
    if not behaviour.wizard and behaviour.takes < 1 and not behaviour.by_installer:
        yield
        return
    own: dict[str, Any] = {
        "pid": os.getpid(), "started": time.time(), "name": program.rpartition("\\")[2], "path": program, "command": [program],
        "parent": os.getppid(), "account": "", "stubborn": True, "title": behaviour.wizard, "listens": [], "opens": [],
        "cpu": 0.0, "written": 0,
    }  # fmt: skip
    ended = threading.Event()
    teller = threading.Thread(target=_tell, args=(lab.folder, own, ended), daemon=True)
    with lab.locked():
        state = lab.state()
        state.processes.append(own)
        state.installing = behaviour.by_installer
        lab.save(state)
    teller.start()
    try:
        yield
    finally:
        ended.set()
        teller.join()
        with lab.locked():
            state = lab.state()
            state.processes = [p for p in state.processes if p["pid"] != own["pid"]]
            state.installing = False
            lab.save(state)


def _tell(folder: Path, own: dict[str, Any], ended: threading.Event) -> None:
    lab = Lab(folder)
    while not ended.wait(EVERY):
        with lab.locked():
            state = lab.state()
            for process in state.processes:
                if process["pid"] == own["pid"]:
                    process["cpu"] = round(process["cpu"] + EVERY, 1)
                    process["written"] += WRITTEN
            lab.save(state)


def answered(lab: Lab, title: str) -> bool:
    """Wait until a person has answered a window; whether with yes."""
    while title not in lab.state().answers:
        time.sleep(0.05)
    with lab.locked():
        state = lab.state()
        answer = state.answers.pop(title)
        lab.save(state)
    return answer
