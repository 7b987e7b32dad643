"""What in a text may be the thing, in other words than those that a step takes: told, and never touched.

A text in which the thing's words stand nowhere, in any encoding, is no doubt; a remark is none either.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator, Sequence

from kleff.workstation.files.lines import Edit, apply, encode

REMARKS = ("#", ";", "//", "--", "'", "REM ", "rem ")
SAYS_SO = {"export", "declare", "set", "local", "readonly"}  # words that only say that something is set (bash(1))
TOKEN = re.compile(r"[\w./\\:~$@%+\-]+")
# Of Western, Central European, Cyrillic, Greek and Turkish workstations; those before Unicode too.
CODE_PAGES = ("cp1252", "cp1250", "cp1251", "cp1253", "cp1254", "cp850", "cp852", "cp437", "cp866")
WIDE = ("utf-16-le", "utf-16-be", "utf-32-le", "utf-32-be")
SHOWN = 100  # letters of a line


def tokens(text: str) -> list[str]:
    """The words by which a text is known again where it is written otherwise."""
    found = [token for token in TOKEN.findall(text.replace("=", " ")) if token not in SAYS_SO]
    return [token for token in found if any(c.isalnum() for c in token)] or [text]


def doubtful(lines: Sequence[str], made: Sequence[Edit], groups: Sequence[Sequence[str]], folded: bool, whole: bool = False) -> list[str]:
    """The lines that hold all words of a group, and are not changed by edits; as a person is told of them.

    Args:
        groups: the words, of each thing that is meant.
        folded: letter case does not count; such systems do not continue a line by a backslash at its end.
        whole: the last word of a group is one only where no folder of it follows.
    """
    wanted = [[_standing(word, folded or word != group[-1], whole and word == group[-1]) for word in group] for group in groups]
    everything = "".join(lines).casefold() if folded else "".join(lines).replace("\\\r\n", "").replace("\\\n", "").casefold()
    wanted = [one for one, group in zip(wanted, groups, strict=True) if all(word.casefold() in everything for word in group)]
    if not wanted:
        return []
    by_place = {edit.at: edit for edit in made}
    left = [(at, by_place[at].new if at in by_place else line) for at, line in enumerate(lines)]
    found = []
    for at, text in _logical([(at, line) for at, line in left if line is not None], not folded):
        if not text.lstrip().startswith(REMARKS) and any(all(word.search(text) for word in group) for group in wanted):
            found.append(f"line {at + 1}: {text.strip()[:SHOWN]}")
    return found


def otherwise_encoded(codec: str, lines: Sequence[str], made: Sequence[Edit], words: Sequence[str]) -> str:
    """In which other encoding a word stands in a text; "" for none. Composed and decomposed letters are such too."""
    data, own = encode(codec, apply(lines, made)), codec.removesuffix("-sig")
    for word in words:
        for form in ("NFC", "NFD"):
            text = unicodedata.normalize(form, word)
            for other in (own, "utf-8", *WIDE, *(CODE_PAGES if not text.isascii() else ())):
                if (other, text) != (own, word) and _holds(data, text, other):
                    return f"it is written there in {other}" if other != own else "its letters are put together otherwise there"
    return ""


def continued(lines: Sequence[str], at: int) -> bool:
    """Whether a line is part of a longer one."""
    return goes_on(lines[at]) or (at > 0 and goes_on(lines[at - 1]))


def goes_on(line: str) -> bool:
    """Whether a backslash at its end joins the next line to it (POSIX shell, 2.2.1)."""
    bare = line.rstrip("\r\n")
    return line != bare and (len(bare) - len(bare.rstrip("\\"))) % 2 == 1


def _logical(lines: Sequence[tuple[int, str]], joins: bool) -> Iterator[tuple[int, str]]:
    """(place of the first, text) of lines, those that are continued as one."""
    start, text = -1, ""
    for at, line in lines:
        start = at if start < 0 else start
        if joins and goes_on(line):
            text += line.rstrip("\r\n")[:-1]
            continue
        yield start, text + line
        start, text = -1, ""
    if start >= 0:
        yield start, text


def _standing(word: str, folded: bool, whole: bool) -> re.Pattern[str]:
    """Finds a word that is no part of a longer name; a dot or a folder's separator may end it."""
    behind = r"(?![\w\-]|\.\w" + (r"|[\\/]\w" if whole else "") + ")"
    return re.compile(rf"(?<![\w.\-]){re.escape(word)}{behind}", re.IGNORECASE if folded else 0)


def _holds(data: bytes, text: str, codec: str) -> bool:
    try:
        wanted = text.encode(codec)
    except UnicodeEncodeError:
        return False
    wide = 4 if "32" in codec else 2 if "16" in codec else 1
    at = data.find(wanted)
    while at >= 0 and at % wide:  # between two letters: it is another order of the bytes that is read there
        at = data.find(wanted, at + 1)
    return at >= 0
