"""Workstations in memory for the tests: a whole run in a few hundredths of a second, and a kill at any journal write as an exception."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import replace
from pathlib import Path
from typing import Any

from kleff.case.record.journal import Journal
from kleff.case.undo import Undone
from kleff.engine.cases.run import Ended
from kleff.engine.job import Job, Preview
from kleff.engine.library import parse
from kleff.errors import NeverBegun
from kleff.objects.base.action import Action
from kleff.workstation.memory.workstation import MemoryLinux, MemoryWindows

EVIDENCE = {"windows": "[[evidence]]\npath = 'C:\\nowhere'\n", "linux": "[[evidence]]\npath = '/nowhere'\n"}


class Bench:
    """A workstation in memory, and what is done with procedures on it.

    Attributes:
        on: the workstation, to put things on it.
    """

    def __init__(self, folder: Path, system: str = "windows") -> None:
        self.folder = folder
        self.system = system
        self.on: Any = MemoryWindows(folder / "state") if system == "windows" else MemoryLinux(folder / "state")

    def job(self, body: str, versions: str = "", head: str = "") -> Job:
        """A job for a procedure with a minimal head around `body`; `head` is what [product] says besides."""
        minimal = 'format = 1\n[product]\nid = "sample"\nname = "Sample"\n' + (f'versions = "{versions}"\n' if versions else "")
        text = minimal + head + body + ("" if "[[evidence]]" in body else EVIDENCE[self.system])
        return Job(self.on.open(), parse(text.encode(), "sample.toml"))

    def preview(self, body: str, *answers: str, holders: Sequence[str] = (), **more: Any) -> Preview:
        job = self.job(body, **more)
        return job.with_options(replace(job.options, stop_holders=frozenset(holders))).preview(answers)

    def plan(self, body: str, *answers: str, phase: str = "", **more: Any) -> list[Action]:
        """The actions of a procedure, of one phase if it is named."""
        return [a for a in self.preview(body, *answers, **more).plan.actions if phase in ("", a.phase)]

    def run(
        self, body: str, *answers: str, without: dict[str, str] | None = None, holders: Sequence[str] = (), **more: Any
    ) -> tuple[Job, Ended]:
        """Run it; returns the job of the case."""
        job = self.job(body, **more)
        job = job.with_options(replace(job.options, without_backup=without or {}, stop_holders=frozenset(holders)))
        folder, ended = job.run(job.preview(answers, compared=False), self.folder / "cases")
        return self.again(job, folder), ended

    def again(self, job: Job, case: Path) -> Job:
        """The job of a case, as another Kleff would open it: nothing that was in memory is known any more."""
        from kleff.case.record.folder import open_case
        from kleff.engine.cases.case_job import answers_of, procedure_of

        with open_case(case) as opened:
            return replace(job, workstation=self.on.open(), procedure=procedure_of(opened), case=case, answers=answers_of(opened))

    def undo(self, job: Job) -> Undone:
        return job.undo()

    @property
    def files(self) -> dict[tuple[str, ...], tuple[object, ...]]:
        """Everything there is, to be compared."""
        found: dict[tuple[str, ...], tuple[object, ...]] = self.on.files.snapshot()
        return found

    def names(self, top: str) -> list[str]:
        """What lies below a folder, with its path from there."""
        path = self.on.files.path(top)
        return sorted("/".join(p.parts[len(path.parts) :]) for p, _ in self.on.files.walk(path) if p != path)


def delete(*paths: str, more: str = "") -> str:
    """A step that deletes paths."""
    return "[[delete]]\npaths = [" + ", ".join(f"'{p}'" for p in paths) + f"]\n{more}"


class Killed(BaseException):
    """What stands for a kill: nothing after it is written any more."""


@contextmanager
def killed_at(write: int, after: bool) -> Iterator[list[int]]:
    """Within, the `write`th write of a journal is the last: it does not happen, or has (`after`). Gives the list of writes so far."""
    original, seen = Journal.write, [0]

    @contextmanager
    def counted(self: Journal) -> Iterator[object]:
        seen[0] += 1
        if seen[0] > write > 0:
            raise Killed
        with original(self) as db:
            yield db
            if seen[0] == write and not after:
                raise Killed
        if seen[0] == write and after:
            raise Killed

    Journal.write = counted  # type: ignore[method-assign,assignment]
    try:
        yield seen
    except Killed:
        pass
    finally:
        Journal.write = original  # type: ignore[method-assign]


def each_kill(folder: Path, make: Callable[[Path], Bench], body: str) -> Iterator[tuple[Bench, Job, Any]]:
    """A run of `body` killed before and after each write of its journal: the workstation, the job of the case that was begun, and all
    that was there before.
    """
    for number in itertools.count(1):
        for after in (False, True):
            bench = make(folder / f"{number}{'after' if after else 'before'}")
            before = bench.files
            with killed_at(number, after) as writes:
                bench.run(body)
            if writes[0] < number:
                assert number > 8, "too few writes to have killed anything"
                return
            with suppress(NeverBegun, StopIteration):
                job = bench.again(bench.job(body), next((bench.folder / "cases").iterdir()))
                if job.record().rows:
                    yield bench, job, before


def states(actions: Sequence[Action]) -> dict[str, tuple[str, str]]:
    """State and reason by what an action is about."""
    return {a.target: (a.state, a.reason) for a in actions}
