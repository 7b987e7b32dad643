"""Verify by a procedure after a run of it: what was answered then, what stays, what an uninstaller named, stand in the case."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

from kleff.case.record.folder import Case, all_cases, open_case
from kleff.case.record.trust import check_trusted
from kleff.engine.cases.beforehand import settle_beforehand
from kleff.engine.cases.case_job import answers_of, procedure_of
from kleff.engine.cases.known import known_of
from kleff.engine.choices import settle
from kleff.engine.finding import Verification
from kleff.engine.opening import Opened
from kleff.engine.verify import verify
from kleff.errors import KleffError
from kleff.objects.base.here import Here
from kleff.procedure.conditions import Answer

KINDS: dict[str, type] = {"yes-no": bool, "one": str, "some": list}  # of an answer


class Newest(NamedTuple):
    """The newest case of the same product on the same workstation that was not taken back; and what is newer and could not be read."""

    folder: Path | None
    unread: list[str]


def newest_case(job: Opened, cases: Path) -> Newest:
    """Look for it."""
    unread: list[str] = []
    for folder in sorted(all_cases(cases), key=lambda folder: (folder / "case.db").stat().st_mtime_ns, reverse=True):
        try:
            with open_case(folder) as case:
                if _counts(job, case):
                    return Newest(folder, unread)
        except KleffError as error:
            if f"-{job.procedure.product.id}-" in folder.name:
                unread.append(f"what the case {folder.name} knows is not known: {error.what}")
    return Newest(None, unread)


def _counts(job: Opened, case: Case) -> bool:
    if case.text("identity") != job.workstation.identity or case.state == "undone" or case.text("task"):
        return False
    check_trusted(case.folder, "the case", job.workstation)
    return procedure_of(case).product.id == job.procedure.product.id and bool(case.journal.actions())


def verify_after(job: Opened, folder: Path, given: Sequence[str], unread: Sequence[str]) -> Verification:
    """Look again, with what a case knows; what is answered now wins over what was answered then.

    Args:
        unread: what is told of newer cases.

    Raises:
        UsageError: an answer that no question knows.
    """
    with open_case(folder) as case:
        then, now = _answered(job, case), _given(job, given)
        here = job.context(then | now)
        freed = _staying(job.context(then)) - _staying(here) if now else set()
        settle_beforehand(here, case)
        here.guard.kept.forget(freed)  # what only an answer of then had stay
        known = known_of(case, here)
    result = verify(here, known)
    result.case = folder.name
    result.not_known += unread
    return result


def _answered(job: Opened, case: Case) -> dict[str, Answer]:
    """What is offered may be gone with the product: an answer of then is not judged again, if the question is of the same kind still."""
    then = answers_of(case)
    return {ask.id: then[ask.id] for ask in job.procedure.asks if isinstance(then.get(ask.id), KINDS[ask.type])}


def _given(job: Opened, given: Sequence[str]) -> dict[str, Answer]:
    """The answers of now alone."""
    named = {text.partition("=")[0].strip() for text in given}
    asks = tuple(ask for ask in job.procedure.asks if ask.id in named)
    return settle(replace(job.procedure, asks=asks), given)


def _staying(here: Here) -> set[tuple[str, tuple[str, ...]]]:
    return {path.key for path, _ in here.guard.kept.places}
