"""Commands about cases: cases and report."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from kleff.cli.options import CaseArgument, CasesOption, JsonOption


class Format(StrEnum):
    text = "text"
    markdown = "markdown"
    json = "json"
    html = "html"


def cases(
    cases: CasesOption = None,
    older_than: Annotated[
        str, typer.Option("--older-than", metavar="TIME", help="Only cases that ended longer ago, such as 90d.", show_default=False)
    ] = "",
    json: JsonOption = False,
) -> None:
    """What was done: every case, newest last, and what it still holds."""
    from kleff.case.record.folder import all_cases, open_case
    from kleff.cli.common import default_cases
    from kleff.cli.settings import duration, read_settings
    from kleff.cli.terminal.show import show
    from kleff.errors import KleffError
    from kleff.report.case_facts import age, case_info
    from kleff.report.documents import CasesDocument, DamagedInfo, encode
    from kleff.report.summary import cases_page

    folder = cases or default_cases()
    least, due = duration(older_than, "--older-than"), read_settings().discard_after_seconds
    good, damaged = [], []
    for path in all_cases(folder):
        try:
            with open_case(path) as case:
                if not least or (age(case) or 0) >= least:
                    good.append(case_info(case, due))
        except KleffError as error:
            damaged.append(DamagedInfo(folder=str(path), error=str(error).splitlines()[0]))
    good.sort(key=lambda info: info.made)
    document = CasesDocument(kleff="cases", folder=str(folder), cases=good, damaged=damaged)
    if json:
        print(encode(document))
    else:
        show(cases_page(document))


def report(
    case: CaseArgument,
    format: Annotated[Format, typer.Option("--format", help="How it is written.")] = Format.text,
    output: Annotated[Path | None, typer.Option("--output", metavar="FILE", help="Write to a new file.", show_default=False)] = None,
    json: JsonOption = False,
    cases: CasesOption = None,
) -> None:
    """A report of a case, for the ticket."""
    from kleff.case.record.folder import find_case, open_case
    from kleff.cli.common import default_cases
    from kleff.cli.terminal.show import show
    from kleff.errors import Refused
    from kleff.report.case_report import report_document, report_markdown, report_page
    from kleff.report.documents import encode
    from kleff.report.web import report_html

    with open_case(find_case(case, cases or default_cases())) as opened:
        if json or format == Format.json:
            text = encode(report_document(opened))
        elif format == Format.html:
            text = report_html(opened)
        elif format == Format.markdown:
            text = report_markdown(opened)
        elif output is None:
            show(report_page(opened))
            return
        else:
            text = report_page(opened).text()
    if output is None:
        print(text)
        return
    try:
        output.touch(0o600, exist_ok=False)  # it names people's files; it is the technician's to hand on
        try:
            with output.open("w", encoding="utf-8", errors="backslashreplace") as file:
                file.write(text + "\n")
        except OSError:
            output.unlink()  # half a report
            raise
    except FileExistsError:
        raise Refused("the file is there already; reports never overwrite", where=str(output), remedy="name another file") from None
