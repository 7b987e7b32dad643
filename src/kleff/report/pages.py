"""Survey, preview and verification as pages for people."""

from __future__ import annotations

from itertools import groupby

from kleff.engine.choices import Choice
from kleff.engine.finding import LEFT, NOT_DONE, NOT_KNOWN, NOT_READ, STAYS, Finding, Verification
from kleff.engine.plan import REMOVING, Plan
from kleff.engine.survey import Survey
from kleff.objects.base.action import MANUAL, NOTHING_TO_UNDO, TO_DO, Action, Sighting
from kleff.objects.base.here import Here
from kleff.objects.base.holders import Holder
from kleff.objects.base.kind import kind_of, much
from kleff.procedure.globs import PathStyle
from kleff.procedure.load import Procedure
from kleff.report.lines import STATE_TONES, Page
from kleff.texts import plural, size
from kleff.workstation.facets import Workstation
from kleff.workstation.identity import shown

PHASES = {
    "before": "Before anything is done",
    "backup": "Save",
    "stop": "Stop",
    "holders": "End what holds files open",
    "rescue": "Rescue: people's own documents inside places that will be deleted",
    "uninstall": "Uninstall",
    "purge": "Purge packages",
    "delete": "Delete (set aside first)",
    "verify": "Look for in the end",
    "after": "Afterwards",
}


def workstation_line(workstation: Workstation) -> str:
    return f"{workstation.name}, {workstation.description} ({workstation.spec})"


# -- survey ---------------------------------------------------------------------------------------------------


def survey_page(workstation: Workstation, procedure: Procedure, found: Survey) -> Page:
    """Is it here?"""
    page = Page()
    product = procedure.product
    versions = sorted({s.version for s in found.evidence if s.version})
    name = f"{product.name} {', '.join(versions)}".strip()
    if found.present:
        page.row((name, "head"), (" is on this workstation", "plain"))
    else:
        page.row((product.name, "head"), (" was not found on this workstation", "plain"))
    page.add(f"  {workstation_line(workstation)}", "dim")
    if found.evidence:
        page.head("What shows it")
        for sighting in found.evidence:
            _sighting(page, sighting)
    if found.others:
        page.head(f"Other versions: kept, the procedure touches {product.versions} only")
        for sighting in found.others:
            _sighting(page, sighting)
    if found.unreadable:
        page.head("Could not be looked at")
        for sighting in found.unreadable:
            page.add(f"  {sighting.what}", "bad")
    page.head("Who has files or settings of it")
    page.add(f"  {', '.join(found.accounts) or 'nobody'}")
    page.head("What of it runs now")
    for line in found.running or ["nothing"]:
        page.add(f"  {line}")
    return page


def _sighting(page: Page, sighting: Sighting) -> None:
    version = f" ({sighting.version})" if sighting.version and sighting.version not in sighting.what else ""
    who = f"  [{sighting.account}]" if sighting.account else ""
    page.row((f"  {sighting.kind:<8} ", "dim"), (f"{sighting.what}{version}{who}", "plain"), (f"   (line {sighting.line})", "dim"))
    if sighting.where:
        page.add(f"           {sighting.where}", "dim")


# -- preview --------------------------------------------------------------------------------------------------


def preview_page(here: Here, plan: Plan, asked: list[Choice] | None = None) -> Page:
    """Every action, in order; refusals first."""
    page = Page()
    product = here.procedure.product
    page.row((f"What will be done: {product.name}", "head"), (f" on {workstation_line(here.workstation)}", "plain"))
    if not here.present:
        page.add(f"  NOTHING SHOWS IT: no evidence of {product.name} was found here{_only_others(here)}", "bad")
    for action in plan.refused:
        page.add(f"  REFUSED: {action.target}: {action.reason} (line {action.line})", "bad")
    for action in plan.not_ready:
        page.add(f"  NOT READY: {action.target}: {action.reason} (line {action.line})", "bad")
    for action in (a for a in plan.actions if a.state == MANUAL and a.phase in REMOVING and not a.optional):
        page.add(f"  BY HAND IN BETWEEN: {action.target}: {action.reason}; the run stops there, and goes on with  kleff resume", "warn")
    rescued = [a for a in plan.actions if a.phase == "rescue"]
    for action in rescued:
        if action.state != TO_DO:
            page.add(f"  CANNOT BE RESCUED: {plural(action.items, 'file')} of {action.account}, see below", "bad")
            continue
        page.add(
            f"  RESCUED FIRST: {plural(action.items, 'file')} of {action.account}, {size(action.size)}, copied to {action.target}", "warn"
        )
    if asked:
        page.head("Choices")
        for choice in asked:
            _choice(page, choice)
    if plan.holders:
        page.head("Open now")
        for holder in plan.holders:
            page.row((f"  {holder.path}", "plain"), (f"   {_how_stopped(holder)}", "dim" if holder.stopped else "warn"))
            page.add(f"      {holder.line}", "dim")
    for phase, in_phase in groupby(plan.actions, key=lambda a: a.phase):
        page.head(PHASES[phase])
        actions = list(in_phase)
        width = min(max(len(a.target) for a in actions), 72)
        for _, of_step in groupby(actions, key=lambda a: a.step):
            _step(page, list(of_step), plan, width, here.workstation.style)
    page.head("In all")
    for line in totals_lines(plan):
        page.add(f"  {line}")
    return page


def _only_others(here: Here) -> str:
    """Other versions are here, and are not what the procedure is for."""
    return f", in the versions it touches ({here.procedure.product.versions})" if here.procedure.product.versions else ""


def _how_stopped(holder: Holder) -> str:
    if holder.stopped:
        return "stopped by a step"
    return f"no step stops it;  --stop-holder {holder.name}  does" if holder.may_be_stopped else "the system's own; it is not ended"


def _choice(page: Page, choice: Choice) -> None:
    """A question, its answer, and what another one would change."""
    how = "" if choice.given else f"   (the procedure's own; change it with  --answer {choice.id}=...)"
    page.row((f"  {choice.question}  ", "plain"), (choice.answer, "head"), (how, "dim"))
    for other in choice.others:
        changes = [f"{plural(n, 'action')} {word} ({size(much)})" for n, word, much in
                   ((other.more, "more", other.more_size), (other.fewer, "fewer", other.fewer_size)) if n]  # fmt: skip
        page.add(f"     with {other.answer}: {', '.join(changes) or 'the same'}", "dim")


def _step(page: Page, actions: list[Action], plan: Plan, width: int, style: PathStyle) -> None:
    first = actions[0]
    because = f"   because {first.because}" if first.phase == "rescue" else f"   because of line {first.line}"
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
        page.add(f"                  {action.reason}", tone)
    for inside in action.stays:
        page.add(f"                  stays: {shown(inside.what, style)}: {inside.reason}", "warn")
    for line in action.shows:
        page.add(f"                  {line}", "dim")


def amount(action: Action) -> str:
    """How much an action is about, for people."""
    if not action.items or action.state not in (TO_DO, "manual"):
        return ""
    return much(kind_of(action.kind), action.phase, action.items, size(action.size))


def totals_lines(plan: Plan) -> list[str]:
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
        saved = f"{plural(totals.saved_items, 'item')}, {size(totals.saved_size)}{', and what a command exports' if exports else ''}"
        lines.append(f"saved before anything is removed: {saved}")
    if totals.rescued_items:
        lines.append(f"rescued to where people will find it: {plural(totals.rescued_items, 'file')}, {size(totals.rescued_size)}")
    if totals.aside_items:
        lines.append(
            f"set aside: {plural(totals.aside_items, 'item')}, {size(totals.aside_size)}; the space is freed by discard, not before"
        )
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


# -- verification ---------------------------------------------------------------------------------------------


def verify_page(name: str, where: str, result: Verification) -> Page:
    """Is it gone?"""
    page = Page()
    looked = f"looked at {plural(result.looked, 'place')}"
    if result.saved and result.clean:
        page.row((f"What {name} has is saved", "good"), (f" from {where}; nothing was to be removed", "plain"))
    elif result.saved:
        page.row((f"Not all that {name} has is saved", "bad"), (f" from {where}", "plain"))
    elif result.gone:
        page.row((f"{name} is gone", "good"), (f" from {where}: {looked}, nothing is left", "plain"))
    elif result.clean:
        page.row((f"{name} is not gone, as was wanted", "good"), (f": {looked} on {where}, only what is kept on purpose is there", "plain"))
    else:
        page.row((f"{name} is not gone", "bad"), (f" from {where}", "plain"))
    for text in result.not_known:
        page.add(f"  {text}", "dim")
    titles = {
        LEFT: "Left", NOT_DONE: "Not done", NOT_READ: "Could not be looked at", NOT_KNOWN: "Could not be looked for",
        STAYS: "Kept on purpose",
    }  # fmt: skip
    for state, title in titles.items():
        findings = result.of(state)
        if findings:
            page.head(title)
            for finding in findings:
                page.add(f"  {finding_line(finding)}", "plain" if state == STAYS else "bad")
    return page


def finding_line(finding: Finding) -> str:
    who = f" [{finding.account}]" if finding.account else ""
    reason = f": {finding.reason}" if finding.reason else ""
    line = f" (line {finding.line})" if finding.line else ""
    return f"{finding.target}{who}{reason}{line}"
