"""Printing pages: results to standard output, progress and messages to standard error."""

from __future__ import annotations

import os
import re
import shutil
import sys
from typing import TYPE_CHECKING, TextIO

import typer

from kleff.report.lines import Page, Tone
from kleff.texts import plain, typed

if TYPE_CHECKING:
    from kleff.engine.finding import Verification
    from kleff.engine.opening import Opened

PIPE, NARROWEST, WIDEST = 100, 60, 200  # columns: where there is no terminal, and the limits for pages of rows

_STYLES: dict[Tone, dict[str, object]] = {
    "head": {"bold": True},
    "good": {"fg": "green"},
    "warn": {"fg": "yellow"},
    "bad": {"fg": "red", "bold": True},
    "dim": {"dim": True},
}


# A command as messages name it: at the beginning of a line, or after what is not part of a path.
VERBS = "cases|check|demo|discard|lab|list|preview|report|restore|resume|run|survey|undo|unneeded|verify"
COMMAND = re.compile(rf"(?<![\w./\\-])kleff(?= (?:{VERBS})\b)")


def as_called(text: str) -> str:
    """A text with its commands as this program was called: where it is not on the path, by its path."""
    called = typed(program())
    return COMMAND.sub(lambda match: called, text)


def program() -> str:
    """How this program is called: by its name where that finds it, else by its path."""
    own = sys.argv[0] if os.sep in sys.argv[0] and not sys.argv[0].endswith(".py") else "kleff"
    given = os.environ.get("KLEFF_CALLED") or own  # a starter says how it was called
    return "kleff" if shutil.which("kleff") == given else given


def coloured(stream: TextIO) -> bool:
    """Colour only on a terminal that takes it, and never with NO_COLOR (no-color.org)."""
    if not stream.isatty() or os.environ.get("NO_COLOR") or os.environ.get("TERM") == "dumb":
        return False
    if sys.platform != "win32":
        return True
    from kleff.workstation.this_machine import host

    return host().draws(stream.fileno())


def paint(text: str, tone: Tone) -> str:
    return typer.style(text, **_STYLES[tone]) if tone in _STYLES and text.strip() else text  # type: ignore[arg-type]


def columns() -> int:
    """How wide a page of rows may be."""
    found = shutil.get_terminal_size((PIPE, 0)).columns
    return min(max(found, NARROWEST), WIDEST)


def show(page: Page, paged: bool = False) -> None:
    """Print a page.

    Args:
        paged: on a terminal that it does not fit, by a pager.
    """
    rows, terminal = shutil.get_terminal_size((PIPE, 0)).lines, sys.stdout.isatty()
    width = columns() if page.narrow or terminal else 0
    text = as_called(page.text(paint, width) if coloured(sys.stdout) else page.text(width=width))
    if paged and terminal and sys.stdin.isatty() and text.count("\n") + 2 > rows > 0:
        from pydoc import pager

        os.environ.setdefault("LESS", "FRX")  # colours as they are, and no screen of its own
        pager(text)
    else:
        print(text, flush=True)  # before anything is said about what comes next


def message(text: str) -> None:
    """One line for the technician, not part of the result."""
    print(as_called("\n".join(plain(line) for line in text.split("\n"))), file=sys.stderr)


def tell_verified(job: Opened, result: Verification, json: bool) -> None:
    """Is it gone? Ends the command with its exit code if it is not."""
    from kleff.errors import NotClean
    from kleff.report.documents import encode
    from kleff.report.making import verify_document
    from kleff.report.pages import verify_page

    if json:
        document = verify_document(job.workstation, job.procedure, result)
        print(encode(document))
    else:
        show(verify_page(job.procedure.product.name, job.workstation.name, result))
    if not result.clean:
        raise typer.Exit(NotClean.exit_code)
