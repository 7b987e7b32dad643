"""Drawing progress on standard error, and stopping: the first signal ends cleanly, the second at once."""

from __future__ import annotations

import contextlib
import signal
import sys
from collections.abc import Iterator
from types import FrameType
from typing import Any

from kleff.cli.show import coloured
from kleff.progress import Progress, Silent
from kleff.texts import plain


class Plain(Silent):
    """One line per action; for pipes and files."""

    def __init__(self) -> None:
        self.stop = False

    def say(self, line: str) -> None:
        with contextlib.suppress(OSError):  # the terminal may be closed
            print(plain(line), file=sys.stderr, flush=True)

    def should_stop(self) -> bool:
        return self.stop


class Quiet(Plain):
    def say(self, line: str) -> None: ...


class Drawn(Plain):
    """A bar that knows items and bytes, below the lines."""

    def __init__(self) -> None:
        super().__init__()
        from rich.console import Console
        from rich.progress import BarColumn, DownloadColumn, TextColumn, TimeRemainingColumn
        from rich.progress import Progress as Bar

        console = Console(stderr=True, highlight=False, markup=False, no_color=not coloured(sys.stderr))
        done = TextColumn("{task.fields[items]:,} of {task.fields[of]:,} items", markup=False)
        self._bar = Bar(
            TextColumn("  {task.description}", markup=False),
            BarColumn(24),
            done,
            DownloadColumn(True),
            TimeRemainingColumn(),
            console=console,
            transient=True,
        )
        self._task: Any = None

    def __enter__(self) -> Drawn:
        self._bar.start()
        return self

    def __exit__(self, *error: object) -> None:
        with contextlib.suppress(OSError):
            self._bar.stop()

    def start(self, what: str, items: int = 0, size: int = 0) -> None:
        self._clear()
        self._task = self._bar.add_task(plain(what)[:40], total=size or None, items=0, of=items)

    def step(self, items: int = 0, size: int = 0) -> None:
        if self._task is not None:
            task = next((t for t in self._bar.tasks if t.id == self._task), None)
            if task is not None:
                self._bar.update(self._task, advance=size, items=task.fields["items"] + items)

    def say(self, line: str) -> None:
        with contextlib.suppress(OSError):
            self._clear()
            self._bar.console.print(plain(line), soft_wrap=True)

    def _clear(self) -> None:
        if self._task is not None:
            self._bar.remove_task(self._task)
            self._task = None


@contextlib.contextmanager
def watching(quiet: bool) -> Iterator[Progress]:
    """Progress that fits where standard error goes, with signals turned into a wish to stop."""
    progress: Plain
    with contextlib.ExitStack() as stack:
        if quiet:
            progress = Quiet()
        elif sys.stderr.isatty():
            progress = stack.enter_context(Drawn())
        else:
            progress = Plain()
        stack.enter_context(_signals(progress))
        yield progress


@contextlib.contextmanager
def _signals(progress: Plain) -> Iterator[None]:
    def heard(number: int, frame: FrameType | None) -> None:
        if progress.stop:
            raise KeyboardInterrupt
        progress.stop = True
        progress.say("stopping after what is in hand; once more stops at once")

    before = {n: signal.signal(n, heard) for n in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
