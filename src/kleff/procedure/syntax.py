"""What is wrong with a file that is no TOML, or no text, as a beginner understands it."""

from __future__ import annotations

import codecs
import re

from kleff.errors import Located

QUOTES = "\u201c\u201d\u201e\u00ab\u00bb\u2018\u2019\u201a"  # typographic ones, which word processors put in


def not_text(name: str, raw: bytes, error: UnicodeDecodeError) -> Located:
    """A file that is not UTF-8."""
    if raw.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return Located(name, 1, 1, "encoding", "is UTF-16 text; save the file as UTF-8")
    before = raw[: error.start]
    line, column = before.count(b"\n") + 1, len(before.rpartition(b"\n")[2]) + 1
    letter = raw[error.start : error.start + 1].decode("latin-1")
    return Located(name, line, column, "encoding", f"is not UTF-8 text (it reads as {letter!r} in Latin-1); save the file as UTF-8")


def not_toml(name: str, text: str, message: str) -> Located:
    """A file that the standard parser refuses.

    Args:
        message: what that parser says, with the place at its end.
    """
    found = re.search(r"^(.*) \(at (?:line (\d+), column (\d+)|end of document)\)$", message, re.DOTALL)
    if not found:
        return Located(name, 1, 1, "syntax", f"is not TOML: {message}")
    lines = text.split("\n")
    line = int(found[2]) if found[2] else len(lines)
    return Located(name, line, int(found[3] or 1), "syntax", _told(found[1], lines, line))


def endless_number(name: str, text: str) -> Located:
    """An integer that the standard parser takes for an attack."""
    digits = re.search(r"[0-9_]{4300,}", text)
    before = text[: digits.start()] if digits else ""
    return Located(name, before.count("\n") + 1, len(before.rpartition("\n")[2]) + 1, "syntax", "a number has too many digits")


def _told(message: str, lines: list[str], number: int) -> str:
    line = lines[number - 1] if number <= len(lines) else ""
    quote = next((c for c in line if c in QUOTES), "")
    if quote and not _is_quoted(line, quote):
        return f"has a typographic quotation mark ({quote}); write plain ones, ' or \""
    if "Cannot declare" in message or "Cannot overwrite" in message or "twice" in message:
        return _twice(lines, number)
    if "Illegal character '\\n'" in message or 'Expected "\'"' in message or "Unterminated" in message:
        return "the text that begins on this line is not closed; add the missing quotation mark at its end"
    if "escape" in message:
        return "not TOML: a backslash within double quotes; a Windows path needs single quotes: 'C:\\...'"
    return f"not TOML: {message}"


def _is_quoted(line: str, quote: str) -> bool:
    """Whether it stands within plain quotation marks, where it is text."""
    before = line.partition(quote)[0]
    return before.count('"') % 2 == 1 or before.count("'") % 2 == 1


def _twice(lines: list[str], number: int) -> str:
    """A key or a table that is there already, and where first."""
    line = lines[number - 1].strip()
    table = re.match(r"\[\s*([^\[\]]+?)\s*\]", line)
    if table:
        first = next((n for n, other in enumerate(lines, 1) if re.match(rf"\s*\[\s*{re.escape(table[1])}\s*\]", other)), number)
        return f"the table [{table[1]}] stands twice; first on line {first}"
    key = line.partition("=")[0].strip()
    for n in range(number - 1, 0, -1):
        other = lines[n - 1].strip()
        if other.partition("=")[0].strip() == key:
            return f"the key {key!r} stands twice in one table; first on line {n}"
        if other.startswith("["):
            break
    return f"the key {key!r} stands twice in one table"
