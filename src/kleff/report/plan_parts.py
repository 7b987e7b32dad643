"""What both forms of a plan tell: what needs the technician first, and the sums."""

from __future__ import annotations

from collections.abc import Iterator

from kleff.engine.accounts import left_out
from kleff.engine.choices import Choice
from kleff.engine.plan import REMOVING, Plan
from kleff.objects.base.action import KEPT, MANUAL, NOTHING_TO_UNDO, TO_DO, UNKNOWN, UNREADABLE, Action
from kleff.objects.base.here import Here
from kleff.objects.base.holders import UNTOLD, Holder
from kleff.objects.base.kind import much
from kleff.objects.base.known import kind_of
from kleff.report.lines import Page, Tone
from kleff.texts import plural, size
from kleff.workstation.identity import shown

Urgent = tuple[tuple[str, ...], Tone]  # pieces of one line; a path is one of its own, so that it can be shortened

LISTED = 5  # of each sort; the rest is counted


def urgent(here: Here, plan: Plan, brief: bool) -> Iterator[Urgent]:
    """What must not be overlooked, the worst first.

    Args:
        brief: of each sort only so many that they are read; and what lies inside of what goes and stays.
    """
    if here.options.accounts:
        yield ("ONLY FOR ", ", ".join(sorted(here.options.accounts)), f": {plural(len(left_out(here)), 'account')} left out"), "warn"
    if not here.present:
        yield (f"NOTHING SHOWS IT: no evidence of {here.procedure.product.name} was found here{_only_others(here)}",), "bad"
    sorts = [_refused(plan), _by_hand(plan), _rescued(plan)]
    if brief:
        sorts += [_not_seen(plan), _inside(plan, here), _held(here, plan), _offered(plan)]
    for lines in sorts:
        found = list(lines)
        yield from found[:LISTED] if brief else found
        if brief and len(found) > LISTED:
            yield (f"... and {len(found) - LISTED} more of these; --full shows all",), found[0][1]


def _refused(plan: Plan) -> Iterator[Urgent]:
    for action in plan.refused:
        yield ("REFUSED: ", action.target, f": {action.reason} (line {action.line})"), "bad"
    for action in plan.not_ready:
        yield ("NOT READY: ", action.target, f": {action.reason} (line {action.line})"), "bad"


def _by_hand(plan: Plan) -> Iterator[Urgent]:
    for action in (a for a in plan.actions if a.state == MANUAL and not a.optional):
        if action.phase in REMOVING:
            then = f": {action.reason}; the run stops there, and goes on with  kleff resume"
            yield ("BY HAND IN BETWEEN: ", action.target, then), "warn"
        elif action.phase == "before":
            yield ("BY HAND FIRST: ", action.target, f" (line {action.line})"), "warn"


def _rescued(plan: Plan) -> Iterator[Urgent]:
    for action in (a for a in plan.actions if a.phase == "rescue"):
        if action.state != TO_DO:
            yield (f"CANNOT BE RESCUED: {plural(action.items, 'file')} of {action.account}, see  --full",), "bad"
        else:
            what = f"{plural(action.items, 'file')} of {action.account}, {size(action.size)}"
            yield (f"RESCUED FIRST: {what}, to ", action.target), "warn"


def _not_seen(plan: Plan) -> Iterator[Urgent]:
    first = next((a for a in plan.actions if a.number == plan.no_return), None)
    if first is not None:
        yield ("CANNOT BE TAKEN BACK from here on: ", first.target, f" (action {first.number}, line {first.line})"), "warn"
    for action in (a for a in plan.actions if a.state in (UNREADABLE, UNKNOWN) and a not in plan.refused and a not in plan.not_ready):
        word = "COULD NOT BE LOOKED AT" if action.state == UNREADABLE else "COULD NOT BE LOOKED FOR"
        yield (f"{word}: ", action.target, f"{_of(action)}: {action.reason} (line {action.line})"), "bad"


def _inside(plan: Plan, here: Here) -> Iterator[Urgent]:
    style = here.workstation.style
    for action in plan.actions:
        if action.state == KEPT and action.not_clean:
            yield ("STAYS, AND IS NOT CLEAN THEN: ", action.target, f"{_of(action)}: {action.reason} (line {action.line})"), "warn"
        if action.state != TO_DO:
            continue
        if action.synced:
            yield ("GOES ELSEWHERE TOO: ", action.target, f"{_of(action)}: {action.synced} keeps it in step"), "warn"
        if action.stays:
            first, more = action.stays[0], len(action.stays) - 1
            others = f", and {more} more" if more else ""
            yield ("STAYS INSIDE: ", shown(first.what, style), f"{others}: {first.reason}"), "warn"


def _held(here: Here, plan: Plan) -> Iterator[Urgent]:
    for line in plan.silent:
        yield (f"{UNTOLD} ", line, ": it gives no answer"), "warn"
    for holder in (h for h in plan.holders if not h.stopped):
        yield ("OPEN NOW: ", holder.path, f", by {holder.line}; {how_stopped(here, holder)}"), "warn"


def _offered(plan: Plan) -> Iterator[Urgent]:
    for action in (a for a in plan.actions if a.offers and a.state == KEPT):
        yield (f"STAY: {action.offers}; {action.reason}",), "warn"


def _of(action: Action) -> str:
    return f" [{action.account}]" if action.account else ""


def _only_others(here: Here) -> str:
    """Other versions are here, and are not what the procedure is for."""
    return f", in the versions it touches ({here.procedure.product.versions})" if here.procedure.product.versions else ""


def how_stopped(here: Here, holder: Holder) -> str:
    """Who sees to a program that holds something open."""
    if holder.stopped:
        return "stopped by a step"
    how = f"no step stops it;  --stop-holder {holder.name}  does" if holder.may_be_stopped else "the system's own; it is not ended"
    waits = here.workstation.renames is not None and here.procedure.product.restart != "never"
    return how + (", what it lets nobody move goes at the restart" if waits else "")


def tell_choice(page: Page, choice: Choice) -> None:
    """A question, its answer, and what another one would change."""
    how = "" if choice.given else f"   (the procedure's own; change it with  --answer {choice.id}=...)"
    page.row((f"  {choice.question}  ", "plain"), (choice.answer, "head"), (how, "dim"))
    for other in choice.others:
        changes = [f"{plural(n, 'action')} {word} ({size(much)})" for n, word, much in
                   ((other.more, "more", other.more_size), (other.fewer, "fewer", other.fewer_size)) if n]  # fmt: skip
        page.add(f"     with {other.answer}: {', '.join(changes) or 'the same'}", "dim")


def amount(action: Action) -> str:
    """How much an action is about, for people."""
    if not action.items or action.state not in (TO_DO, "manual"):
        return ""
    return much(kind_of(action.kind), action.phase, action.items, size(action.size))


def totals_lines(plan: Plan, brief: bool = False) -> list[str]:
    """The sums; `brief` without what is told above them."""
    totals = plan.totals
    lines = [f"{plural(totals.to_do, 'action')} to do"]
    not_here = [f"{plural(len(plan.elsewhere), 'step')} for another system: line {', '.join(map(str, plan.elsewhere))}"]
    others = [
        f"{count} {word}"
        for count, word in (
            (totals.absent, "absent"),
            (totals.kept, "kept"),
            (totals.manual, "by hand"),
            (totals.unreadable, "unreadable"),
            (totals.unknown, "unknown"),
            (totals.skipped, "left out"),
        )
        if count
    ]
    lines[0] += f" ({', '.join(others)})" if others else ""
    lines += not_here if plan.elsewhere else []
    if totals.saved_items:
        exports = any(a.phase == "backup" and a.state == TO_DO and not a.size and kind_of(a.kind).exports for a in plan.actions)
        saved = f"{plural(totals.saved_items, 'item')}, {size(totals.saved_size)}{', and exports' if exports else ''}"
        lines.append(f"saved first: {saved}")
    if totals.rescued_items and not brief:
        lines.append(f"rescued to where people will find it: {plural(totals.rescued_items, 'file')}, {size(totals.rescued_size)}")
    if totals.aside_items:
        lines.append(f"set aside: {plural(totals.aside_items, 'item')}, {size(totals.aside_size)}; freed by discard, not before")
    if totals.keys or totals.values:
        lines.append(f"registry: {plural(totals.keys, 'key')}, {plural(totals.values, 'single value')}, exported first")
    lines += _taken_back_lines(plan)
    if plan.not_ready:
        lines.append(f"{plural(len(plan.not_ready), 'condition')} not met: nothing will be done until then")
    if plan.refused:
        lines.append(f"{len(plan.refused)} refused: nothing will be done until the procedure is corrected")
    return lines


def _taken_back_lines(plan: Plan) -> list[str]:
    """What undo can do about it, and what it cannot."""
    going = [a for a in plan.actions if a.state == TO_DO and a.phase in ("stop", *REMOVING)]
    ended = sum(a.items for a in going if a.ends)
    lines = [f"{plural(ended, 'program')} {'is' if ended == 1 else 'are'} ended and not started again by undo"] if ended else []
    last_ones = [a for a in plan.actions if a.without_return and a.state == TO_DO]
    if plan.no_return:
        lines.append(f"line of no return before action {plan.no_return}: {plural(len(last_ones), 'action')} cannot be taken back")
    elif any(a.undo != NOTHING_TO_UNDO and not a.ends for a in going):
        lines.append(f"everything{' else' if ended else ''} can be taken back until it is discarded")
    return lines
