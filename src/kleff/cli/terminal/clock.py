"""How long a command has worked: from its start, without the time in which it waited for a person."""

from __future__ import annotations

import contextlib
import sys
import time
from collections.abc import Iterator

_began = time.monotonic()
_waited = 0.0


def start() -> None:
    """A command begins."""
    global _began, _waited
    _began, _waited = time.monotonic(), 0.0


@contextlib.contextmanager
def waiting() -> Iterator[None]:
    """A person is asked."""
    global _waited
    asked = time.monotonic()
    try:
        yield
    finally:
        _waited += time.monotonic() - asked


def worked() -> float:
    """Seconds."""
    return time.monotonic() - _began - _waited


def answered() -> str:
    """The line that a person types, with its end; "" if nobody is there any more."""
    with waiting():
        return sys.stdin.readline()
