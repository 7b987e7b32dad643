"""Lines for people: text with a tone, so that a terminal can colour it and a file or pipe gets it plain."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Literal

from kleff.texts import plain

Tone = Literal["plain", "head", "good", "warn", "bad", "dim"]
Paint = Callable[[str, Tone], str]
LEAST = 12  # letters that are left of what is shortened


@dataclass
class Page:
    """Lines made of pieces, each with a tone.

    Attributes:
        narrow: lines that are too long are shortened in the middle of their longest piece, instead of going on below.
    """

    lines: list[list[tuple[str, Tone]]] = field(default_factory=list)
    narrow: bool = False

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
        fitted = _shortened if self.narrow else _wrapped
        lines = [row for line in escaped for row in (fitted(line, width) if width else [line])]
        return "\n".join("".join(paint(t, tone) for t, tone in line).rstrip() for line in lines)


def shortened(text: str, width: int) -> str:
    """A text that fits, with what is left out of its middle as one sign: of a path the beginning and the end tell most."""
    if len(text) <= width:
        return text
    end = max(width - 1, 0) * 2 // 3
    return f"{text[: max(width - 1 - end, 0)]}…{text[len(text) - end :] if end else ''}"[: max(width, 0)]


def _shortened(line: list[tuple[str, Tone]], width: int) -> list[list[tuple[str, Tone]]]:
    """One row that fits: the longest piece gives first, then the next."""
    pieces = [(t, tone) for t, tone in line if t]
    pieces[-1:] = [(t.rstrip(), tone) for t, tone in pieces[-1:]]
    while (over := sum(len(t) for t, _ in pieces) - width) > 0:
        at = max(range(len(pieces)), key=lambda n: _can_give(pieces[n][0]))
        text, tone = pieces[at]
        if not any(_can_give(pieces[at][0])):
            last, tone = pieces.pop()
            pieces += [(last[: len(last) - over], tone)] if len(last) > over else []
            continue
        start, end = len(text) - len(text.lstrip()), len(text) - len(text.rstrip())
        bare = text.strip()
        fitted = shortened(bare, max(len(bare) - over, LEAST))
        pieces[at] = (" " * start + fitted + " " * end, tone)
    return [pieces]


def _can_give(text: str) -> tuple[bool, int]:
    """A path gives before other words, a longer one before a shorter."""
    room = max(len(text.strip()) - LEAST, 0)
    return room > 0 and ("\\" in text or "/" in text), room


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
