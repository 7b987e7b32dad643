"""The helper that asks other processes' handles for their paths, and may be stuck at one: it is given them on its standard input.

Started with the standard library and Kleff alone (`python -I -S`). It ends with whoever gives it something to do, stuck or not.
"""

from __future__ import annotations

import json
import os
import queue
import sys
import threading

from kleff.workstation.windows.native import here
from kleff.workstation.windows.system.handles import path_of
from kleff.workstation.windows.system.rights import DEBUG, switch_on


def main() -> None:
    """Answer until the input ends."""
    given: queue.Queue[bytes] = queue.Queue()
    threading.Thread(target=_listen, args=(given,), daemon=True).start()
    api = here.api()
    switch_on(api, DEBUG)
    _say(b"\n")
    while True:
        for pid, handle in json.loads(given.get()):
            _say(json.dumps(path_of(api, pid, handle)).encode("ascii") + b"\n")


def _say(line: bytes) -> None:
    sys.stdout.buffer.write(line)
    sys.stdout.buffer.flush()


def _listen(given: queue.Queue[bytes]) -> None:
    for line in sys.stdin.buffer:
        given.put(line)
    os._exit(0)  # also if the other thread is stuck
