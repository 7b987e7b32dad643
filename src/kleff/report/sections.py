"""The sections of a report: what was saved, stopped, removed, kept, left, taken back."""

from __future__ import annotations

from kleff.case.effects.base import effect_of
from kleff.case.record.folder import Case
from kleff.engine.cases.rows import SAVING, Row
from kleff.engine.finding import LEFT, STAYS, Verification
from kleff.objects.base.action import ABSENT, DONE, FAILED, KEPT, MANUAL, SKIPPED, TO_DO, WAITING
from kleff.objects.base.kind import Words, much
from kleff.objects.base.known import kind_of
from kleff.report.case_facts import restores
from kleff.report.pages import finding_line
from kleff.texts import plural, size

BAG_STATES = {"sealed": "", "discarded": " (deleted since)"}


def sections(case: Case, found: list[Row], result: Verification | None) -> list[tuple[str, list[tuple[str, str]]]]:
    """(title, lines with their tone) of what there is to tell; empty sections are left out."""
    by_phase = {
        p: [r for r in found if r.action.phase == p and r.state == DONE] for p in (*SAVING, "stop", "holders", "uninstall", "purge")
    }
    gone = by_phase["uninstall"] + by_phase["purge"]
    deleted = [r for r in found if r.action.phase == "delete" and r.state == DONE]
    before = [r for r in found if r.action.phase == "before" and r.state in (DONE, SKIPPED)]
    skipped = [r for r in found if r.state == SKIPPED and r.action.phase != "before"]
    by_hand = [r for r in found if r.action.phase == "after" and r.state == MANUAL]
    listed = [
        ("Before anything was done", [(f"     {r.action.target}  {r.action.reason}", "plain") for r in before]),
        (
            "Saved in the bag" + BAG_STATES.get(case.text("bag"), " (not complete: nothing may be removed on its strength)"),
            _lines([row for phase in SAVING for row in by_phase[phase]]) or _nothing_saved(case, found),
        ),
        ("Rescued", _lines([r for r in found if r.action.phase == "rescue" and r.state == DONE])),
        ("Stopped", _lines(by_phase["stop"])),
        ("Ended, since they held files open", _lines(by_phase["holders"])),
        ("Uninstalled", _lines([r for r in gone if _words(r).removes])),
        ("Changed to another version", _lines([r for r in gone if not _words(r).removes])),
        *_deleted(case, [r for r in deleted if r.items]),
        ("Gone before their turn came", _lines([r for r in deleted if not r.items])),
        ("Skipped by the technician", _lines([r for r in skipped if not r.action.owed], "warn")),
        ("For the vendor", _lines([r for r in skipped if r.action.owed], "warn")),
        ("Waiting for the restart", _lines([r for r in found if r.state == WAITING], "warn")),
        ("Still to be done by hand", _lines(by_hand, "warn")),
        ("Failed", _lines([r for r in found if r.state == FAILED], "bad")),
        # What was to go, and was found to be needed still.
        ("Kept when its turn came", _lines([r for r in found if r.state == KEPT and r.action.state == TO_DO], "warn")),
    ]
    if result is not None:
        listed += [
            ("Kept on purpose", [(finding_line(f), "plain") for f in result.of(STAYS)]),
            ("Left", [(finding_line(f), "bad") for f in result.open]),
        ]
    else:
        listed.append(("Kept on purpose", _lines([r for r in found if r.state == KEPT and r.action.phase != "verify"])))
    listed.append(("Taken back", _undone(case)))
    absent = sum(1 for r in found if r.state == ABSENT and r.action.phase != "verify")
    listed.append(("Looked for and not there", [(f"{plural(absent, 'place')}; preview and JSON name them", "dim")] if absent else []))
    if restores(case):
        listed = [*_restored(case, found, result), ("Taken back", _undone(case))]
    return [(title, lines) for title, lines in listed if lines]


def _deleted(case: Case, found: list[Row]) -> list[tuple[str, list[tuple[str, str]]]]:
    """A section for each sort of thing, as its kind tells it; what no kind tells goes under one heading."""
    freed = "deleted since" if case.state == "discarded" else "freed by discard"
    by_section: dict[str, list[Row]] = {}
    for row in found:
        by_section.setdefault(_words(row).section, []).append(row)
    told = []
    for section, of_it in by_section.items():
        words = _words(of_it[0])
        nouns = {_words(row).noun for row in of_it}
        noun = nouns.pop() if len(nouns) == 1 else ("item", "items") if words.frees else ("key or value", "keys and values")
        count = plural(sum(r.items for r in of_it), *(noun if noun[0] else ("thing", "things")))
        sized = f", {size(sum(r.size for r in of_it))} ({freed})" if words.frees else ""
        told.append((f"{section}: {count}{sized}", _lines(of_it)))
    return told


def _words(row: Row) -> Words:
    return kind_of(row.action.kind).words(row.action.phase)


def _restored(case: Case, found: list[Row], result: Verification | None) -> list[tuple[str, list[tuple[str, str]]]]:
    """What a restore did, item by item."""
    replaced = [e for e in case.journal.effects() if e.state == "done" and effect_of(e).aside()]
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
        counted = much(kind_of(action.kind), action.phase, row.items)
        told = f", {counted}" if counted else ""
        told += f", {size(row.size)}" if row.size else ""
        note = f" - {row.note}" if row.note else ""
        lines.append((f"{action.number:>3}  {label}{action.target}{who}{told}{note}", tone))
    return lines


def _undone(case: Case) -> list[tuple[str, str]]:
    effects = case.journal.effects()
    back = sum(1 for e in effects if e.state == "undone")
    if not back and case.state not in ("undone", "undoing"):
        return []
    lines = [(f"{plural(back, 'change')} taken back", "good")]
    return lines + [(f"not taken back: {e.note}", "warn") for e in effects if e.state == "stays" and e.note]
