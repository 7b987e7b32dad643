"""Path styles, and globs over path parts: `*`, `?`, `[...]`, `**`."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

MAGIC = re.compile(r"[*?\[]")


def fold(text: str) -> str:
    """`text` in one-to-one upper case, as Windows file systems and the registry compare names (never casefold)."""
    if text.isascii():
        return text.upper()
    return "".join(up if len(up := c.upper()) == 1 else c for c in text)


def check_glob(text: str) -> str | None:
    """What is wrong with a glob, or None."""
    for part in re.split(r"[\\/]", text):
        if "**" in part and part != "**":
            return "'**' stands alone between separators"
        depth = part.replace("[[]", "")
        if "[" in depth and not re.search(r"\[!?[^]]+\]", depth):
            return "'[' without ']' (write [[] for a literal bracket)"
    return None


def escaped(path: str) -> str:
    """A path as a pattern, or a template, that means it alone."""
    return re.sub(r"[*?\[]", r"[\g<0>]", path).replace("{", "{{").replace("}", "}}")


def is_glob(text: str) -> bool:
    """True if `text` has a wildcard; `[[]`, a literal bracket, is none."""
    return bool(MAGIC.search(text.replace("[[]", "")))


def literal(text: str) -> str:
    """The name a part without wildcards stands for."""
    return text.replace("[[]", "[")


def literal_count(part: str) -> int:
    """How many letters and digits of a name are given; with wildcards, an ending such as `.exe` does not count."""
    if is_glob(part):
        stem, dot, _ = part.rpartition(".")
        part = stem if dot else part
    bare = re.sub(r"\[!?[^]]*\]|[*?]", "", part.replace("[[]", "x"))
    return sum(c.isalnum() for c in bare)


@lru_cache(maxsize=4096)
def _compiled(part: str, folded: bool) -> re.Pattern[str]:
    """Between two stars the first place that fits is taken and never tried again: it is as good as any later one, and the work grows with
    the length of the name, not with its power."""
    text = fold(part) if folded else part
    chunks, i = [""], 0
    while i < len(text):
        char = text[i]
        i += 1
        if char == "*":
            chunks.append("")
        elif char == "?":
            chunks[-1] += "."
        elif char == "[":
            end = text.find("]", i + 1)
            inner = text[i:end]
            i = end + 1
            negate = inner.startswith("!")
            inner = inner[1:] if negate else inner
            inner = re.sub(r"([\\^\[\]])", r"\\\1", inner)
            chunks[-1] += f"[{'^' if negate else ''}{inner}]"
        else:
            chunks[-1] += re.escape(char)
    first, *between = chunks
    last = f".*{between.pop()}" if between else ""
    return re.compile(first + "".join(f"(?>.*?{chunk})" for chunk in between if chunk) + last + r"\Z", re.DOTALL)


def name_matches(part: str, name: str, folded: bool) -> bool:
    """Whether one name matches one part of a glob."""
    return _compiled(part, folded).match(fold(name) if folded else name) is not None


def parts_match(pattern: Sequence[str], parts: Sequence[str], folded: bool) -> bool:
    """Whether a path, part by part, matches a pattern; `**` stands for any number of folders, `X/**` not for X."""
    if pattern and pattern[-1] == "**":
        pattern = (*pattern, "*")
    here = at = 0
    star, tried = -1, 0  # the last `**`, and from which name on it was tried
    while at < len(parts):
        if here < len(pattern) and pattern[here] == "**":
            star, tried, here = here, at, here + 1
        elif here < len(pattern) and name_matches(pattern[here], parts[at], folded):
            here, at = here + 1, at + 1
        elif star >= 0:
            tried += 1
            here, at = star + 1, tried
        else:
            return False
    return all(part == "**" for part in pattern[here:])


def could_hold(pattern: Sequence[str], parts: Sequence[str], folded: bool) -> bool:
    """Whether something below the folder `parts` could match `pattern`."""
    for i, part in enumerate(parts):
        if i >= len(pattern):
            return False
        if pattern[i] == "**":
            return True
        if not name_matches(pattern[i], part, folded):
            return False
    return len(pattern) > len(parts)


@dataclass(frozen=True)
class PathStyle:
    """How paths are written on a kind of system.

    Attributes:
        separator: what stands between names when a path is shown.
        separators: all that are accepted.
        folded: True if letter case does not count.
        drives: True if a path begins with a drive letter.
    """

    name: str
    separator: str
    separators: str
    folded: bool
    drives: bool

    def split(self, text: str) -> tuple[str, tuple[str, ...]] | None:
        """(volume, parts) of an absolute path or glob; None if it is not absolute here.

        `.` and `..` are not resolved: a path that has them is not accepted anywhere (`None`).
        """
        volume = ""
        if self.drives:
            if not re.match(r"[A-Za-z]:([\\/]|$)", text):
                return None
            volume, text = text[:2].upper(), text[2:]
        elif not text.startswith("/"):
            return None
        parts = self.relative(text)
        return None if parts is None else (volume, parts)

    def relative(self, text: str) -> tuple[str, ...] | None:
        """The parts of a relative path or glob; None if it has `.`, `..` or a NUL."""
        parts = tuple(p for p in re.split(f"[{re.escape(self.separators)}]", text) if p)
        return None if any(p in (".", "..") or "\0" in p for p in parts) else parts

    def join(self, volume: str, parts: Sequence[str]) -> str:
        """A path for people."""
        return volume + self.separator + self.separator.join(parts)


WINDOWS = PathStyle("windows", "\\", "\\/", folded=True, drives=True)
POSIX = PathStyle("posix", "/", "/", folded=False, drives=False)
