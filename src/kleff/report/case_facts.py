"""What is told of a case itself: its facts, what it holds, the commands that can follow."""

from __future__ import annotations

import contextlib
from datetime import UTC, datetime

from kleff.case.bag.manifests import saved_size
from kleff.case.effects.base import effect_of
from kleff.case.record.effect import ASIDE
from kleff.case.record.folder import UNFINISHED, Case
from kleff.case.record.unfinished import at_work, is_of, read_mark
from kleff.engine.cases.case_job import accounts_of, answers_of
from kleff.engine.cases.rows import Row, rows
from kleff.engine.finding import LEFT, Verification
from kleff.errors import DamagedCase, KleffError
from kleff.objects.base.action import FAILED
from kleff.procedure.conditions import show_answer
from kleff.procedure.globs import POSIX, WINDOWS, PathStyle
from kleff.report.documents import CaseInfo
from kleff.texts import plural, typed
from kleff.workstation.open import open_workstation


def case_info(case: Case, discard_after: float | None = None) -> CaseInfo:
    """The head of a case.

    Args:
        discard_after: seconds after its end from which what a case set aside may be discarded; None: never by itself.
    """
    moved = [a for e in case.journal.effects() if e.state in ASIDE and (a := effect_of(e).aside())]
    old = age(case)
    due = discard_after is not None and case.state == "finished" and bool(moved) and old is not None and old >= discard_after
    return CaseInfo(
        id=case.id, folder=str(case.folder), state=case.state, product=case.text("product"), host=case.text("host"),
        workstation=case.text("workstation"), technician=case.text("technician"), ticket=case.text("ticket"),
        made=case.text("made"), ended=case.text("ended"), saved_size=saved_size(case.folder / "bag"), restored=restores(case),
        aside_items=sum(a.items for a in moved), aside_size=sum(a.size for a in moved),
        holds=bag_labels(case), due=due, next=next_commands(case), at_work=at_work_on(case),
    )  # fmt: skip


def at_work_on(case: Case) -> str:
    """Who is at work on it now, which is something else than unfinished; "" if nobody."""
    if case.state not in UNFINISHED and case.state != "new":
        return ""
    with contextlib.suppress(KleffError, OSError):
        workstation = open_workstation(case.text("workstation"))
        mark = read_mark(workstation)
        if mark is None or is_of(mark, case.id, case.folder):
            return at_work(workstation) or ""
    return ""


def answers_line(case: Case) -> str:
    """What the procedure's questions were answered with, in one line."""
    try:
        answers = answers_of(case)
    except DamagedCase:
        return ""
    return ", ".join(f"{name}: {show_answer(answer)}" for name, answer in answers.items())


def age(case: Case) -> float | None:
    """Seconds since a case ended; None while it has not."""
    try:
        ended = datetime.fromisoformat(case.text("ended").replace("Z", "+00:00"))
        return (datetime.now(UTC) - ended).total_seconds()
    except (ValueError, TypeError):
        return None


def bag_labels(case: Case) -> list[str]:
    """The labels of what is in the bag, in the order of the plan."""
    numbers = {item[1] for item in case.journal.bag_items()} if case.text("bag") != "discarded" else set()
    return list(dict.fromkeys(r.action.label or r.action.target for r in rows(case) if r.action.number in numbers))


def saved_kinds(case: Case) -> list[str]:
    """What kinds of data are in the bag, step by step; "" where the procedure does not say."""
    numbers = {item[1] for item in case.journal.bag_items()}
    return [r.action.saves for r in rows(case) if r.action.number in numbers]


def restores(case: Case) -> bool:
    """Whether it is the case of a restore."""
    return case.text("task") == "restore"


def next_commands(case: Case) -> list[str]:
    """The commands that can follow, with the case's own path."""
    verbs = {
        "open": ["resume", "undo"],
        "waiting": ["resume", "undo"],
        "undoing": ["undo"],
        "finished": ["undo", "discard"] if restores(case) else ["verify", "undo", "discard"],
        "undone": ["discard"],
    }.get(case.state, [])
    if case.state in ("discarded", "undone") and case.text("bag") == "sealed" and case.journal.bag_items():
        return [f"kleff discard --bag {typed(str(case.folder))}"]
    return [f"kleff {verb} {typed(str(case.folder))}" for verb in verbs]


def style_of(case: Case) -> PathStyle:
    """How paths are written on the workstation of a case."""
    return WINDOWS if case.text("system") == "windows" else POSIX


def elapsed(case: Case) -> float:
    """How long the last run worked, in seconds; 0 if it is not known."""
    try:
        found = float(case.text("elapsed") or 0)
    except ValueError:
        return 0.0
    return found if 0 <= found < 1e9 else 0.0


def result_line(case: Case, result: Verification | None, found: list[Row]) -> str:
    """How the case stands, in one line."""
    failed = [r for r in found if r.state == FAILED]
    if who := at_work_on(case):
        return f"at work: {who}"
    if case.state == "finished" and result is not None:
        if restores(case):
            missing = len(result.of(LEFT))
            return (
                f"not all of it is in place: {plural(missing, 'thing')} missing"
                if missing or failed
                else "put back, and compared with the bag"
            )
        if result.saved and result.clean:
            return "saved; nothing was to be removed"
        if result.clean and not failed:
            looked = f"looked at {plural(result.looked, 'place')}"
            return (
                f"gone{result.whose}: {looked}, nothing is left"
                if result.gone
                else f"not gone, as was wanted: {looked}, the rest is kept on purpose"
            )
        left = len(result.open)
        return f"not clean: {plural(left, 'thing')} left, {plural(len(failed), 'optional step')} failed"
    return {
        "open": "stopped: the case is open" + (f"; failed: {failed[0].note}" if failed else ""),
        "waiting": "waiting for a restart of the workstation",
        "undoing": "half taken back",
        "undone": "taken back",
        "discarded": "finished, and what was set aside is deleted for good",
        "new": "begun, and nothing done",
    }.get(case.state, case.state)


def facts(case: Case) -> dict[str, str]:
    """What a report says of the case itself; what is not known is left out."""
    info = case_info(case)
    told = {
        "Product": info.product, "Workstation": f"{info.host} ({info.workstation})", "Ticket": info.ticket,
        "Technician": info.technician, "Procedure": case.text("procedure_name"), "Answers": answers_line(case),
        "Only for": ", ".join(accounts_of(case)),
        "Begun": info.made, "Restarted": case.text("restarted_at"), "Ended": info.ended, "Case folder": info.folder,
    }  # fmt: skip
    return {name: value for name, value in told.items() if value}
