"""Packages that nothing needs, for people and as JSON."""

from __future__ import annotations

from collections.abc import Sequence

from kleff.report.documents import UnneededDocument
from kleff.report.lines import Page
from kleff.report.making import workstation_info
from kleff.report.pages import workstation_line
from kleff.search.unneeded import CONFIGURATION, LIBRARY, UnneededPackage
from kleff.texts import plural, size
from kleff.workstation.facets import Workstation


def unneeded_document(workstation: Workstation, found: Sequence[UnneededPackage], everything: bool) -> UnneededDocument:
    """`kleff unneeded --json`"""
    total = sum(p.size for p in found)
    return UnneededDocument(
        kleff="unneeded", workstation=workstation_info(workstation), everything=everything, packages=list(found), size=total
    )


def unneeded_page(workstation: Workstation, found: Sequence[UnneededPackage], everything: bool) -> Page:
    """A row for each: number, name, size, since when, for what."""
    page = Page(narrow=True)
    page.row(("Packages that nothing needs", "head"), (f" on {workstation_line(workstation)}", "plain"))
    if everything:
        page.add("  all that the package manager would remove by itself: programs that somebody uses may be among them", "warn")
    if not found:
        page.add("  none", "dim")
        return page
    page.add()
    width = max(len(p.name) for p in found)
    for one in found:
        page.row(
            (f"  {one.number:>3}  ", "dim"), (f"{one.name:<{width}}  ", "plain"),
            (f"{size(one.size) if one.size else '':>10}  ", "plain"),
            (f"{one.since[:10]:<10}  ", "dim"), (_what(one), "warn" if one.sort not in (LIBRARY, CONFIGURATION) else "dim"),
        )  # fmt: skip
    page.add()
    page.add(f"  {plural(len(found), 'package')}, {size(sum(p.size for p in found))}")
    page.add("  brought in for others, and nothing needs them; their configuration goes too", "dim")
    on = "" if workstation.spec == "this" else f" --on {workstation.spec}"
    page.add(f"  remove:  kleff unneeded{on} --remove {'1' if len(found) == 1 else '1,3-5,NAME'}", "dim")
    return page


def _what(one: UnneededPackage) -> str:
    if one.sort == CONFIGURATION:
        return one.why
    sort = "" if one.sort == LIBRARY else f"{one.sort.upper()}: "
    return f"{sort}{'for ' + ', '.join(one.brought_by) + '; ' if one.brought_by else ''}{one.title}"
