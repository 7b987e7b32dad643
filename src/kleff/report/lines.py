"""Lines for people: text with a tone, so that a terminal can colour it and a file or pipe gets it plain."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Literal

Tone = Literal["plain", "head", "good", "warn", "bad", "dim"]
Paint = Callable[[str, Tone], str]


@dataclass
class Page:
    """Lines made of pieces, each with a tone."""

    lines: list[list[tuple[str, Tone]]] = field(default_factory=list)

    def add(self, text: str = "", tone: Tone = "plain") -> None:
        self.lines.append([(text, tone)])

    def row(self, *pieces: tuple[str, Tone]) -> None:
        self.lines.append(list(pieces))

    def head(self, text: str) -> None:
        if self.lines:
            self.add()
        self.add(text, "head")

    def text(self, paint: Paint = lambda text, tone: text) -> str:
        """The page as one text."""
        return "\n".join("".join(paint(t, tone) for t, tone in line).rstrip() for line in self.lines)


STATE_TONES: dict[str, Tone] = {
    "to do": "plain",
    "absent": "dim",
    "kept": "warn",
    "refused": "bad",
    "unreadable": "bad",
    "manual": "warn",
    "done": "good",
    "failed": "bad",
    "skipped": "warn",
    "waiting for restart": "warn",
    "undone": "warn",
    "left": "bad",
}
