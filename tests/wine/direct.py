"""Programs of a Wine that are started from a test: followed as on a Windows, but by the test itself and not by a supervisor."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

import msgspec

from kleff.errors import ActionFailed
from kleff.workstation.programs.supervised import Record, record_of, recorded
from kleff.workstation.things import Given, Known, Process, Running
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.system.jobs import Job, Streams, new_file, start

PAUSE = 0.1  # seconds between two looks at a program that an earlier run has started


def started(
    api: Api, argv: Sequence[str], output: str, environment: Mapping[str, str], known: Callable[[Job], None] = lambda job: None,
    line: str = "",
) -> Job:  # fmt: skip
    """A program whose output is a new file, by its path there."""
    with new_file(api, output) as file:
        return start(api, argv, Streams(file, file), environment, line, known)


class Direct:
    """Implements `Starting`. Args: drive: where drive C lies here; processes: gives those that run."""

    def __init__(self, api: Api, drive: Path, processes: Callable[[], list[Process]]) -> None:
        self._api, self._drive, self._processes = api, drive, processes
        self._jobs: dict[int, Job] = {}

    def start_program(
        self, argv: Sequence[str], output: Path, environment: Mapping[str, str], given: Given | None = None, known: Known | None = None
    ) -> Running:
        record_of(output).unlink(missing_ok=True)
        if output.exists():  # of a try that was cut off
            output.replace(output.with_name(f"{output.stem}-before{output.suffix}"))
        made: list[Running] = []

        def told(job: Job) -> None:
            made.append(Running(job.pid, job.started, output, program=job.pid))
            self._note(made[0], job)
            if known is not None:
                known(made[0])

        place = "\\".join(["C:", *output.relative_to(self._drive).parts])
        try:
            job = started(self._api, argv, place, {**environment, **(given or Given()).environment}, told, (given or Given()).line)
        except Failed as failed:
            raise ActionFailed(f"{argv[0]} cannot be started: {failed.strerror}", remedy="check the program") from None
        self._jobs[job.pid] = job
        return made[0]

    def find_program(self, last: Sequence[str], output: Path) -> Running | None:
        record = recorded(output)
        if record is None or record.code is not None or not self._runs(record):
            return None
        return Running(record.program, record.started, output, program=record.program)

    def wait_for_program(self, running: Running, seconds: float) -> bool:
        job = self._jobs.get(running.pid)
        if job is None:
            deadline = time.monotonic() + seconds
            while not (over := self._over(running)) and time.monotonic() < deadline:
                time.sleep(PAUSE)
            return over
        if not job.ended(seconds):
            return False
        running.code = job.code
        self._note(running, job)
        return True

    def program_busy(self, running: Running) -> bool:
        job = self._jobs.get(running.pid)
        return job.busy if job is not None else not self._over(running)

    def _over(self, running: Running) -> bool:
        record = recorded(running.output)
        running.begun = record is not None
        if record is None:
            return True
        running.program, running.code = record.program, record.code
        return record.code is not None or not self._runs(record)

    def _runs(self, record: Record) -> bool:
        return any(p.pid == record.program and abs(p.started - record.started) < 0.01 for p in self._processes())

    def _note(self, running: Running, job: Job) -> None:
        record = Record(program=job.pid, started=job.started, code=running.code)
        record_of(running.output).write_bytes(msgspec.json.encode(record))
