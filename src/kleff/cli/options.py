"""Options that several commands share."""

from __future__ import annotations

import sys
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Literal

import typer

CASES = "/var/lib/kleff/cases as root, else ~/.local/state/kleff/cases"
LIBRARY = "/etc/kleff/procedures as root, else ~/.config/kleff/procedures"
if sys.platform == "win32":
    CASES, LIBRARY = (rf"ProgramData\Kleff\{name} as administrator, else AppData\Local\Kleff\{name}" for name in ("cases", "procedures"))

ProcedureArgument = Annotated[str, typer.Argument(metavar="PROC", help="A procedure file, or the id of one in the library.")]
CaseArgument = Annotated[str, typer.Argument(metavar="CASE", help="A case folder, or the id of a case.")]
UnfinishedArgument = Annotated[
    str | None,
    typer.Argument(
        metavar="[CASE]", help="A case folder, or the id of a case; if left out, the one that is unfinished.", show_default=False
    ),
]
OnOption = Annotated[
    str | None, typer.Option("--on", metavar="WORKSTATION", help="this (the default), root:FOLDER or lab:FOLDER.", show_default=False)
]
JsonOption = Annotated[bool, typer.Option("--json", help="Print JSON (docs/json.md) instead of text.")]
YesOption = Annotated[bool, typer.Option("--yes", help="Do not ask; the workstation must then be named with --on.")]
YesCaseOption = Annotated[bool, typer.Option("--yes", help="Do not ask.")]
QuietOption = Annotated[bool, typer.Option("--quiet", help="Say nothing but what is not clean, errors, and what must be asked.")]
CasesOption = Annotated[
    Path | None,
    typer.Option(
        "--cases",
        metavar="FOLDER",
        help=f"Where cases are kept ({CASES}).",
        show_default=False,
    ),
]
LibraryOption = Annotated[
    Path | None,
    typer.Option(
        "--library",
        metavar="FOLDER",
        help=f"Where procedures are kept ({LIBRARY}).",
        show_default=False,
    ),
]


class SpareKind(StrEnum):
    """How the spare is taken before an uninstaller runs."""

    links = "links"
    full = "full"
    off = "off"

    @property
    def mode(self) -> Literal["links", "full", "off"]:
        return {SpareKind.full: "full", SpareKind.off: "off"}.get(self, "links")  # type: ignore[return-value]


SpareOption = Annotated[
    SpareKind,
    typer.Option("--spare", help="Before an uninstaller runs: hard links of large files and copies of small ones, copies of all, or none."),
]
AnswerOption = Annotated[
    list[str] | None, typer.Option("--answer", metavar="ID=VALUE", help="Answer a question of the procedure; may be given more than once.")
]
AccountsOption = Annotated[
    list[str] | None,
    typer.Option("--account", metavar="NAME", help="For this account alone; may be given more than once. Others are not looked at."),
]
FullOption = Annotated[bool, typer.Option("--full", help="Every action, in order.")]
OfLabelOption = Annotated[list[str] | None, typer.Option("--label", metavar="NAME", help="Every action of the steps with this label.")]
OfLineOption = Annotated[list[int] | None, typer.Option("--line", metavar="N", help="Every action of the step at this line.")]
OfStateOption = Annotated[
    list[str] | None, typer.Option("--state", metavar="WORD", help='Every action that is so: "to do", absent, kept, refused, manual ...')
]


class AlongKind(StrEnum):
    """Which packages that came along go too."""

    these = "these"
    all = "all"
    none = "none"


AlongOption = Annotated[
    AlongKind | None,
    typer.Option("--came-along", help="Packages that came along go too, where the procedure does not say.", show_default=False),
]
ShowItemsOption = Annotated[bool, typer.Option("--show-items", help="Name what a database holds, which is counted else.")]
RestartOption = Annotated[
    bool, typer.Option("--restart-now", help="If it has to wait for a restart, restart the workstation; after a question, but with --yes.")
]
RestartedOption = Annotated[
    bool, typer.Option("--restarted", help="The workstation was restarted since; for where Kleff asks, as it cannot tell.")
]
UninstallersOption = Annotated[
    bool, typer.Option("--without-uninstallers", help="Remove registered products without running their uninstallers.")
]
AloneOption = Annotated[
    bool, typer.Option("--resume-after-restart", help="If it has to wait for a restart, the workstation goes on by itself then.")
]
WaiveOption = Annotated[
    list[str] | None, typer.Option("--waive", metavar="NAME", help="Go on without this condition; may be given more than once.")
]
WithoutOption = Annotated[
    list[str] | None,
    typer.Option("--without-backup", metavar="LABEL", help="Go on without this backup; with --because. May be given more than once."),
]
BecauseOption = Annotated[str, typer.Option("--because", metavar="TEXT", help="Why a backup is left out.", show_default=False)]
EvidenceOption = Annotated[
    bool, typer.Option("--without-evidence", help="With --yes: begin though nothing shows the product on this workstation.")
]
ConfirmedOption = Annotated[
    list[str] | None, typer.Option("--confirmed", metavar="ID", help="This manual step has been done; may be given more than once.")
]
HoldersOption = Annotated[
    list[str] | None,
    typer.Option(
        "--stop-holder", metavar="NAME", help="End this program, which holds the product's files open (name or number). May be given again."
    ),
]
PassphraseOption = Annotated[
    bool, typer.Option("--passphrase", help="Lock the bag with a passphrase (asked for; needs the extra kleff[secure]).")
]
SecretOption = Annotated[
    list[str] | None,
    typer.Option("--secret-fd", metavar="NAME=FD", help="Read a secret the procedure needs from this open file descriptor."),
]
TicketOption = Annotated[str, typer.Option("--ticket", metavar="TEXT", help="The ticket this is done for.", show_default=False)]
TechnicianOption = Annotated[str, typer.Option("--technician", metavar="NAME", help="Who does it.", show_default=False)]
