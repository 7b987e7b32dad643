"""Short pages: how a run ended, what an undo came to, the list of cases."""

from __future__ import annotations

from kleff.case.record.folder import Case
from kleff.case.undo import Undone
from kleff.engine.cases.rows import SAVING, Row
from kleff.engine.cases.run import Ended
from kleff.engine.finding import STAYS
from kleff.objects.base.action import DONE, KEPT, SKIPPED
from kleff.objects.base.kind import Words
from kleff.objects.base.known import kind_of
from kleff.report.case_facts import next_commands
from kleff.report.documents import CasesDocument
from kleff.report.lines import Page, Tone
from kleff.texts import plural, seconds, size


def closing_page(case: Case, ended: Ended) -> Page:
    """What a run came to: removed, set aside, kept, left, time."""
    page = Page()
    done = [r for r in ended.rows if r.state == DONE and r.items]
    aside = [r for r in done if _words(r).frees]
    keys = [r for r in done if r.action.phase == "delete" and _words(r).total in ("keys", "values")]
    taken = [r for r in done if r.action.phase == "delete" and _words(r).within]
    others = [r for r in done if r.action.phase == "delete" and r not in (*aside, *keys, *taken)]
    saved = [r for r in done if r.action.phase in SAVING]
    rescued = [r for r in done if r.action.phase == "rescue"]
    gone = [r for r in done if r.action.phase in ("uninstall", "purge") and _words(r).removes]
    changed = [r for r in done if not _words(r).removes]
    kept = ended.verification.of(STAYS)
    left = len(ended.verification.open)
    skipped = [r for r in ended.rows if r.state == SKIPPED]
    page.add("In short", "head")
    rows: list[tuple[str, str, Tone]] = [
        (
            "saved",
            f"{plural(sum(r.items for r in saved), 'item')}, {size(sum(r.size for r in saved))}, checked: {case.folder / 'bag'}",
            "plain",
        ),
        ("rescued", "; ".join(f"{plural(r.items, 'file')} of {r.action.account}: {r.action.target}" for r in rescued), "warn"),
        ("removed", ", ".join(r.action.target for r in gone), "plain"),
        ("changed", ", ".join(r.action.target for r in changed), "plain"),
        ("set aside", f"{plural(sum(r.items for r in aside), 'item')}, {size(sum(r.size for r in aside))}; freed by discard", "plain"),
        ("registry", f"{plural(sum(r.items for r in keys), 'key or value', 'keys and values')} deleted, exported first", "plain"),
        ("taken out", ", ".join(f"{plural(r.items, *_words(r).noun)} of {r.action.target}" for r in taken), "plain"),
        ("deleted", ", ".join(r.action.target for r in others), "plain"),
        ("kept", plural(len(kept), "place"), "plain"),
        ("left", plural(left, "thing") if left else "nothing", "bad" if left else "good"),
        ("stays", "; ".join(r.action.offers for r in ended.rows if r.action.offers and r.state == KEPT), "warn"),
        ("time", seconds(ended.elapsed), "plain"),
    ]
    if skipped:
        rows.append(("skipped", plural(len(skipped), "action"), "warn"))
    if ended.failed:
        rows.append(("failed", "; ".join(f"{r.action.target}: {r.note or r.action.reason}" for r in ended.failed), "bad"))
    shown = {
        "saved": bool(saved),
        "rescued": bool(rescued),
        "set aside": bool(aside),
        "registry": bool(keys),
        "removed": bool(gone),
        "changed": bool(changed),
        "taken out": bool(taken),
        "deleted": bool(others),
        "kept": bool(kept),
        "stays": any(r.action.offers and r.state == KEPT for r in ended.rows),
        "left": not ended.verification.saved,
    }
    for name, text, tone in [r for r in rows if shown.get(r[0], True)]:
        page.row((f"  {name:<10} ", "dim"), (text, tone))
    page.add("")
    for command in [f"kleff report {case.folder}", *next_commands(case)[1:]]:
        page.row(("  next: ", "dim"), (command, "plain"))
    return page


def _words(row: Row) -> Words:
    return kind_of(row.action.kind).words(row.action.phase)


def undo_question(case: Case, only: set[int] | None = None) -> str:
    """What is asked before a case, or a part of it, is taken back."""
    effects = [e for e in case.journal.effects() if e.state in ("done", "intended", "stays") and (only is None or e.action in only)]
    return f"Take back {plural(len(effects), 'change')} on {case.text('host')} ({case.text('product')})?"


def undone_page(case: Case, result: Undone) -> Page:
    """What an undo came to."""
    page = Page()
    page.row((f"{plural(result.count, 'change')} taken back", "good"), (f" on {case.text('host')}", "plain"))
    for note in result.notes:
        page.row(("  note: ", "dim"), (note, "plain"))
    if result.failed:
        page.head("Could not be taken back")
        for number, note in sorted(result.failed.items()):
            page.add(f"  action {number}: {note}", "bad")
    if result.stays:
        page.head("Not taken back")
        for note in result.stays:
            page.add(f"  {note}", "warn")
    return page


def cases_page(document: CasesDocument) -> Page:
    """The list of cases."""
    page = Page()
    page.row(("Cases in ", "plain"), (document.folder, "head"))
    tones: dict[str, Tone] = {"open": "bad", "waiting": "warn", "undoing": "bad", "finished": "good"}
    for info in document.cases:
        state = "at work" if info.at_work else info.state
        page.row(
            (f"  {state:<10} ", tones.get(state, "dim")),
            (f"{info.id}", "plain"),
            ("  (put back)" if info.restored else "", "dim"),
            (f"  {info.made[:16].replace('T', ' ')}  {info.host}  {info.product}", "plain"),
            (f"  {info.ticket}", "plain"),
        )
        held = f"set aside {size(info.aside_size)} in {plural(info.aside_items, 'item')}" if info.aside_items else "nothing set aside"
        labels = f" ({', '.join(info.holds)})" if info.holds else ""
        page.add(f"             saved {size(info.saved_size)}{labels}, {held}", "dim")
        if info.due:
            page.row(("             may go: ", "warn"), (info.next[-1], "plain"))
        if info.at_work:
            page.add(f"             {info.at_work}", "warn")
        elif info.state in ("open", "waiting", "undoing"):
            for command in info.next:
                page.row(("             finish it: ", "warn"), (command, "plain"))
    for damaged in document.damaged:
        page.add(f"  damaged    {damaged.error}", "bad")
    if not document.cases and not document.damaged:
        page.add("  none yet", "dim")
    return page
