"""Printing pages: results to standard output, progress and messages to standard error."""

from __future__ import annotations

import os
import shutil
import sys

import typer

from kleff.report.lines import Page, Tone
from kleff.texts import plain

_STYLES: dict[Tone, dict[str, object]] = {
    "head": {"bold": True},
    "good": {"fg": "green"},
    "warn": {"fg": "yellow"},
    "bad": {"fg": "red", "bold": True},
    "dim": {"dim": True},
}


def coloured(stream: object) -> bool:
    """Colour only on a terminal, and never with NO_COLOR (no-color.org)."""
    return bool(getattr(stream, "isatty", lambda: False)()) and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"


def paint(text: str, tone: Tone) -> str:
    return typer.style(text, **_STYLES[tone]) if tone in _STYLES and text.strip() else text  # type: ignore[arg-type]


def show(page: Page) -> None:
    """Print a page."""
    width = shutil.get_terminal_size().columns if sys.stdout.isatty() else 0
    print(page.text(paint, width) if coloured(sys.stdout) else page.text(width=width))


def message(text: str) -> None:
    """One line for the technician, not part of the result."""
    print("\n".join(plain(line) for line in text.split("\n")), file=sys.stderr)
