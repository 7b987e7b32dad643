"""Being asked to stop from outside: what the terminal, the system or another person sends."""

from __future__ import annotations

import contextlib
import signal
import sys
from collections.abc import Callable, Iterator
from types import FrameType

Handler = Callable[[int, FrameType | None], None]
worked = False  # whether a case was at work in this process


def stop_at_once() -> None:
    """As long as no case is at work there is nothing to end cleanly: the first signal stops."""
    from kleff.errors import StopAtOnce

    def stop(number: int, frame: FrameType | None) -> None:
        raise StopAtOnce

    for number in _heard():
        signal.signal(number, stop)


@contextlib.contextmanager
def handled(by: Handler) -> Iterator[None]:
    """Signals are given to somebody else while a case is at work."""
    global worked
    worked = True
    before = {number: signal.signal(number, by) for number in _heard()}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def _heard() -> list[int]:
    """All that ask to stop, but what whoever started Kleff lets it ignore (`nohup`, a job in a shell's background)."""
    wanted = [signal.SIGINT, signal.SIGTERM]
    # On Windows what the console sends besides Ctrl-C is heard as one signal: Ctrl-Break, and that it is closed.
    if sys.platform == "win32":
        wanted.append(signal.SIGBREAK)
    else:
        wanted.append(signal.SIGHUP)
    return [number for number in wanted if signal.getsignal(number) is not signal.SIG_IGN]
