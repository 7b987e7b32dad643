"""A case as a document, as text for people, and as Markdown for the ticket."""

from __future__ import annotations

from kleff.case.effects.base import effect_of
from kleff.case.record.folder import Case
from kleff.engine.cases.judging import verification_of
from kleff.engine.cases.rows import Row, rows
from kleff.procedure.globs import PathStyle
from kleff.report.case_facts import case_info, elapsed, facts, result_line, style_of
from kleff.report.documents import DoneInfo, EffectInfo, EventInfo, ReportDocument
from kleff.report.lines import Page
from kleff.report.making import finding_info, thing_info
from kleff.report.sections import sections
from kleff.texts import plain, seconds
from kleff.workstation.things import without_commands


def report_document(case: Case) -> ReportDocument:
    """The whole case."""
    result = verification_of(case)
    style = style_of(case)
    return ReportDocument(
        kleff="report",
        case=case_info(case),
        procedure=case.text("procedure_name"),
        elapsed=elapsed(case),
        actions=[_done(row, style) for row in rows(case)],
        effects=[
            EffectInfo(
                number=e.id,
                action=e.action,
                kind=e.kind,
                what=effect_of(e).what(e, style),
                state=e.state,
                note=without_commands(e.note),
                at=e.at,
            )
            for e in case.journal.effects()
        ],
        clean=None if result is None else result.clean,
        findings=[] if result is None else [finding_info(f, style) for f in result.findings],
        events=[EventInfo(at=at, text=without_commands(text)) for at, text in case.journal.events()],
    )


def _done(row: Row, style: PathStyle) -> DoneInfo:
    action = row.action
    return DoneInfo(
        number=action.number, phase=action.phase, line=action.line, label=action.label, verb=action.verb, target=action.target,
        path_b64=action.exact_path(style), about=[thing_info(i, style) for i in action.about], account=action.account,
        state=row.state, note=row.note, items=row.items, size=row.size,
    )  # fmt: skip


def report_page(case: Case) -> Page:
    """The report as lines."""
    page, info, found, result = Page(), case_info(case), rows(case), verification_of(case)
    page.row((f"Case {info.id}: ", "head"), (result_line(case, result, found), "good" if result and result.clean else "warn"))
    for name, value in {**facts(case), "Worked": seconds(elapsed(case))}.items():
        page.row((f"  {name.lower():<12} ", "dim"), (value, "plain"))
    for title, lines in sections(case, found, result):
        page.head(title)
        for text, tone in lines:
            page.add(f"  {text}", tone)  # type: ignore[arg-type]
    if info.next:
        page.head("What can follow")
        for command in info.next:
            page.add(f"  {command}")
    return page


def report_markdown(case: Case) -> str:
    """The report as CommonMark; whatever comes from the workstation stands in code spans."""
    info, found, result = case_info(case), rows(case), verification_of(case)
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
