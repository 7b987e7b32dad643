"""The report of a case as one HTML page, complete in itself; whatever comes from the workstation is escaped."""

from __future__ import annotations

from html import escape

from kleff.case.record.folder import Case
from kleff.engine.cases.judging import verification_of
from kleff.engine.cases.rows import rows
from kleff.report.case_facts import case_info, facts, result_line
from kleff.report.sections import sections
from kleff.texts import plain

STYLE = """
:root { color-scheme: light dark; }
body { font: 16px/1.5 system-ui, sans-serif; max-width: 62rem; margin: 2rem auto; padding: 0 1rem; }
h1 { font-size: 1.5rem; margin-bottom: .2rem; } h2 { font-size: 1.1rem; margin: 1.6rem 0 .3rem; }
.result { font-weight: 600; } .good { color: #2e7d32; } .bad { color: #c62828; } .warn { color: #a15c00; } .dim { opacity: .7; }
@media (prefers-color-scheme: dark) { .good { color: #81c784; } .bad { color: #ef9a9a; } .warn { color: #ffcc80; } }
table { border-collapse: collapse; } th { text-align: left; font-weight: 400; opacity: .7; padding: .1rem 1.5rem .1rem 0;
  vertical-align: top; }
ul { list-style: none; padding: 0; margin: 0; }
li, td, pre { font-family: ui-monospace, monospace; font-size: .85rem; overflow-wrap: anywhere; white-space: pre-wrap; }
li { padding: .1rem 0 .1rem 5ch; text-indent: -5ch; border-bottom: 1px solid color-mix(in srgb, currentColor 12%, transparent); }
"""


def report_html(case: Case) -> str:
    """The report as HTML 5, without scripts and without anything from elsewhere."""
    info, found, result = case_info(case), rows(case), verification_of(case)
    clean = "good" if result is not None and result.clean else "bad" if result is not None else "warn"
    out = [
        "<!doctype html>", '<html lang="en"><head><meta charset="utf-8">',
        '<meta http-equiv="Content-Security-Policy" content="default-src \'none\'; style-src \'unsafe-inline\'">',
        '<meta name="viewport" content="width=device-width, initial-scale=1">',
        f"<title>Case {_text(info.id)}</title><style>{STYLE}</style></head><body>",
        f"<h1>Case {_text(info.id)}</h1>", f'<p class="result {clean}">{_text(result_line(case, result, found))}</p>', "<table>",
        *(f"<tr><th scope=row>{name}</th><td>{_text(value)}</td></tr>" for name, value in facts(case).items()), "</table>",
    ]  # fmt: skip
    for title, lines in sections(case, found, result):
        out += [f"<h2>{_text(title)}</h2>", "<ul>"]
        out += [f'<li class="{tone}">{_text(text.rstrip())}</li>' for text, tone in lines]
        out += ["</ul>"]
    if info.next:
        out += ["<h2>What can follow</h2>", f"<pre>{_text(chr(10).join(info.next))}</pre>"]
    return "\n".join([*out, "</body></html>"])


def _text(text: str) -> str:
    """Line ends are kept only where they are ours; every other control is shown as what it is."""
    return "\n".join(escape(plain(line)) for line in text.split("\n"))
