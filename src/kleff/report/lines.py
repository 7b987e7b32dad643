"""Lines for people: text with a tone, so that a terminal can colour it and a file or pipe gets it plain."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Literal

from kleff.texts import plain

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

    def text(self, paint: Paint = lambda text, tone: text, width: int = 0) -> str:
        """The page as one text, escaped here and nowhere before; with a width, longer lines go on below, indented."""
        escaped = [[(plain(t), tone) for t, tone in line] for line in self.lines]
        lines = [row for line in escaped for row in (_wrapped(line, width) if width else [line])]
        return "\n".join("".join(paint(t, tone) for t, tone in line).rstrip() for line in lines)


def _wrapped(line: list[tuple[str, Tone]], width: int) -> list[list[tuple[str, Tone]]]:
    """Break a line at spaces or separators; what follows is indented a little deeper than the line begins."""
    text = "".join(t for t, _ in line).rstrip()
    if len(text) <= width:
        return [line]
    indent = " " * min(len(text) - len(text.lstrip()) + 2, width // 2)
    rows: list[list[tuple[str, Tone]]] = []
    left = list(line)
    while left:
        room = width - (len(indent) if rows else 0)
        text = "".join(t for t, _ in left).rstrip()
        cut = len(text) if len(text) <= room else _break(text, room)
        row, left = _split(left, cut)
        rows.append([(indent, "plain"), *row] if rows else row)
        if not "".join(t for t, _ in left).strip():
            break
        left = [(left[0][0].lstrip(), left[0][1]), *left[1:]]
    return rows


def _break(text: str, room: int) -> int:
    """Where to break: after the last space, else the last separator, in the second half of the room; else anywhere."""
    for marks in (" ", "\\/"):
        at = max(text.rfind(mark, room // 2, room) for mark in marks)
        if at > 0:
            return at + 1
    return room


def _split(line: list[tuple[str, Tone]], at: int) -> tuple[list[tuple[str, Tone]], list[tuple[str, Tone]]]:
    before: list[tuple[str, Tone]] = []
    for index, (text, tone) in enumerate(line):
        if len(text) >= at:
            return [*before, (text[:at], tone)], [(text[at:], tone), *line[index + 1 :]]
        before.append((text, tone))
        at -= len(text)
    return before, []


STATE_TONES: dict[str, Tone] = {
    "to do": "plain",
    "absent": "dim",
    "kept": "warn",
    "refused": "bad",
    "unreadable": "bad",
    "unknown": "bad",
    "manual": "warn",
    "done": "good",
    "failed": "bad",
    "skipped": "warn",
    "waiting for restart": "warn",
    "undone": "warn",
    "left": "bad",
}
