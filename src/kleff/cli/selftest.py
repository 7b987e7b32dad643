"""The command that holds Kleff's contracts on a machine that nobody needs."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from kleff.cli.options import JsonOption, OnOption
from kleff.cli.terminal.clock import answered
from kleff.errors import NotClean, Refused, UsageError
from kleff.texts import plural

if TYPE_CHECKING:
    from kleff.workstation.facets import Workstation
    from kleff.workstation.windows.contract.checks import Result


def selftest(
    on: OnOption = None,
    throw_away: Annotated[bool, typer.Option("--throw-away", help="This machine is one that nobody needs.")] = False,
    host_name: Annotated[
        str, typer.Option("--host", metavar="NAME", help="The machine's name, instead of being asked for it.", show_default=False)
    ] = "",
    service: Annotated[
        str, typer.Option("--service", metavar="NAME", help="A service that may be started and stopped, and is left stopped.")
    ] = "W32Time",
    output: Annotated[
        Path | None, typer.Option("--output", metavar="FILE", help="Also write the page to a file.", show_default=False)
    ] = None,
    json: JsonOption = False,
) -> None:
    """Does Kleff do here what it does in its tests? Only for a Windows that nobody needs: makes and deletes things all over it."""
    from kleff.cli.common import default_cases
    from kleff.cli.terminal.show import show
    from kleff.engine.selftest.holding import check_throw_away
    from kleff.engine.selftest.holding import selftest as hold
    from kleff.report.documents import encode
    from kleff.report.selftest import selftest_document, selftest_page
    from kleff.workstation.open import open_workstation

    if on is None or not throw_away:
        raise UsageError(
            "this changes the machine it runs on", remedy="on a machine that nobody needs:  kleff selftest --on this --throw-away"
        )
    workstation = open_workstation(on)
    check_throw_away(workstation, default_cases())
    _agreed(workstation, host_name)
    tested = hold(workstation, service, _told)
    document = selftest_document(workstation, tested)
    page = selftest_page(document)
    if output is not None:
        output.write_text(page.text() + "\n", "utf-8")
    if json:
        print(encode(document))
    else:
        show(page)
    if document.wrong:
        count = len(document.results)
        raise NotClean(f"{document.wrong} of {plural(count, 'check')} do not hold", remedy="send the page to those who make Kleff")


def _agreed(workstation: Workstation, given: str) -> None:
    """Have a person say which machine is meant.

    Raises:
        Refused: the name is another, or nobody gives one.
    """
    if not given and sys.stdin.isatty():
        print("Things will be made, changed and deleted all over this machine.\nWhat is it called? ", end="", file=sys.stderr, flush=True)
        given = answered().strip()
    if given.casefold() != workstation.name.casefold():
        raise Refused("not confirmed: that is not this machine's name", where=given or "no name", remedy="say its name, or  --host NAME")


def _told(area: str, result: Result) -> None:
    """A line for each check, while they are made."""
    print(f"{area}: {result.name}: {result.wrong or 'holds'}", file=sys.stderr)
