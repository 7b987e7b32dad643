"""Short names of files: a second name of eight letters and three, which a volume gives to what has a longer one.

How they are made is documented for the first four of a kind ("Naming Files, Paths, and Namespaces", fsutil 8dot3name, Windows
documentation): six letters, `~` and a number, three letters of the ending. From the fifth on two letters and a sum of the name take the
place of the six; of which sum, is not documented, and no code here goes by it.
"""

from __future__ import annotations

import re
import zlib
from collections.abc import Container
from typing import Protocol

from kleff.procedure.globs import fold, is_glob

SHORT = re.compile(r"[^ .\"/\\\[\]:;=,+|<>*?]{1,8}(?:\.[^ .\"/\\\[\]:;=,+|<>*?]{1,3})?\Z")
NUMBERED = re.compile(r"~[0-9A-Z]", re.IGNORECASE)
FIRST, LAST = 1, 4  # numbers that are given to names that begin alike


def may_be_short(part: str) -> bool:
    """Whether a part of a pattern, without wildcards, looks like a short name that a system has made."""
    return bool(NUMBERED.search(part)) and not is_glob(part)


def fits(name: str) -> bool:
    """Whether a name is short by itself, so that it gets no second one."""
    return bool(SHORT.match(name))


def generated(name: str, taken: Container[str]) -> str:
    """The short name of a name that does not fit. Args: taken: those of others in the folder, as `fold` has them."""
    stem, dot, ending = name.strip(" ").lstrip(".").rpartition(".")
    if not dot:
        stem, ending = ending, ""
    begins, ends = _letters(stem)[:6], _letters(ending)[:3]
    tail = f".{ends}" if ends else ""
    for number in range(FIRST, LAST + 1):
        made = f"{begins}~{number}{tail}"
        if made not in taken:
            return made
    total = zlib.crc32(fold(name).encode("utf-16-le", "surrogatepass"))
    while (made := f"{begins[:2]}{total & 0xFFFF:04X}~1{tail}") in taken:
        total += 1
    return made


def _letters(text: str) -> str:
    """Without blanks and dots; what no short name may hold, and letters beyond the first 128, become `_`."""
    return "".join(c if c.isascii() and SHORT.match(c) else "_" for c in fold(text) if c not in " .")


class ShortNames(Protocol):
    """The short names of a simulated Windows whose files are another system's, by the descriptor of the folder."""

    def long(self, fd: int, short: str) -> str:
        """What is called so; "" for nothing."""

    def of(self, fd: int, name: str) -> str:
        """The short name of something; "" if it has none."""

    def give(self, fd: int, name: str, short: str) -> None:
        """Raises: OSError: another has it, or there are none."""

    def left(self, fd: int, name: str) -> None:
        """Something has another name now, or stands in another folder."""


class Shorts:
    """The short names of one folder, and whose each is, by what spellings share (`fold`)."""

    def __init__(self) -> None:
        self._whose: dict[str, str] = {}
        self._short: dict[str, str] = {}

    def came(self, name: str, others: Container[str]) -> None:
        """Something got a name; it gets a short one if it needs that. Args: others: the names in the folder."""
        if not fits(name):
            self.give(fold(name), generated(name, _Either(self._whose, others)))

    def give(self, key: str, short: str) -> None:
        self.went(key)
        self._whose[short], self._short[key] = key, short

    def went(self, key: str) -> None:
        self._whose.pop(self._short.pop(key, ""), None)

    def of(self, key: str) -> str:
        return self._short.get(key, "")

    def whose(self, short: str) -> str:
        return self._whose.get(short, "")


class _Either:
    """What is in one or the other."""

    def __init__(self, *among: Container[str]) -> None:
        self._among = among

    def __contains__(self, name: object) -> bool:
        return any(name in one for one in self._among)
