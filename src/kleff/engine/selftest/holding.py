"""Whether Kleff does on this very machine what it does in its tests: contracts, and a whole run with its undo."""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from kleff.engine.job import Job
from kleff.engine.library import parse
from kleff.errors import Refused, UsageError
from kleff.workstation.facets import Workstation
from kleff.workstation.this_machine import host
from kleff.workstation.windows.contract.checks import Check, Contract, Result, expect, results
from kleff.workstation.windows.contract.sample import PROCEDURE, SampleProduct

DOMAIN = r"HKLM\SYSTEM\CurrentControlSet\Services\Tcpip\Parameters"
DIRECTORY = r"HKLM\SYSTEM\CurrentControlSet\Control\CloudDomainJoin\JoinInfo"
TRIES = 25
OF_A_DIRECTORY = "S-1-12-1-"  # accounts that a directory in the cloud has given


@dataclass(frozen=True)
class Tested:
    """What came of one contract."""

    area: str
    results: list[Result]


def check_throw_away(workstation: Workstation, cases: Path) -> None:
    """Whether nothing on a machine could be missed.

    Raises:
        UsageError: it is no Windows.
        Refused: it seems to be somebody's.
    """
    from kleff.case.record.folder import all_cases
    from kleff.case.record.unfinished import read_mark

    registry = workstation.registry
    if registry is None or workstation.spec != "this":
        raise UsageError("this is for a Windows that Kleff itself runs on", where=workstation.spec, remedy="run it there, with  --on this")
    if not workstation.admin:
        raise Refused("it needs an administrator's rights", where=workstation.name, remedy="start the console as administrator")
    joined = [registry.text(key, "Domain") for key in registry.canonical(DOMAIN)]
    of_a_directory = [a for a in workstation.accounts.all() if a.id.startswith(OF_A_DIRECTORY)]
    if any(joined) or any(registry.subkeys(key) for key in registry.canonical(DIRECTORY)) or of_a_directory:
        raise Refused("this machine belongs to a domain or a directory", where=workstation.name, remedy="use a machine that nobody needs")
    if any(all_cases(cases)) or read_mark(workstation) is not None:
        raise Refused("there is a case on this machine", where=str(cases), remedy="use a machine that nobody needs")


def selftest(workstation: Workstation, service: str, told: Callable[[str, Result], None]) -> list[Tested]:
    """Hold every contract.

    Args:
        service: one that may be started and stopped.
        told: is told of each check when it is over.
    """
    from kleff.workstation.windows.host.contracts import contracts

    with _scratch(workstation) as scratch:
        return [Tested(area, list(_held(area, one, told))) for area, one in contracts(scratch, service).items()] + [
            Tested("a whole run", list(_held("a whole run", WholeRun(workstation, scratch), told)))
        ]


def _held(area: str, contract: Contract, told: Callable[[str, Result], None]) -> Iterator[Result]:
    try:
        for result in results(contract.checks()):
            told(area, result)
            yield result
    finally:
        cleared = next(results({"taken away again": contract.clear}))
    told(area, cleared)
    yield cleared


@contextmanager
def _scratch(workstation: Workstation) -> Iterator[Path]:
    """A folder for what is made meanwhile."""
    folder = workstation.state / "selftest"
    shutil.rmtree(folder, ignore_errors=True)  # of a test that was cut off
    host().make_private(folder)
    try:
        yield folder
    finally:
        for _ in range(TRIES):  # what watches a program that has just ended may hold its file still
            shutil.rmtree(folder, ignore_errors=True)
            if not folder.exists():
                break
            time.sleep(0.2)


class WholeRun:
    """A product that is made here is removed and taken back."""

    def __init__(self, workstation: Workstation, scratch: Path) -> None:
        assert workstation.registry is not None
        self._workstation, self._cases = workstation, scratch / "cases"
        self._product = SampleProduct(workstation.files, workstation.registry)

    def checks(self) -> dict[str, Check]:
        return {"there and back": self._there_and_back}

    def clear(self) -> None:
        self._product.clear()

    def _there_and_back(self) -> None:
        self._product.make()
        before = self._product.stands()
        job = Job(self._workstation, parse(PROCEDURE.encode(), "selftest.toml"))
        case, ended = job.run(job.preview(compared=False), self._cases)
        expect("that it is gone", (ended.clean, self._product.stands()), (True, ([], [])))
        expect("what undo could not take back", Job.of_case(case, "this").undo().stays, [])
        expect("what stands there afterwards", self._product.stands(), before)
