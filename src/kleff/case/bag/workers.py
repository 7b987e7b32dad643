"""Threads that write what is read meanwhile."""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable
from types import TracebackType

Job = Callable[[], None]
WAITING = 16  # jobs that may wait in a lane


class Workers:
    """Lanes of jobs, each done in order by a thread of its own; used in a `with`, which ends when all is done.

    What goes wrong in a job is raised where the next one is handed over, or in the end; what was handed over after it is not done.
    """

    def __init__(self, lanes: int) -> None:
        self._lanes: list[queue.Queue[Job | None]] = [queue.Queue(WAITING) for _ in range(lanes)]
        self._error: BaseException | None = None
        self._threads = [threading.Thread(target=self._work, args=(lane,), daemon=True) for lane in self._lanes]
        for thread in self._threads:
            thread.start()

    def hand(self, lane: int, job: Job) -> None:
        """One more job.

        Raises:
            Exception: an earlier one went wrong.
        """
        self._check()
        self._lanes[lane].put(job)

    def wait(self) -> None:
        """Until all that was handed over is done.

        Raises:
            Exception: one went wrong.
        """
        for lane in self._lanes:
            lane.join()
        self._check()

    def _check(self) -> None:
        if self._error is not None:
            raise self._error

    def _work(self, lane: queue.Queue[Job | None]) -> None:
        while (job := lane.get()) is not None:
            if self._error is None:
                try:
                    job()
                except BaseException as error:  # handed on whole
                    self._error = error
            lane.task_done()

    def __enter__(self) -> Workers:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        if error is not None:
            self._error = self._error or error
        for lane in self._lanes:
            lane.put(None)
        for thread in self._threads:
            thread.join()
        if error is None:
            self._check()
