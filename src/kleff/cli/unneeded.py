"""The command that shows packages which nothing needs, and removes those that are chosen: unneeded."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

from kleff.cli.options import CasesOption, FullOption, JsonOption, OnOption, QuietOption, TechnicianOption, TicketOption, YesOption

RemoveOption = Annotated[
    str | None,
    typer.Option("--remove", metavar="SELECTION", help="Remove these: numbers, ranges, names, with commas; or all.", show_default=False),
]
EverythingOption = Annotated[bool, typer.Option("--all", help="All that the package manager would remove by itself, programs too.")]


def unneeded(
    on: OnOption = None,
    everything: EverythingOption = False,
    remove: RemoveOption = None,
    yes: YesOption = False,
    ticket: TicketOption = "",
    technician: TechnicianOption = "",
    cases: CasesOption = None,
    full: FullOption = False,
    quiet: QuietOption = False,
    json: JsonOption = False,
) -> None:
    """Packages that were brought in for others, and that nothing needs any more."""
    from kleff.cli.common import check_named, confirmation, me
    from kleff.cli.terminal.front import Spoken, Terminal
    from kleff.cli.terminal.show import show
    from kleff.cli.work import carry_out
    from kleff.engine.dialogue import Dialogue
    from kleff.engine.job import Job
    from kleff.engine.opening import Ticket, opened_workstation
    from kleff.report.documents import encode
    from kleff.report.unneeded import unneeded_document, unneeded_page
    from kleff.search.unneeded import chosen, procedure_for
    from kleff.search.unneeded import unneeded as look

    check_named(on, yes)
    workstation = opened_workstation(on or "this")
    found = look(workstation, everything)
    if json and remove is None:
        print(encode(unneeded_document(workstation, found, everything)))
        return
    if remove is None:
        show(unneeded_page(workstation, found, everything), paged=True)
        remove = _asked() if found and sys.stdin.isatty() and sys.stdout.isatty() else ""
    wanted = chosen(found, remove)
    if not wanted:
        return
    job = Job(workstation, procedure_for(wanted))
    spoken = Spoken(yes, full, quiet, json)
    dialogue = Dialogue(job, Terminal(job, spoken), compared=not json, unseen=yes, who=confirmation(technician))
    carry_out(dialogue, spoken, [], cases, Ticket(ticket, technician or me()))


def _asked() -> str:
    from kleff.cli.terminal.clock import answered

    print("\nRemove which? Numbers, ranges, names, with commas; Enter for none: ", end="", file=sys.stderr, flush=True)
    return answered().strip()
