"""Drawing progress on standard error, and stopping: the first signal ends cleanly, the second at once."""

from __future__ import annotations

import contextlib
import sys
import time
from collections.abc import Iterator
from types import FrameType
from typing import Any

from kleff.cli.terminal import clock
from kleff.cli.terminal.show import coloured
from kleff.cli.terminal.signals import Handler, handled
from kleff.errors import StopAtOnce
from kleff.progress import Progress, Silent
from kleff.texts import plain
from kleff.texts import size as sizes

NOW_AND_THEN = 30.0  # seconds between two words of a program that is at work, where no terminal is


class Plain(Silent):
    """One line per step; for pipes and files.

    Args:
        full: one line per action too.
    """

    def __init__(self, full: bool = False) -> None:
        super().__init__()
        self.stop = False
        self._full = full
        self._quiet_until = time.monotonic() + NOW_AND_THEN

    def worked(self) -> float:
        return clock.worked()

    def say(self, line: str) -> None:
        with contextlib.suppress(OSError):  # the terminal may be closed
            print(plain(line), file=sys.stderr, flush=True)

    def turn_to(self, line: int, what: str) -> None:
        if not self._full:
            self.say(f"{line or '':>4}  {what}")

    def act(self, number: int, what: str) -> None:
        if self._full:
            self.say(f"{number:>4}  {what}")

    def alive(self, line: str, used: float = 0.0, allowed: float = 0.0) -> None:
        """A line now and then."""
        if self._quiet_until <= time.monotonic():
            self._quiet_until = time.monotonic() + NOW_AND_THEN
            self.say(f"     {line}")

    def should_stop(self) -> bool:
        return self.stop


class Quiet(Plain):
    def say(self, line: str) -> None: ...

    def alive(self, line: str, used: float = 0.0, allowed: float = 0.0) -> None: ...


class Drawn(Plain):
    """Lines as they come; below them a bar for the actions of the run, and one for the bytes of what is in hand."""

    def __init__(self, full: bool = False) -> None:
        super().__init__(full)
        from rich.console import Console
        from rich.progress import BarColumn, TextColumn, TimeElapsedColumn, TimeRemainingColumn
        from rich.progress import Progress as Bar

        console = Console(stderr=True, highlight=False, markup=False, no_color=not coloured(sys.stderr))
        what, info = (TextColumn(text, markup=False) for text in ("  {task.description}", "{task.fields[info]}"))
        self._bar = Bar(
            what,
            BarColumn(30, complete_style="green", finished_style="green"),
            info,
            TimeElapsedColumn(),
            TextColumn("gone,", markup=False),
            TimeRemainingColumn(),
            TextColumn("left", markup=False),
            console=console,
            transient=True,
        )
        self._all: Any = None
        self._task: Any = None
        self._waiting: Any = None
        self._of = (0, 0)
        self._done = (0, 0)

    def __enter__(self) -> Drawn:
        self._bar.start()
        return self

    def __exit__(self, *error: object) -> None:
        with contextlib.suppress(OSError):
            self._bar.stop()

    def begin(self, actions: int) -> None:
        self._all = self._bar.add_task("actions", total=actions, completed=0, info=f"0 of {actions}")

    def act(self, number: int, what: str) -> None:
        super().act(number, what)
        task = next((t for t in self._bar.tasks if t.id == self._all), None)
        if task is not None:
            begun = int(task.completed) + 1
            self._bar.update(self._all, completed=begun, info=f"{begun} of {task.total:.0f}")

    def start(self, what: str, items: int = 0, size: int = 0) -> None:
        self._clear()
        self._of, self._done = (items, size), (0, 0)
        self._task = self._bar.add_task(plain(what)[:40], total=size or items or None, info="")

    def step(self, items: int = 0, size: int = 0) -> None:
        if self._task is None or self._task == self._waiting:
            return
        self._done = (self._done[0] + items, self._done[1] + size)
        parts = [f"{self._done[0]:,} of {self._of[0]:,} items"] if self._of[0] else []
        parts += [f"{sizes(self._done[1])} of {sizes(self._of[1])}"] if self._of[1] else []
        self._bar.update(self._task, completed=self._done[1] if self._of[1] else self._done[0], info=", ".join(parts))

    def say(self, line: str) -> None:
        with contextlib.suppress(OSError):
            self._clear()
            self._bar.console.print(plain(line), soft_wrap=True)

    def alive(self, line: str, used: float = 0.0, allowed: float = 0.0) -> None:
        """In place of what is in hand: the patience that is used up as a bar."""
        text = plain(line)[: max(self._bar.console.width - 66, 40)]
        if self._waiting is None or self._task != self._waiting:
            self._clear()
            self._task = self._waiting = self._bar.add_task(text, total=allowed or None, info="")
        self._bar.update(self._waiting, description=text, completed=used)

    def agrees(self, question: str) -> bool:
        if not sys.stdin.isatty():
            return False
        self._bar.stop()
        try:
            print(f"{plain(question)} [y/N] ", end="", file=sys.stderr, flush=True)
            return clock.answered().strip().lower() in ("y", "yes")
        finally:
            self._bar.start()

    def _clear(self) -> None:
        if self._task is not None:
            self._bar.remove_task(self._task)
            self._task = None


@contextlib.contextmanager
def watching(quiet: bool, at_work: bool = True, full: bool = False) -> Iterator[Progress]:
    """Progress that fits where standard error goes.

    Args:
        full: name every action, not only every step.
        at_work: a case is, so that the first signal is a wish to end cleanly; else it stops at once.
    """
    progress: Plain
    with contextlib.ExitStack() as stack:
        if quiet:
            progress = Quiet()
        elif sys.stderr.isatty():
            progress = stack.enter_context(Drawn(full))
        else:
            progress = Plain(full)
        if at_work:
            stack.enter_context(handled(_wish(progress)))
        yield progress


def _wish(progress: Plain) -> Handler:
    def on_signal(number: int, frame: FrameType | None) -> None:
        if progress.stop:
            raise StopAtOnce
        progress.stop = True
        progress.say("stopping after what is in hand; once more stops at once")

    return on_signal
