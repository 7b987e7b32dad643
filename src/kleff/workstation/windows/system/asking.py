"""Asking other processes' handles for their paths, by a helper that may be stuck for good.

Whatever is asked of a pipe that was opened for one request at a time waits until the request that is under way on it has ended, which may
be never ("Synchronous and Asynchronous I/O", Windows documentation). So a process of its own asks; if it does not answer it is ended, and
another one goes on behind the handle at which it was stuck.
"""

from __future__ import annotations

import json
import queue
import subprocess
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from typing import IO, Protocol

Pair = tuple[int, int]  # number of the process, handle
AT_ONCE = 32  # far fewer than a pipe holds
PATIENCE = 0.25  # seconds for an answer; all that do answer do so at once
IN_ALL = 5.0  # seconds of waiting for answers
STARTING = 30.0  # seconds until a helper is there


class Asking(Protocol):
    """What handles of other processes are asked by."""

    def paths(self, pairs: Sequence[Pair]) -> Iterator[str | None]:
        """Of each in turn: its path, "" if it is no file on a disk; None if it gave no answer."""


class Helper:
    """A process that is given pairs, a line of JSON for some, and answers a line of JSON for each; first an empty line.

    Args:
        words: its command line; environment: all of its variables.
        flags: how it is made, on a Windows: apart from the console, so that Ctrl-C is not for it.
    """

    def __init__(self, words: Sequence[str], environment: dict[str, str], flags: int = 0) -> None:
        pipe, null = subprocess.PIPE, subprocess.DEVNULL
        self._child = subprocess.Popen(list(words), stdin=pipe, stdout=pipe, stderr=null, env=environment, creationflags=flags)
        self._said: queue.Queue[bytes] = queue.Queue()
        assert self._child.stdout is not None
        threading.Thread(target=self._listen, args=(self._child.stdout,), daemon=True).start()

    def _listen(self, said: IO[bytes]) -> None:
        for line in said:
            self._said.put(line)
        self._said.put(b"")
        said.close()

    def started(self) -> bool:
        return self._line(STARTING) is not None

    def tell(self, pairs: Sequence[Pair]) -> None:
        assert self._child.stdin is not None
        with suppress(OSError):  # it has ended; so no answer comes
            self._child.stdin.write(json.dumps(pairs).encode("ascii") + b"\n")
            self._child.stdin.flush()

    def answer(self, seconds: float) -> str | None:
        line = self._line(seconds)
        return None if line is None else str(json.loads(line))

    def _line(self, seconds: float) -> bytes | None:
        try:
            return self._said.get(timeout=max(seconds, 0)) or None
        except queue.Empty:
            return None

    def end(self) -> None:
        assert self._child.stdin is not None
        with suppress(OSError):
            self._child.stdin.close()
        self._child.kill()


class Patient:
    """Implements `Asking`. Args: start: makes a helper. It is kept for the next question; `close` ends it."""

    def __init__(self, start: Callable[[], Helper]) -> None:
        self._start = start
        self._helper: Helper | None = None

    def paths(self, pairs: Sequence[Pair]) -> Iterator[str | None]:
        left, waited = list(pairs), 0.0
        while left:
            if waited >= IN_ALL or not (helper := self._ready()):
                yield from [None] * len(left)
                return
            asked, left = left[:AT_ONCE], left[AT_ONCE:]
            helper.tell(asked)
            for at in range(len(asked)):
                begun = time.monotonic()
                answer = helper.answer(min(PATIENCE, IN_ALL - waited))
                waited += time.monotonic() - begun
                yield answer
                if answer is None:
                    self.close()
                    left[:0] = asked[at + 1 :]
                    break

    def _ready(self) -> Helper | None:
        if self._helper is None:
            helper = self._start()
            if not helper.started():
                helper.end()
                return None
            self._helper = helper
        return self._helper

    def close(self) -> None:
        if self._helper is not None:
            self._helper.end()
            self._helper = None
