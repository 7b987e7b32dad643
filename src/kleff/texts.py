"""Text for people: sizes, durations, counts, and names that cannot harm a terminal."""

from __future__ import annotations

import re
import shlex
import sys
import unicodedata
from datetime import UTC, datetime

PLAIN_WORD = re.compile(r"[\w.:\\/+=~-]+")


def size(count: int) -> str:
    """`count` bytes in binary units (IEC 80000-13), as people read them."""
    amount = float(count)
    for unit in ("B", "KiB", "MiB", "GiB"):
        if amount < 1024 or unit == "GiB":
            return f"{count} B" if unit == "B" else f"{amount:.1f} {unit}"
        amount /= 1024
    raise AssertionError("not reached")


def plural(count: int, one: str, many: str = "") -> str:
    """`1 file`, `2 files`."""
    return f"{count:,} {one if count == 1 else many or one + 's'}"


def seconds(amount: float) -> str:
    """A duration for people: `0.4 s`, `2 min 5 s`."""
    if amount < 60:
        return f"{amount:.1f} s"
    minutes, rest = divmod(round(amount), 60)
    return f"{minutes} min {rest} s"


def typed(word: str) -> str:
    """A word as it is typed at a prompt of the machine Kleff runs on."""
    if sys.platform == "win32":  # as both of its shells read it
        return word if PLAIN_WORD.fullmatch(word) else f'"{word}"'
    return shlex.quote(word)


def now() -> str:
    """The present instant, ISO 8601 in UTC."""
    return datetime.now(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


_UNSAFE = {"Cc", "Cf", "Cs", "Co", "Zl", "Zp"}


def plain(text: str) -> str:
    """`text` with everything escaped that could move a cursor, hide or reorder letters (Unicode categories C, Zl, Zp)."""
    if text.isascii() and text.isprintable():
        return text
    return "".join(_escape(c) if unicodedata.category(c) in _UNSAFE else c for c in text)


def plain_all(value: object) -> object:
    """`plain` for every text in a structure of dictionaries and lists, so that it can be written as JSON."""
    if isinstance(value, str):
        return plain(value)
    if isinstance(value, dict):
        return {plain(k): plain_all(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [plain_all(v) for v in value]
    return value


def _escape(char: str) -> str:
    code = ord(char)
    if 0xDC80 <= code <= 0xDCFF:  # a byte that is not text (PEP 383)
        return f"\\x{code - 0xDC00:02x}"
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}"
