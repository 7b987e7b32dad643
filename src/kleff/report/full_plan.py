"""A plan with every action, in order."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import groupby

from kleff.engine.choices import Choice
from kleff.engine.plan import Plan
from kleff.errors import UsageError
from kleff.objects.base.action import NOTHING_TO_UNDO, TO_DO, Action
from kleff.objects.base.here import Here
from kleff.objects.base.holders import UNTOLD
from kleff.procedure.globs import PathStyle
from kleff.report.lines import STATE_TONES, Page
from kleff.report.pages import workstation_line
from kleff.report.plan_parts import amount, how_stopped, tell_choice, totals_lines, urgent
from kleff.workstation.identity import shown

PHASES = {
    "before": "Before anything is done",
    "backup": "Save",
    "stop": "Stop",
    "drivers": "Save what describes the drivers that go",
    "holders": "End what holds files open",
    "rescue": "Rescue: people's own documents inside places that will be deleted",
    "uninstall": "Uninstall",
    "purge": "Purge packages",
    "delete": "Delete (set aside first)",
    "verify": "Look for in the end",
    "after": "Afterwards",
}


def full_plan(here: Here, plan: Plan, asked: list[Choice] | None = None, wanted: Callable[[Action], bool] | None = None) -> Page:
    """Every action, in order; what needs the technician first.

    Args:
        wanted: show these actions alone.
    """
    page = Page()
    page.row((f"What will be done: {here.procedure.product.name}", "head"), (f" on {workstation_line(here.workstation)}", "plain"))
    if wanted is None:
        _before(page, here, plan, asked or [])
    actions = [a for a in plan.actions if wanted is None or wanted(a)]
    for phase, in_phase in groupby(actions, key=lambda a: a.phase):
        page.head(PHASES[phase])
        of_phase = list(in_phase)
        width = min(max(len(a.target) for a in of_phase), 72)
        for _, of_step in groupby(of_phase, key=lambda a: (a.step, a.label)):
            _step(page, list(of_step), plan, width, here.workstation.style)
    if wanted is None:
        page.head("In all")
        for line in totals_lines(plan):
            page.add(f"  {line}")
    elif not actions:
        page.add("  no action is so", "dim")
    return page


def chooser(plan: Plan, labels: Sequence[str], lines: Sequence[int], states: Sequence[str]) -> Callable[[Action], bool]:
    """Which actions are asked for: of any of the labels, any of the lines, any of the states.

    Raises:
        UsageError: there is no such label, line or state; those that there are are listed.
    """
    known: list[tuple[str, Sequence[object], Sequence[object]]] = [
        ("label", labels, sorted({a.label for a in plan.actions if a.label})),
        ("line", lines, sorted({a.line for a in plan.actions if a.line})),
        ("state", states, sorted({a.state for a in plan.actions})),
    ]
    for option, wanted, there in known:
        for one in wanted:
            if one not in there:
                listed = ", ".join(map(str, there)) or "none"
                raise UsageError(f"no step or action has the {option} {one!r}", remedy=f"those of this plan are: {listed}")
    return lambda a: (not labels or a.label in labels) and (not lines or a.line in lines) and (not states or a.state in states)


def _before(page: Page, here: Here, plan: Plan, asked: list[Choice]) -> None:
    for pieces, tone in urgent(here, plan, brief=False):
        page.add(f"  {''.join(pieces)}", tone)
    if asked:
        page.head("Choices")
        for choice in asked:
            tell_choice(page, choice)
    if plan.holders or plan.silent:
        page.head("Open now")
        for line in plan.silent:
            page.add(f"  {UNTOLD} {line}: it gives no answer", "warn")
        for holder in plan.holders:
            page.row((f"  {holder.path}", "plain"), (f"   {how_stopped(here, holder)}", "dim" if holder.stopped else "warn"))
            page.add(f"      {holder.line}", "dim")


def _step(page: Page, actions: list[Action], plan: Plan, width: int, style: PathStyle) -> None:
    first = actions[0]
    by_line = first.because == f"the step at line {first.line}"
    because = f"   because of line {first.line}" if by_line else f"   because {first.because}"
    back = sorted({a.undo for a in actions if a.state == TO_DO and a.undo != NOTHING_TO_UNDO})
    undo = f"; undo: {', '.join(back)}" if back else ""
    page.row((f"  {first.label or first.verb}", "plain"), (f"{because}{undo}", "dim"))
    who = max(len(a.account) for a in actions)
    for action in actions:
        if action.number == plan.no_return:
            page.add("  ---- line of no return: what is marked ! cannot be taken back ----", "warn")
        _action(page, action, width, who, style)


def _action(page: Page, action: Action, width: int, who: int, style: PathStyle) -> None:
    mark = "!" if action.without_return and action.state == TO_DO else " "
    tone = STATE_TONES[action.state]
    beside = action.reason if len(action.reason) <= 60 else ""
    page.row(
        (f"  {mark}{action.number:>3}  ", "warn" if mark == "!" else "dim"),
        (f"{action.state:<10} ", tone),
        (f"{action.target:<{width}}", "dim" if action.state == "absent" else "plain"),
        (f"  {action.account:<{who}}" if who else "", "dim"),
        (f"  {amount(action)}" if amount(action) else "", "plain"),
        (f"  {beside}" if beside else "", "dim" if action.state == "absent" else tone),
    )
    if action.reason and not beside:
        page.add(f"                   {action.reason}", tone)
    for inside in action.stays:
        page.add(f"                  stays: {shown(inside.what, style)}: {inside.reason}", "warn")
    for line in action.shows:
        page.add(f"                   {line}", "dim")
