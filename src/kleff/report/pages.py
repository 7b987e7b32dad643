"""Survey, preview and verification as pages for people."""

from __future__ import annotations

import json

from kleff.engine.finding import LEFT, NOT_DONE, NOT_KNOWN, NOT_READ, STAYS, Finding, Verification
from kleff.engine.survey import Survey
from kleff.objects.base.action import Sighting
from kleff.procedure.globs import escaped
from kleff.procedure.loaded import Procedure
from kleff.procedure.variables import escaped_key
from kleff.report.lines import Page
from kleff.texts import plural
from kleff.workstation.facets import Workstation
from kleff.workstation.identity import KeyId


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
    if sighting.facts:
        page.add(f"           {sighting.facts}", "dim")


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
        page.row((f"{name} is gone{result.whose}", "good"), (f" from {where}: {looked}, nothing is left", "plain"))
    elif result.clean:
        page.row(
            (f"{name} is not gone{result.whose}, as was wanted", "good"),
            (f": {looked} on {where}, only what is kept on purpose is there", "plain"),
        )
    else:
        page.row((f"{name} is not gone{result.whose}", "bad"), (f" from {where}", "plain"))
    if result.accounts:
        page.add(f"  {not_looked_at(result.left_out)}", "dim")
    if result.case:
        page.add(f"  answers, and what was there before: from the case {result.case}", "dim")
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
    steps = offered(result)
    if steps:
        page.head("As steps for the procedure, if it is the product's")
        for line in steps:
            page.add(f"  {line}")
    return page


def offered(result: Verification) -> list[str]:
    """What is left and no step names, as steps that would delete it."""
    found = [f for f in result.of(LEFT) if not f.line and f.phase == "delete"]
    paths = [literal(escaped(f.target)) for f in found if f.kind == "paths"]
    keys = [i.key for f in found for i in f.about if isinstance(i, KeyId) and i.key.hive != "HKU"]
    steps = ["[[delete]]", f"paths = [{', '.join(paths)}]"] if paths else []
    for key in keys:
        text = literal(escaped_key(f"{key.hive}\\{key.path}"))
        steps += ["[[delete]]", f"key = {text}"]
    return steps


def literal(text: str) -> str:
    """A text as a procedure holds it: as it is, where that can be (https://toml.io/en/v1.0.0, Literal strings)."""
    return json.dumps(text, ensure_ascii=False) if "'" in text or not text.isprintable() else f"'{text}'"


def not_looked_at(others: int) -> str:
    """That some accounts are left out."""
    return f"{plural(others, 'account')} {'was' if others == 1 else 'were'} not looked at"


def finding_line(finding: Finding) -> str:
    who = f" [{finding.account}]" if finding.account else ""
    reason = f": {finding.reason}" if finding.reason else ""
    line = f" (line {finding.line})" if finding.line else ""
    return f"{finding.target}{who}{reason}{line}"
