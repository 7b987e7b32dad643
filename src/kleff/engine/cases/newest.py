"""Verify by a procedure after a run of it: what was answered then, what stays, what an uninstaller named, stand in the case."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from kleff.case.record.folder import Case, all_cases, open_case
from kleff.case.record.trust import check_trusted
from kleff.engine.cases.beforehand import settle_beforehand
from kleff.engine.cases.case_job import answers_of
from kleff.engine.cases.known import known_of
from kleff.engine.choices import settle
from kleff.engine.finding import Verification
from kleff.engine.opening import Opened
from kleff.engine.verify import verify
from kleff.errors import KleffError
from kleff.procedure.conditions import Answer


def newest_case(job: Opened, cases: Path) -> Path | None:
    """The newest case of the same product on the same workstation that was not taken back; None if there is none that can be read."""
    found = sorted(all_cases(cases), key=lambda folder: (folder / "case.db").stat().st_mtime_ns, reverse=True)
    return next((folder for folder in found if f"-{job.procedure.product.id}-" in folder.name and _counts(job, folder)), None)


def _counts(job: Opened, folder: Path) -> bool:
    with contextlib.suppress(KleffError, OSError), open_case(folder) as case:  # another's, or a damaged one, knows nothing for certain
        check_trusted(folder, "the case", job.workstation)
        same = case.text("identity") == job.workstation.identity
        return same and case.state != "undone" and not case.text("task") and bool(case.journal.actions())
    return False


def verify_after(job: Opened, folder: Path, given: Sequence[str]) -> Verification:
    """Look again, with what a case knows; what is answered now wins over what was answered then.

    Raises:
        UsageError: an answer that no question knows.
    """
    with open_case(folder) as case:
        here = job.context(_answers(job, case, given))
        settle_beforehand(here, case)
        known = known_of(case, here)
    result = verify(here, known)
    result.case = folder.name
    return result


def _answers(job: Opened, case: Case, given: Sequence[str]) -> dict[str, Answer]:
    """What is offered may be gone with the product: an answer of then is not judged again."""
    now = {text.partition("=")[0].strip() for text in given}
    asked = replace(job.procedure, asks=tuple(ask for ask in job.procedure.asks if ask.id in now))
    then = answers_of(case)
    return {ask.id: then[ask.id] for ask in job.procedure.asks if ask.id in then} | settle(asked, given)
