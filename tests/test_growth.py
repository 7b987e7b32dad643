"""Nothing grows faster than what it is about: ten times the work takes no more than twelve times the calls."""

from __future__ import annotations

import gc
import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from kleff.case.record.folder import open_case
from kleff.engine.cases.rows import rows
from kleff.engine.job import Job
from kleff.report.case_report import report_document, report_page
from kleff.report.documents import encode
from kleff.report.full_plan import full_plan
from kleff.report.making import preview_document
from kleff.report.pages import verify_page
from kleff.report.short_plan import short_plan
from kleff.report.summary import closing_page, undone_page
from memory import Bench

SMALL, TIMES, ALLOWED = 40, 10, 12


def calls_of(act: Callable[[], Any]) -> tuple[int, Any]:
    """How many functions are called, of Python and of the system's; and what comes of it."""
    count = 0

    def noted(frame: object, event: str, argument: object) -> None:
        nonlocal count
        count += event in ("call", "c_call")

    gc.collect()
    sys.setprofile(noted)
    try:
        result = act()
    finally:
        sys.setprofile(None)
    return count, result


def folders(bench: Bench, number: int) -> str:
    for n in range(number):
        bench.on.files.add(f"/opt/hoe/bed{n:05d}/row", str(n))
    return "[[delete]]\npaths = ['/opt/hoe/bed*']\nat_most = 100000\n"


def steps(bench: Bench, number: int) -> str:
    for n in range(number):
        bench.on.files.add(f"/opt/hoe/bed{n:05d}", str(n))
    saved = "".join(f"[[backup]]\nlabel = 'bed{n}'\npaths = ['/opt/hoe/bed{n:05d}']\n" for n in range(number))
    return saved + "".join(f"[[delete]]\npaths = ['/opt/hoe/bed{n:05d}']\n" for n in range(number))


def packages(bench: Bench, number: int) -> str:
    for n in range(number):
        bench.on.packages.add(f"hoe-bed{n:05d}", "1.0", [f"/usr/lib/hoe/bed{n:05d}.so"])
    return "[[purge]]\npackage = 'hoe-bed*'\nat_most = 100000\n"


def python_package(bench: Bench, number: int) -> str:
    bench.on.files.add("/opt/hoe/pyvenv.cfg", "home = /usr/bin\n")
    site = "/opt/hoe/lib/python3.11/site-packages"
    for n in range(number):
        bench.on.files.add(f"{site}/hoe_labels/bed{n:05d}.py", "x = 1\n")
    names = [f"hoe_labels/bed{n:05d}.py" for n in range(number)]
    bench.on.files.add(f"{site}/hoe_labels-1.2.dist-info/METADATA", "Metadata-Version: 2.1\nName: hoe-labels\nVersion: 1.2\n")
    record = "".join(f"{name},,\n" for name in (*names, "hoe_labels-1.2.dist-info/METADATA", "hoe_labels-1.2.dist-info/RECORD"))
    bench.on.files.add(f"{site}/hoe_labels-1.2.dist-info/RECORD", record)
    return "[[purge]]\npython = 'hoe-labels'\nin_environment = '/opt/hoe'\n"


def accounts(bench: Bench, number: int) -> str:
    lines = "".join(f"mira{n:05d}:x:{2000 + n}:{2000 + n}::/home/mira{n:05d}:/bin/sh\n" for n in range(number))
    bench.on.files.remove_single(bench.on.files.path("/etc/passwd"))
    bench.on.files.add("/etc/passwd", f"root:x:0:0:root:/root:/bin/sh\n{lines}")
    for n in range(number):
        bench.on.files.add(f"/home/mira{n:05d}/.hoe/row", str(n), uid=2000 + n)
    return "[[delete]]\npaths = ['{user.home}/.hoe']\n"


WORK = [folders, steps, packages, python_package, accounts]


def each_command(folder: Path, work: Callable[[Bench, int], str], number: int) -> dict[str, int]:
    """How many calls each command makes, on a workstation with so many things."""
    bench = Bench(folder, "linux")
    job = bench.job(work(bench, number))
    found: dict[str, int] = {}

    def counted(name: str, act: Callable[[], Any]) -> Any:
        found[name], result = calls_of(act)
        return result

    counted("survey", job.survey)
    made = counted("preview", lambda: job.preview())
    counted("its pages", lambda: (short_plan(made.here, made.plan, []).text(), full_plan(made.here, made.plan, []).text()))
    counted("its data", lambda: encode(preview_document(made.here, made.plan, [])))
    folder_of, ended = counted("run", lambda: job.run(made, bench.folder / "cases"))
    again: Job = replace(bench.again(job, folder_of))
    with open_case(folder_of) as case:
        counted("its end", lambda: (closing_page(case, ended).text(), verify_page("x", "y", ended.verification).text()))
        counted("report", lambda: (report_page(case).text(), encode(report_document(case))))
        assert len(rows(case)) >= 1
    counted("verify", again.verify)
    done = counted("undo", again.undo)
    with open_case(folder_of) as case:
        counted("its page", lambda: undone_page(case, done).text())
    return found


@pytest.mark.parametrize("work", WORK, ids=lambda work: work.__name__)
def test_ten_times_the_work(folder: Path, work: Callable[[Bench, int], str]) -> None:
    small, large = each_command(folder / "small", work, SMALL), each_command(folder / "large", work, SMALL * TIMES)
    grown = {name: round(large[name] / small[name], 1) for name in small}
    assert max(grown.values()) <= ALLOWED, grown


def test_it_would_be_seen() -> None:
    def nothing() -> int:
        return 0

    def square(number: int) -> int:
        return sum(nothing() for _ in range(number * number))

    assert calls_of(lambda: square(600))[0] > ALLOWED * calls_of(lambda: square(60))[0]
