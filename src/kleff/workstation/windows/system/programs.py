"""Running programs of a running Windows, each in a job of its own."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

import msgspec

from kleff.errors import ActionFailed
from kleff.workstation.paths import WPath
from kleff.workstation.things import Given, Known, Process, Running
from kleff.workstation.this_machine import host
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.programs import find_program, objection
from kleff.workstation.windows.system.files.tree import NtTree
from kleff.workstation.windows.system.jobs import Job, start
from kleff.workstation.windows.system.processes import WindowsProcesses

PAUSE = 0.1  # seconds between two looks at a program that an earlier run has started


class Record(msgspec.Struct, kw_only=True):
    """What is kept of a program beside its output, as elsewhere.

    Attributes:
        program, started: its number and when it was started; code: how it ended, once it has.
    """

    program: int
    started: float
    code: int | None = None


class WindowsPrograms:
    """Implements `Commands`. What it has started goes on when Kleff ends, but nobody notes then how it ended.

    Args:
        search: the folders in which a bare name is looked for; registered: gives the names that are registered as programs besides.
        environment: what programs get of variables.
    """

    def __init__(
        self, api: Api, files: NtTree, processes: WindowsProcesses, search: Sequence[str], registered: Callable[[], list[str]],
        environment: Mapping[str, str],
    ) -> None:  # fmt: skip
        self._api = api
        self._files = files
        self._processes = processes
        self._search = search
        self._registered = registered
        self._environment = environment
        self._jobs: dict[int, Job] = {}

    def find(self, name: str) -> str | None:
        return find_program(self._files, self._search, self._registered(), name)

    def objection(self, program: WPath) -> str | None:
        return objection(self._files, program)

    def start(self, argv: Sequence[str], output: Path, given: Given | None = None, known: Known | None = None) -> Running:
        given = given or Given()
        if given.stdin is not None or given.text or given.hide:
            raise ActionFailed("programs of a running Windows are given nothing to read yet", remedy="do this by hand; then resume")
        _record_of(output).unlink(missing_ok=True)
        with contextlib.suppress(FileNotFoundError):  # of a try that was cut off
            output.replace(output.with_name(f"{output.stem}-before{output.suffix}"))
        made: list[Running] = []

        def told(job: Job) -> None:
            made.append(Running(job.pid, job.started, output, program=job.pid))
            self._note(made[0], job)
            if known is not None:
                known(made[0])

        try:
            job = start(self._api, argv, self._place(output), {**self._environment, **given.environment}, told)
        except Failed as failed:
            raise ActionFailed(f"{argv[0]} cannot be started: {failed.strerror}", remedy="check the program") from None
        self._jobs[job.pid] = job
        return made[0]

    def find_running(self, argv: Sequence[str], output: Path) -> Running | None:
        record = _recorded(output)
        if record is None or record.code is not None or not self._runs(record):
            return None
        return Running(record.program, record.started, output, program=record.program)

    def wait(self, running: Running, seconds: float) -> bool:
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

    def busy(self, running: Running) -> bool:
        job = self._jobs.get(running.pid)
        return job.busy if job is not None else not self._over(running)

    # -- of an earlier run ------------------------------------------------------------------------------------

    def _over(self, running: Running) -> bool:
        record = _recorded(running.output)
        running.begun = record is not None
        if record is None:
            return True
        running.program, running.code = record.program, record.code
        return record.code is not None or not self._runs(record)

    def _runs(self, record: Record) -> bool:
        return any(self._is(process, record) for process in self._processes.all())

    def _is(self, process: Process, record: Record) -> bool:
        return process.pid == record.program and abs(process.started - record.started) < 0.01

    # -- what is kept -----------------------------------------------------------------------------------------

    def _note(self, running: Running, job: Job) -> None:
        record = Record(program=job.pid, started=job.started, code=running.code)
        host().write_atomic(_record_of(running.output), msgspec.json.encode(record))

    def _place(self, output: Path) -> str:
        """Where a file of Kleff's own lies for programs of this Windows.

        Raises:
            ActionFailed: on none of its drives.
        """
        for volume, root in self._files.volumes.items():
            with contextlib.suppress(ValueError):
                return "\\".join([volume, *output.relative_to(root).parts])
        raise ActionFailed(f"{output} lies on no drive of this Windows", remedy="keep cases on one:  --cases FOLDER")


def _record_of(output: Path) -> Path:
    return output.with_name(output.name + ".run")


def _recorded(output: Path) -> Record | None:
    with contextlib.suppress(OSError, msgspec.DecodeError, msgspec.ValidationError):
        return msgspec.json.decode(_record_of(output).read_bytes(), type=Record)
    return None
