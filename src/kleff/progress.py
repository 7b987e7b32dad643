"""How long work reports where it stands. The command line draws it; the core only tells."""

from __future__ import annotations

import time
from typing import Protocol


class Progress(Protocol):
    """Receives what is being done, in bytes and items."""

    def begin(self, actions: int) -> None:
        """A run begins that has so many actions."""

    def turn_to(self, line: int, what: str) -> None:
        """The next step, by its line in the procedure."""

    def act(self, number: int, what: str) -> None:
        """The next action, by its number in the plan."""

    def start(self, what: str, items: int = 0, size: int = 0) -> None:
        """Work `what` begins; it will be `items` items and `size` bytes (0: not known)."""

    def step(self, items: int = 0, size: int = 0) -> None:
        """So many more items and bytes are done."""

    def say(self, line: str) -> None:
        """One line for the technician."""

    def alive(self, line: str, used: float = 0.0, allowed: float = 0.0) -> None:
        """How a program that is waited for is doing; takes the place of what was said so before. Seconds of patience: used, and in all."""

    def agrees(self, question: str) -> bool:
        """Put a question while something waits; False where nobody is there to answer."""

    def should_stop(self) -> bool:
        """True once the technician asked to stop; checked between effects."""

    def worked(self) -> float:
        """Seconds that have been worked so far, looking and planning included; not those in which a person was waited for."""


class Silent:
    """Progress that nobody watches."""

    def __init__(self) -> None:
        self._began = time.monotonic()

    def begin(self, actions: int) -> None: ...

    def turn_to(self, line: int, what: str) -> None: ...

    def act(self, number: int, what: str) -> None: ...

    def start(self, what: str, items: int = 0, size: int = 0) -> None: ...

    def step(self, items: int = 0, size: int = 0) -> None: ...

    def say(self, line: str) -> None: ...

    def alive(self, line: str, used: float = 0.0, allowed: float = 0.0) -> None: ...

    def agrees(self, question: str) -> bool:
        return False

    def should_stop(self) -> bool:
        return False

    def worked(self) -> float:
        return time.monotonic() - self._began
