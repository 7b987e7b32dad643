"""A case as a document, as text for people, and as Markdown for the ticket."""

from __future__ import annotations

from datetime import UTC, datetime

import msgspec

from kleff.case.bag.opened import saved_size
from kleff.case.record.folder import Case
from kleff.engine.run import Row, rows
from kleff.engine.verify import LEFT, STAYS, UNKNOWN, Verification
from kleff.errors import DamagedCase
from kleff.objects.base import ABSENT, DONE, FAILED, KEPT, MANUAL, SKIPPED, TO_DO, WAITING, Action
from kleff.procedure.conditions import show_answer
from kleff.procedure.globs import POSIX, WINDOWS
from kleff.report.documents import CaseInfo, DoneInfo, EffectInfo, EventInfo, ReportDocument
from kleff.report.lines import Page
from kleff.report.pages import finding_line
from kleff.texts import plain, plural, seconds, size
from kleff.workstation.paths import from_raw


def case_info(case: Case, discard_after: float | None = None) -> CaseInfo:
    """The head of a case.

    Args:
        discard_after: seconds after its end from which what a case set aside may be discarded; None: never by itself.
    """
    moved = [e for e in case.journal.effects() if e.kind == "moved" and e.state in ("done", "stays")]
    old = age(case)
    due = discard_after is not None and case.state == "finished" and bool(moved) and old is not None and old >= discard_after
    return CaseInfo(
        id=case.id, folder=str(case.folder), state=case.state, product=case.text("product"), host=case.text("host"),
        workstation=case.text("workstation"), technician=case.text("technician"), ticket=case.text("ticket"),
        made=case.text("made"), ended=case.text("ended"), saved_size=saved_size(case.folder / "bag"), restored=gives_back(case),
        aside_items=sum(int(e.data["items"]) for e in moved), aside_size=sum(int(e.data["size"]) for e in moved),
        holds=bag_labels(case), due=due, next=next_commands(case),
    )  # fmt: skip


def answers_line(case: Case) -> str:
    """What the procedure's questions were answered with, in one line."""
    try:
        answers = msgspec.json.decode(case.text("answers") or "{}", type=dict[str, bool | str | list[str]])
    except msgspec.MsgspecError:
        return ""
    return plain(", ".join(f"{name}: {show_answer(answer)}" for name, answer in answers.items()))


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


def gives_back(case: Case) -> bool:
    """Whether it is the case of a restore."""
    return case.text("task") == "restore"


def next_commands(case: Case) -> list[str]:
    """The commands that can follow, with the case's own path."""
    verbs = {
        "open": ["resume", "undo"],
        "waiting": ["resume", "undo"],
        "undoing": ["undo"],
        "finished": ["undo", "discard"] if gives_back(case) else ["verify", "undo", "discard"],
        "undone": ["discard"],
    }.get(case.state, [])
    if case.state in ("discarded", "undone") and case.text("bag") == "sealed" and case.journal.bag_items():
        return [f"kleff discard --bag {_quoted(str(case.folder))}"]
    return [f"kleff {verb} {_quoted(str(case.folder))}" for verb in verbs]


def _quoted(text: str) -> str:
    import shlex

    return shlex.quote(text)


def report_document(case: Case) -> ReportDocument:
    """The whole case."""
    result = verification(case)
    windows = case.text("workstation").startswith("lab:")
    return ReportDocument(
        kleff="report",
        case=case_info(case),
        procedure=case.text("procedure_name"),
        elapsed=elapsed(case),
        actions=[_done(row, windows) for row in rows(case)],
        effects=[
            EffectInfo(number=e.id, action=e.action, kind=e.kind, what=_what(e.place, e.data, windows), state=e.state, note=e.note, at=e.at)
            for e in case.journal.effects()
        ],
        clean=None if result is None else result.clean,
        findings=[] if result is None else result.findings,
        events=[EventInfo(at=at, text=plain(text)) for at, text in case.journal.events()],
    )


def elapsed(case: Case) -> float:
    """How long the last run worked, in seconds; 0 if it is not known."""
    try:
        found = float(case.text("elapsed") or 0)
    except ValueError:
        return 0.0
    return found if 0 <= found < 1e9 else 0.0


def verification(case: Case) -> Verification | None:
    """What the last verification of the case found."""
    raw = case.journal.get("verification")
    try:
        return None if raw is None else msgspec.json.decode(raw, type=Verification)
    except (msgspec.MsgspecError, TypeError, ValueError) as error:
        raise DamagedCase(
            f"what was verified cannot be read: {error}", where=str(case.folder), remedy="restore the case folder from a copy"
        ) from None


def _done(row: Row, windows: bool) -> DoneInfo:
    action = row.action
    return DoneInfo(
        number=action.number, phase=action.phase, line=action.line, label=action.label, verb=action.verb, target=action.target,
        path_b64=_b64(action, windows), account=action.account, state=row.state, note=plain(row.note), items=row.items, size=row.size,
    )  # fmt: skip


def _b64(action: Action, windows: bool) -> str:
    from base64 import b64decode

    return from_raw(WINDOWS if windows else POSIX, b64decode(action.exact)).b64 if action.exact else ""


def _what(place: bytes, data: dict[str, object], windows: bool) -> str:
    if place:
        return plain(str(from_raw(WINDOWS if windows else POSIX, place)))
    return plain(str(data.get("key") or data.get("what") or data.get("name") or ""))


# -- for people -----------------------------------------------------------------------------------------------


def result_line(case: Case, result: Verification | None, found: list[Row]) -> str:
    """How the case stands, in one line."""
    failed = [r for r in found if r.state == FAILED]
    if case.state == "finished" and result is not None:
        if gives_back(case):
            missing = len(result.of(LEFT))
            return (
                f"not all of it is in place: {plural(missing, 'thing')} missing"
                if missing or failed
                else "put back, and compared with the bag"
            )
        if result.clean and not failed:
            return f"gone: looked at {plural(result.looked, 'place')}, nothing is left"
        left = len(result.of(LEFT)) + len(result.of(UNKNOWN))
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
        "Begun": info.made, "Ended": info.ended, "Case folder": info.folder,
    }  # fmt: skip
    return {name: value for name, value in told.items() if value}


def report_page(case: Case) -> Page:
    """The report as lines."""
    page, info, found, result = Page(), case_info(case), rows(case), verification(case)
    page.row((f"Case {info.id}: ", "head"), (result_line(case, result, found), "good" if result and result.clean else "warn"))
    for name, value in {**facts(case), "Worked": seconds(elapsed(case))}.items():
        page.row((f"  {name.lower():<12} ", "dim"), (plain(value), "plain"))
    for title, lines in sections(case, found, result):
        page.head(title)
        for text, tone in lines:
            page.add(f"  {text}", tone)  # type: ignore[arg-type]
    if info.next:
        page.head("What can follow")
        for command in info.next:
            page.add(f"  {command}")
    return page


FILES = ("backup", "restore")  # phases whose actions on paths count files alone
BAG_STATES = {"sealed": "", "discarded": " (deleted since)"}


def sections(case: Case, found: list[Row], result: Verification | None) -> list[tuple[str, list[tuple[str, str]]]]:
    """(title, lines with their tone) of what there is to tell; empty sections are left out."""
    by_phase = {
        p: [r for r in found if r.action.phase == p and r.state == DONE] for p in ("backup", "stop", "uninstall", "purge", "delete")
    }
    aside = [r for r in by_phase["delete"] if r.action.verb == "set aside" and r.items]
    registry = [r for r in by_phase["delete"] if r.action.verb.startswith("delete") and r.items]
    size_of = sum(r.size for r in aside)
    freed = "deleted since" if case.state == "discarded" else "freed by discard"
    before = [r for r in found if r.action.phase == "before" and r.state in (DONE, SKIPPED)]
    by_hand = [r for r in found if r.action.phase == "after" and r.state == MANUAL]
    listed = [
        ("Before anything was done", [(plain(f"     {r.action.target}  {r.action.reason}"), "plain") for r in before]),
        (
            "Saved in the bag" + BAG_STATES.get(case.text("bag"), " (not complete: nothing may be removed on its strength)"),
            _lines(by_phase["backup"]) or _nothing_saved(case, found),
        ),
        ("Rescued", _lines([r for r in found if r.action.phase == "rescue" and r.state == DONE])),
        ("Stopped", _lines(by_phase["stop"])),
        ("Uninstalled", _lines(by_phase["uninstall"] + by_phase["purge"])),
        (f"Set aside: {plural(sum(r.items for r in aside), 'item')}, {size(size_of)} ({freed})", _lines(aside)),
        (f"Deleted in the registry: {plural(sum(r.items for r in registry), 'key or value', 'keys and values')}", _lines(registry)),
        ("Gone before their turn came", _lines([r for r in by_phase["delete"] if not r.items])),
        ("Skipped by the technician", _lines([r for r in found if r.state == SKIPPED and r.action.phase != "before"], "warn")),
        ("Waiting for the restart", _lines([r for r in found if r.state == WAITING], "warn")),
        ("Still to be done by hand", _lines(by_hand, "warn")),
        ("Failed", _lines([r for r in found if r.state == FAILED], "bad")),
    ]
    if result is not None:
        listed += [
            ("Kept on purpose", [(finding_line(f), "plain") for f in result.of(STAYS)]),
            ("Left", [(finding_line(f), "bad") for f in (*result.of(LEFT), *result.of(UNKNOWN))]),
        ]
    else:
        listed.append(("Kept on purpose", _lines([r for r in found if r.state == KEPT and r.action.phase != "verify"])))
    listed.append(("Taken back", _undone(case)))
    absent = sum(1 for r in found if r.state == ABSENT and r.action.phase != "verify")
    listed.append(("Looked for and not there", [(f"{plural(absent, 'place')}; preview and JSON name them", "dim")] if absent else []))
    if gives_back(case):
        listed = [*_given_back(case, found, result), ("Taken back", _undone(case))]
    return [(title, lines) for title, lines in listed if lines]


def _given_back(case: Case, found: list[Row], result: Verification | None) -> list[tuple[str, list[tuple[str, str]]]]:
    """What a restore did, item by item."""
    replaced = [e for e in case.journal.effects() if e.kind == "moved" and e.state == "done"]
    return [
        ("Put back", _lines([r for r in found if r.state == DONE])),
        (
            f"From the bag {case.text('bag_folder')}",
            [("     the same was there already: " + plural(_count(found, ABSENT), "item"), "plain")],
        ),
        ("Set aside first", [(f"     {plural(len(replaced), 'path')} that stood in the way", "plain")] if replaced else []),
        ("Stays as it is", _lines([r for r in found if r.state == KEPT], "warn")),
        ("To be done by hand", _lines([r for r in found if r.state == MANUAL], "warn")),
        ("Skipped by the technician", _lines([r for r in found if r.state == SKIPPED], "warn")),
        ("Failed", _lines([r for r in found if r.state == FAILED], "bad")),
        ("Missing", [(finding_line(f), "bad") for f in result.of(LEFT)] if result is not None else []),
    ]


def _count(found: list[Row], state: str) -> int:
    return sum(r.state == state for r in found)


def _nothing_saved(case: Case, found: list[Row]) -> list[tuple[str, str]]:
    """A bag that was begun and not finished is told as such, also if nothing whole is in it."""
    wanted = any(r.action.phase == "backup" and r.action.state == TO_DO for r in found)
    return [("     nothing whole is in it", "warn")] if wanted and case.text("bag") not in BAG_STATES else []


def _lines(found: list[Row], tone: str = "plain") -> list[tuple[str, str]]:
    lines = []
    for row in found:
        action = row.action
        label = f"{action.label}: " if action.label else ""
        who = f" [{action.account}]" if action.account else ""
        much = f", {plural(row.items, 'file' if action.phase in FILES else 'item')}" if action.kind == "paths" and row.items else ""
        much += f", {size(row.size)}" if row.size else ""
        note = f" - {row.note}" if row.note else ""
        lines.append((plain(f"{action.number:>3}  {label}{action.target}{who}{much}{note}"), tone))
    return lines


def _undone(case: Case) -> list[tuple[str, str]]:
    effects = case.journal.effects()
    back = sum(1 for e in effects if e.state == "undone")
    if not back and case.state not in ("undone", "undoing"):
        return []
    lines = [(f"{plural(back, 'change')} taken back", "good")]
    return lines + [(f"not taken back: {e.note}", "warn") for e in effects if e.state == "stays" and e.note]


def report_markdown(case: Case) -> str:
    """The report as CommonMark; whatever comes from the workstation stands in code spans."""
    info, found, result = case_info(case), rows(case), verification(case)
    out = [f"# Case {info.id}", "", f"**{_mark(result_line(case, result, found))}**", ""]
    out += ["| | |", "|---|---|", *(f"| {name} | {_cell(value)} |" for name, value in facts(case).items()), ""]
    for title, lines in sections(case, found, result):
        out += [f"## {_mark(title)}", "", *(f"- {code(text.strip())}" for text, _ in lines), ""]
    if info.next:
        out += ["## What can follow", "", *(f"    {command}" for command in info.next), ""]
    return "\n".join(out)


def code(text: str) -> str:
    """A code span that no backtick in the text can close (CommonMark 6.1)."""
    text = plain(text)
    fence = "`"
    while fence in text:
        fence += "`"
    pad = " " if text.startswith("`") or text.endswith("`") else ""
    return f"{fence}{pad}{text}{pad}{fence}"


def _cell(text: str) -> str:
    return code(text).replace("|", "\\|")


def _mark(text: str) -> str:
    return "".join("\\" + c if c in "\\`*_{}[]<>#|!" else c for c in plain(text))
