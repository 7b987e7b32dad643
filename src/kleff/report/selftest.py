"""What a test on a machine that nobody needs has shown."""

from __future__ import annotations

import platform
from collections.abc import Sequence
from itertools import groupby

from kleff import __version__
from kleff.engine.selftest.holding import Tested
from kleff.report.documents import CheckResult, SelftestDocument
from kleff.report.lines import Page
from kleff.texts import plural
from kleff.workstation.facets import Workstation


def selftest_document(workstation: Workstation, tested: Sequence[Tested]) -> SelftestDocument:
    """Nothing in it tells whose machine it is."""
    found = [CheckResult(area=one.area, check=result.name, wrong=result.wrong) for one in tested for result in one.results]
    wrong = sum(bool(result.wrong) for result in found)
    return SelftestDocument(
        kleff="selftest", release=__version__, system=workstation.description, python=platform.python_version(), results=found, wrong=wrong
    )


def selftest_page(document: SelftestDocument) -> Page:
    """A page to send."""
    page = Page()
    page.add(f"Kleff {document.release} on {document.system}, Python {document.python}", "head")
    for area, results in groupby(document.results, lambda one: one.area):
        page.head(area)
        for one in results:
            page.row(("  holds  " if not one.wrong else "  WRONG  ", "good" if not one.wrong else "bad"), (one.check, "plain"))
            if one.wrong:
                page.add(f"         {one.wrong}")
    page.add()
    count = plural(len(document.results), "check")
    page.add(f"{count}: all hold" if not document.wrong else f"{count}: {document.wrong} do not hold", "bad" if document.wrong else "good")
    return page
