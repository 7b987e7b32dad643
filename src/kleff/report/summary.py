"""Short pages: how a run ended, what an undo came to, the list of cases."""

from __future__ import annotations

from collections.abc import Iterator

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
    page.add("In short", "head")
    for name, text, tone in (*_done(case, ended), *_stays(ended)):
        if text:
            page.row((f"  {name:<10} ", "dim"), (text, tone))
    page.add("")
    for command in [f"kleff report {case.folder}", *next_commands(case)[1:]]:
        page.row(("  next: ", "dim"), (command, "plain"))
    return page


def _done(case: Case, ended: Ended) -> Iterator[tuple[str, str, Tone]]:
    """(what, in words, tone) of what was done; without words it did not happen."""
    done = [(r, _words(r)) for r in ended.rows if r.state == DONE and r.items]
    saved = [r for r, _ in done if r.action.phase in SAVING]
    where = f", checked: {case.folder / 'bag'}"
    yield "saved", f"{_items(saved)}{where}" if saved else "", "plain"
    rescued = (f"{plural(r.items, 'file')} of {r.action.account}: {r.action.target}" for r, _ in done if r.action.phase == "rescue")
    yield "rescued", "; ".join(rescued), "warn"
    yield "removed", ", ".join(r.action.target for r, words in done if r.action.phase in ("uninstall", "purge") and words.removes), "plain"
    yield "changed", ", ".join(r.action.target for r, words in done if not words.removes), "plain"
    aside = [r for r, words in done if words.frees]
    yield "set aside", f"{_items(aside)}; freed by discard" if aside else "", "plain"
    deleted = [(r, words) for r, words in done if r.action.phase == "delete"]
    keys = sum(r.items for r, words in deleted if words.total in ("keys", "values"))
    yield "registry", f"{plural(keys, 'key or value', 'keys and values')} deleted, exported first" if keys else "", "plain"
    taken = (f"{plural(r.items, *words.noun)} of {r.action.target}" for r, words in deleted if words.within)
    yield "taken out", ", ".join(taken), "plain"
    others = (r for r, words in deleted if not (words.frees or words.within or words.total in ("keys", "values")))
    yield "deleted", ", ".join(r.action.target for r in others), "plain"


def _stays(ended: Ended) -> Iterator[tuple[str, str, Tone]]:
    """The same of what is there still, and of how it went."""
    kept, left = len(ended.verification.of(STAYS)), len(ended.verification.open)
    yield "kept", plural(kept, "place") if kept else "", "plain"
    if not ended.verification.saved:
        yield "left", plural(left, "thing") if left else "nothing", "bad" if left else "good"
    offered = (f"{r.action.offers}; later:  {r.action.later_by}" for r in ended.rows if r.action.offers and r.state == KEPT)
    yield "stays", "; ".join(offered), "warn"
    yield "time", seconds(ended.elapsed), "plain"
    skipped = sum(r.state == SKIPPED for r in ended.rows)
    yield "skipped", plural(skipped, "action") if skipped else "", "warn"
    yield "failed", "; ".join(f"{r.action.target}: {r.note or r.action.reason}" for r in ended.failed), "bad"


def _items(found: list[Row]) -> str:
    return f"{plural(sum(r.items for r in found), 'item')}, {size(sum(r.size for r in found))}"


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
        for number, note in sorted((*result.failed.items(), *result.waits.items())):
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
