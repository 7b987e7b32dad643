"""What a restore would do and has done, as pages for people and as a document."""

from __future__ import annotations

from itertools import groupby

from kleff.case.record.folder import Case
from kleff.engine.cases.run import Ended
from kleff.engine.plan import Plan
from kleff.objects.base.action import ABSENT, DONE, FAILED, KEPT, MANUAL, TO_DO, Action
from kleff.objects.base.kind import much
from kleff.objects.base.known import kind_of
from kleff.objects.base.restoring import Restoring
from kleff.report.documents import RestoreDocument
from kleff.report.lines import STATE_TONES, Page
from kleff.report.making import action_info, product_info, workstation_info
from kleff.report.pages import workstation_line
from kleff.texts import plural, seconds, size


def restore_document(restoring: Restoring, plan: Plan) -> RestoreDocument:
    """`kleff restore --dry-run --json`"""
    workstation = restoring.here.workstation
    return RestoreDocument(
        kleff="restore", workstation=workstation_info(workstation), product=product_info(restoring.here.procedure),
        bag=str(restoring.bag.folder),
        saved_on=restoring.bag.info.get("External-Description", ""), actions=[action_info(a, workstation) for a in plan.actions],
        no_return=plan.no_return, refused=bool(plan.refused),
    )  # fmt: skip


def restore_page(restoring: Restoring, plan: Plan) -> Page:
    """Every item of the bag, and where it goes."""
    page = Page()
    page.row(
        (f"What will be put back: {restoring.here.procedure.product.name}", "head"),
        (f" on {workstation_line(restoring.here.workstation)}", "plain"),
    )
    page.add(f"  from the bag {restoring.bag.folder!s}, verified; {restoring.bag.info.get('External-Description', '')}", "dim")
    for action in plan.refused:
        page.add(f"  REFUSED: {action.target}: {action.reason}", "bad")
    for label, in_label in groupby(plan.actions, key=lambda a: a.label):
        actions = list(in_label)
        page.head(label or "without a label")
        width = min(max(len(a.target) for a in actions), 72)
        who = max(len(a.account) for a in actions)
        for action in actions:
            if action.number == plan.no_return:
                page.add("  ---- line of no return: what is marked ! cannot be taken back ----", "warn")
            mark = "!" if action.without_return and action.state == TO_DO else " "
            beside = action.reason if len(action.reason) <= 60 else ""
            page.row(
                (f"  {mark}{action.number:>3}  ", "warn" if mark == "!" else "dim"),
                (f"{_word(action):<8} ", STATE_TONES[action.state]),
                (f"{action.target:<{width}}", "plain"),
                (f"  {action.account:<{who}}" if who else "", "dim"),
                (f"  {_amount(action)}" if action.state == TO_DO else "", "plain"),
                (f"  {beside}" if beside else "", STATE_TONES[action.state]),
            )
            if action.reason and not beside:
                page.add(f"                 {action.reason}", STATE_TONES[action.state])
            for number, line in enumerate(action.shows):
                page.add(f"                 {line}", "warn" if number in action.standing else "dim")
    page.head("In all")
    todo = [a for a in plan.actions if a.state == TO_DO]
    files = sum(a.items for a in todo if _sized(a))
    page.add(f"  {plural(len(todo), 'action')} to do: {plural(files, 'file')}, {size(sum(a.size for a in todo))}")
    if any(a.state == KEPT or a.standing for a in plan.actions):
        page.add("  what is there already stays as it is; --replace sets it aside first", "warn")
    page.add(
        "  everything can be taken back"
        if not plan.no_return
        else f"  from action {plan.no_return} on, what is marked ! cannot be taken back"
    )
    return page


def _word(action: Action) -> str:
    """The state of an action; nothing to do here means that it is there already."""
    return action.state_word or ("in place" if action.state == ABSENT else action.state)


def _amount(action: Action) -> str:
    return much(kind_of(action.kind), action.phase, action.items, size(action.size))


def restored_page(case: Case, ended: Ended) -> Page:
    """What a restore came to."""
    page = Page()
    done = [r for r in ended.rows if r.state == DONE]
    files = sum(r.items for r in done if _sized(r.action))
    if ended.clean:
        page.row(("Put back, and compared with the bag", "good"), (f" on {case.text('host')}", "plain"))
    else:
        page.row(("Not all of it is in place", "bad"), (f" on {case.text('host')}", "plain"))
    for finding in ended.verification.findings:
        page.add(f"  {finding.target}", "bad")
    page.row(("  files      ", "dim"), (f"{files}, {size(sum(r.size for r in done if _sized(r.action)))}", "plain"))
    keys = sum(r.items for r in done if kind_of(r.action.kind).words("restore").noun[0] and not _sized(r.action))
    if keys:
        page.row(("  registry   ", "dim"), (plural(keys, "key or value", "keys and values"), "plain"))
    for row in (r for r in done if kind_of(r.action.kind).exports):
        page.row(("  taken in   ", "dim"), (f"{row.action.target}{': ' + row.note if row.note else ''}", "plain"))
    for row in (r for r in ended.rows if r.state in (KEPT, MANUAL, FAILED)):
        page.row((f"  {row.state:<10} ", "warn"), (f"{row.action.target}: {row.note or row.action.reason}", "plain"))
    page.row(("  time       ", "dim"), (seconds(ended.elapsed), "plain"))
    page.add("")
    for command in (f"kleff report {case.folder}", f"kleff undo {case.folder}"):
        page.row(("  next: ", "dim"), (command, "plain"))
    return page


def _sized(action: Action) -> bool:
    """Whether it is about files, counted with their bytes."""
    return kind_of(action.kind).words(action.phase).sized
