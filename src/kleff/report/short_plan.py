"""A plan that a tired person can read: what needs her first, then one line a step, then the sums."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import groupby

from kleff.engine.choices import Choice
from kleff.engine.plan import Plan
from kleff.objects.base.action import ABSENT, DONE, KEPT, MANUAL, REFUSED, SKIPPED, TO_DO, Action
from kleff.objects.base.here import Here
from kleff.objects.base.kind import much
from kleff.objects.base.known import kind_of
from kleff.report.lines import Page, Tone, shortened
from kleff.report.plan_parts import totals_lines, urgent
from kleff.texts import plural, size
from kleff.workstation.identity import NameId

WORDS = {
    "backup": "Save", "stop": "Stop", "holders": "End", "drivers": "Save", "uninstall": "Uninstall", "purge": "Purge", "delete": "Delete",
    "after": "After",
}  # fmt: skip
WIDTH = 100  # columns
NARROW = 80  # below it there is no room for how many accounts and items
NAMED = 3  # things of one action that are named; of more, how many they are
LABEL = 28  # letters of the column of labels, at most


def short_plan(here: Here, plan: Plan, asked: list[Choice] | None = None, width: int = WIDTH) -> Page:
    """One line for each step of a plan.

    Args:
        width: columns that a line may have.
    """
    page = Page(narrow=True)
    workstation = here.workstation
    page.row((f"What will be done: {here.procedure.product.name}", "head"), (f" on {workstation.name} ({workstation.spec})", "plain"))
    for pieces, tone in urgent(here, plan, brief=True):
        page.row(("  ", tone), *((text, tone) for text in pieces))
    for choice in asked or []:
        _choice(page, choice)
    page.add()
    _ready(page, plan)
    before = ""
    for step in _steps(plan):
        phase = step[0].phase
        for part in _told_apart(step):
            _step(page, part, WORDS[phase] if phase != before else "", plan, width)
            before = phase
    _rest(page, plan)
    page.add()
    for line in totals_lines(plan, brief=True):
        page.add(f"  {line}")
    page.add("  more:  --full, --line N, --label NAME, --state WORD", "dim")
    return page


def _choice(page: Page, choice: Choice) -> None:
    """A question with its answer; what another answer would change stands in the full plan."""
    how = "" if choice.given else f"   --answer {choice.id}=..."
    page.row(("  ASKED: ", "plain"), (choice.question, "plain"), (f"  {choice.answer}", "head"), (how, "dim"))


def _steps(plan: Plan) -> Iterator[list[Action]]:
    """The actions of each step of which something is here."""
    for _, found in groupby(plan.actions, key=lambda a: (a.phase, a.step, a.label)):
        actions = [a for a in found if a.state != ABSENT]
        if actions and actions[0].phase in WORDS:
            yield actions


def _told_apart(step: list[Action]) -> list[list[Action]]:
    """What must be read before it is agreed on stands each for itself; all else of a step together."""
    return [[a] for a in step if a.brief] + [rest for rest in [[a for a in step if not a.brief]] if rest]


def _ready(page: Page, plan: Plan) -> None:
    met = [a for a in plan.actions if a.phase == "before" and a.state in (DONE, SKIPPED)]
    if met:
        page.row((_beside("Ready"), "dim"), (", ".join(a.target.rstrip(".") for a in met), "plain"))


def _step(page: Page, actions: list[Action], word: str, plan: Plan, width: int) -> None:
    """Phase, line, what, where, how much; what is not simply to do stands at the end."""
    going = [a for a in actions if a.state == TO_DO]
    first = (going or actions)[0]
    label, column, narrow = first.label, min(LABEL, width * 28 // 100), width < NARROW
    mark = "!" if plan.no_return and any(a.without_return for a in going) else " "
    where = _where(going or actions, narrow) if going or len(actions) == 1 or not label else ""
    told: list[tuple[str, Tone]] = [(where, "plain" if going else "dim"), *_amounts(going, narrow), *_others(actions, bool(going))]
    told += [(first.brief, "dim")] if first.brief and going else []
    page.row(
        (f"  {word:<10}", "head"),
        (f"{mark}{first.line or '':>4}  ", "warn" if mark == "!" else "dim"),
        (f"{shortened(label, column):<{column}}  " if label else "", "plain"),
        *_apart([piece for piece in told if piece[0]]),
    )


def _apart(pieces: list[tuple[str, Tone]]) -> list[tuple[str, Tone]]:
    return [(f"{'   ' if n else ''}{text}", tone) for n, (text, tone) in enumerate(pieces)]


def _where(actions: Sequence[Action], narrow: bool) -> str:
    """One thing by its name, several by how many they are, and of how many accounts."""
    if len(actions) == 1:
        things = [i.name for i in actions[0].about if isinstance(i, NameId)]
        if len(things) > NAMED:
            return f"{', '.join(things[:NAMED])} and {len(things) - NAMED} more"
        return actions[0].target + (f" [{actions[0].account}]" if actions[0].account else "")
    accounts = {a.account for a in actions if a.account}
    names = list(dict.fromkeys(a.target for a in actions))
    if actions[0].phase in ("stop", "uninstall", "purge") and not accounts:
        return f"{names[0]}, and {len(actions) - 1} more"
    of = f" of {plural(len(accounts), 'account')}" if accounts and not narrow else ""
    return f"{plural(len(actions), 'place')}{of}"


def _amounts(going: list[Action], narrow: bool) -> list[tuple[str, Tone]]:
    items, total = sum(a.items for a in going), sum(a.size for a in going)
    told = much(kind_of(going[0].kind), going[0].phase, items, size(total)) if going else ""
    if narrow and ", " in told:
        told = told.partition(", ")[2]
    return [(told, "plain")] if told else []


def _others(actions: list[Action], besides: bool) -> list[tuple[str, Tone]]:
    """Of each other state how many, and why if there is one reason."""
    found: list[tuple[str, Tone]] = []
    tones: dict[str, Tone] = {KEPT: "dim", MANUAL: "warn", REFUSED: "bad", SKIPPED: "warn"}
    for state in dict.fromkeys(a.state for a in actions if a.state != TO_DO):
        of_it = [a for a in actions if a.state == state]
        reasons = {a.reason for a in of_it}
        why = f": {of_it[0].reason}" if len(reasons) == 1 and of_it[0].reason else ""
        count = f"{len(of_it)} " if besides or len(of_it) > 1 else ""
        found.append((f"{count}{'by hand' if state == MANUAL else state}{why}", tones.get(state, "bad")))
    return found


def _rest(page: Page, plan: Plan) -> None:
    absent = [a for a in plan.actions if a.state == ABSENT and a.phase in WORDS]
    looked_for = [a for a in plan.actions if a.phase == "verify"]
    if absent:
        lines = sorted({a.line for a in absent if a.line})
        page.row((_beside("Not here"), "dim"), (f"{plural(len(absent), 'place')} ({_lines(lines)})", "dim"))
    if looked_for:
        lines = sorted({a.line for a in looked_for})
        page.row((_beside("In the end"), "dim"), (f"{plural(len(looked_for), 'thing')} must not be there ({_lines(lines)})", "dim"))


def _beside(word: str) -> str:
    """What stands where steps have their phase and line."""
    return f"  {word:<10}{'':7}"


def _lines(lines: list[int]) -> str:
    listed = ", ".join(map(str, lines[:8]))
    return f"{'line' if len(lines) == 1 else 'lines'} {listed}{' ...' if len(lines) > 8 else ''}"
