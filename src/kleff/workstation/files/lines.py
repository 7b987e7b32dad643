"""Lines of a text file: taken out or shortened, and put back by what stood around them, also where the rest has changed since.

A file is read as UTF-8, or as UTF-16 where it begins with a byte order mark (The Unicode Standard, 23.8); the mark belongs to no
line. What is no text of these comes through unharmed, but zero bytes in it are a sign of another encoding: such a file is left alone.
Line ends stay as they are.
"""

from __future__ import annotations

import codecs
import hashlib
import re
from collections import Counter
from collections.abc import Callable, Iterable, Sequence

from msgspec import Struct
from msgspec.structs import replace

from kleff.errors import ActionFailed, remedy_for
from kleff.registry import lists
from kleff.workstation.files.listed import listed
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import PRIVILEGED, Look, WPath

LONGEST = 8 << 20  # bytes of a file whose lines are worked on
MARKS = {"utf-16-le": codecs.BOM_UTF16_LE, "utf-16-be": codecs.BOM_UTF16_BE, "utf-8-sig": codecs.BOM_UTF8}
ENDS = ("\n", "\r")
WORD = r"\w.\-"  # what may not stand beside a text that is looked for: it would be another name


class Edit(Struct, kw_only=True, frozen=True, omit_defaults=True):
    """What was done to one line.

    Attributes:
        at: its place among the lines, from 0, before anything was done.
        old: as it was, with its end; new: as it is now, or None if it is gone.
        above, below: short digests of the lines that stood around it; "" at an end of the file.
        entry: what was taken out of a list in it; between: what parts its entries.
    """

    at: int
    old: str
    new: str | None = None
    above: str = ""
    below: str = ""
    entry: str = ""
    between: str = ""


def read_whole(files: FileTree, place: WPath, known: Callable[[Look], int] = lambda look: 0) -> tuple[Look, bytes]:
    """A regular file that has no second name, and its content.

    Args:
        known: how many second names are our own; asked only if there are any.

    Raises:
        ActionFailed: it is something else, is gone, or too long.
    """
    try:
        look = files.look(place)
        if look is None:
            raise ActionFailed(f"{place} is gone", remedy="resume")
        what = "" if look.is_file else "is a link or a folder"
        if look.links != 1 and look.links - known(look) != 1:
            what = what or "has a second name elsewhere"
        if what or look.mode & PRIVILEGED:
            what = what or "is a program with its owner's rights"
            raise ActionFailed(f"{place} {what}; its lines are not touched", remedy="name the file itself, or take the lines out by hand")
        return look, read_text(files, place, look)
    except OSError as error:
        raise ActionFailed(f"{place} cannot be read: {error.strerror}", remedy=remedy_for(error)) from None


def read_text(files: FileTree, place: WPath, look: Look) -> bytes:
    """The content of a regular file.

    Raises:
        ActionFailed: it is too long, or no text. OSError: it cannot be read.
    """
    if look.size > LONGEST:
        raise ActionFailed(f"{place} is longer than {LONGEST >> 20} MiB", remedy="take the lines out by hand")
    data = files.read(place, LONGEST)
    if (b"\0" in data and encoding(data).startswith("utf-8")) or data.startswith((codecs.BOM_UTF32_LE, codecs.BOM_UTF32_BE)):
        raise ActionFailed(f"{place} is no text in an encoding that is known here", remedy="take the lines out by hand")
    return data


def encoding(data: bytes) -> str:
    """How a file is encoded: a key of `MARKS`, or utf-8 without a mark."""
    for codec, mark in MARKS.items():
        if data.startswith(mark) and (len(data) % 2 == 0 or codec == "utf-8-sig"):
            return codec
    return "utf-8"


def decode(data: bytes) -> tuple[str, list[str]]:
    """How a file is encoded, and its lines, each with its end."""
    codec = encoding(data)
    text = data.removeprefix(MARKS.get(codec, b""))
    return codec, _split(text.decode("utf-8", "surrogateescape") if codec.startswith("utf-8") else text.decode(codec, "surrogatepass"))


def encode(codec: str, lines: Iterable[str]) -> bytes:
    """The inverse of `decode`."""
    text = "".join(lines)
    mark = MARKS.get(codec, b"")
    return mark + (text.encode("utf-8", "surrogateescape") if codec.startswith("utf-8") else text.encode(codec, "surrogatepass"))


def same_encoding(one: str, other: str) -> bool:
    """Whether lines of the one can be put into the other: a mark does not count."""
    return one.removesuffix("-sig") == other.removesuffix("-sig")


def _split(text: str) -> list[str]:
    return re.findall(r"[^\r\n]*(?:\r\n|\n|\r)|[^\r\n]+", text)


def holding(text: str, folded: bool) -> re.Pattern[str]:
    """Finds a text that stands by itself: not as part of a longer name."""
    return re.compile(rf"(?<![{WORD}]){re.escape(text)}(?![{WORD}])", re.IGNORECASE if folded else 0)


def taking_out(lines: Sequence[str], texts: Iterable[str], between: str = "", folded: bool = False) -> list[Edit]:
    """The edits that take out each line that holds one of the texts.

    Args:
        between: what parts the entries of a list; then only the entry goes that holds the text, and the line if it was the only one.
        folded: letter case does not count.
    """
    wanted = [holding(text, folded) for text in texts]
    changed: list[tuple[int, str | None, str]] = []
    for at, line in enumerate(lines):
        if any(pattern.search(line) for pattern in wanted):
            new, entry = _without_entries(line, wanted, between) if between else (None, "")
            changed.append((at, new, entry))
    return edits(lines, changed, between)


def edits(lines: Sequence[str], changed: Iterable[tuple[int, str | None, str]], between: str = "") -> list[Edit]:
    """With what stands around them.

    Args:
        changed: (place, new line or None, entry that was taken out of it) of each.
    """
    return [
        Edit(
            at=at, old=lines[at], new=new, entry=entry, between=between if entry else "",
            above=_digest(lines[at - 1]) if at else "", below=_digest(lines[at + 1]) if at + 1 < len(lines) else "",
        )
        for at, new, entry in changed
    ]  # fmt: skip


def _without_entries(line: str, wanted: Sequence[re.Pattern[str]], between: str) -> tuple[str | None, str]:
    """A line without the entries of its list that hold a text; None if nothing else is in the list."""
    gap = re.escape(between.strip()) or r"\s"
    entry = re.compile(rf"[^{gap}:\s\"'=]+")
    whole, gone = line, ""
    for match in reversed([m for m in entry.finditer(line) if any(p.search(m[0]) for p in wanted)]):
        start, end = match.span()
        after = re.match(rf"[ \t]*{gap}[ \t]*", line[end:])
        before = re.search(rf"[ \t]*{gap}[ \t]*$", line[:start])
        if after:
            end += after.end()
        elif before:
            start -= len(before[0])
        else:  # a remark, or the name of the list
            continue
        line, gone = line[:start] + line[end:], match[0]
    return (line, gone) if line != whole else (None, "")


def apply(lines: Sequence[str], made: Sequence[Edit]) -> list[str]:
    """The lines with edits that were made of them."""
    by_place = {edit.at: edit for edit in made}
    kept = ((by_place[at].new if at in by_place else line) for at, line in enumerate(lines))
    return [line for line in kept if line is not None]


def put_back(lines: Sequence[str], made: Sequence[Edit]) -> tuple[list[str], list[str]]:
    """Take edits back in a file that may have changed since. Done twice is done once.

    Returns:
        The lines, and of each edit that could not be taken back why.
    """
    made = [replace(edit, old=edit.old.removeprefix("\ufeff")) for edit in made]  # which belonged to the line in earlier journals
    whole = _at_their_places(lines, made)
    if whole is not None:
        return whole, []
    result, left = list(lines), list[str]()
    end = next((line[len(_bare(line)) :] for line in (*lines, *(e.old for e in made)) if line.endswith(ENDS)), "\n")
    there = Counter(map(_bare, lines))
    for edit in sorted(made, key=lambda e: e.at):
        if there[_bare(edit.old)]:
            there[_bare(edit.old)] -= 1
            continue  # somebody has written it again, or it was put back already
        if edit.new is None:
            _insert(result, edit, end)
        elif not _change_back(result, edit):
            left.append(f"the line that {edit.entry or edit.new.strip()} was taken out of has changed since: {edit.new.strip()}")
    return result, left


def _at_their_places(lines: Sequence[str], made: Sequence[Edit]) -> list[str] | None:
    """The lines with all edits taken back where they were made; None if what stands around them is not the same any more."""
    result = list(lines)
    for edit in sorted(made, key=lambda e: e.at):
        if edit.at > len(result):
            return None
        if edit.new is None:
            result.insert(edit.at, edit.old)
        elif edit.at < len(result) and result[edit.at] == edit.new:
            result[edit.at] = edit.old
        else:
            return None
    around = edits(result, [(e.at, e.new, e.entry) for e in made])
    same = all((a.above, a.below) == (e.above, e.below) for a, e in zip(around, made, strict=True))
    return result if same and apply(result, made) == list(lines) else None


def _insert(lines: list[str], edit: Edit, end: str) -> None:
    """Put a line where it fits best: between the two that stood around it, after or before one of them, else at its old place."""
    digests = ["", *map(_digest, lines), ""]

    def fits(at: int) -> tuple[int, int]:
        around = 2 * (digests[at] == edit.above) + (digests[at + 1] == edit.below)
        return around, -abs(at - edit.at)

    at = max(range(len(lines) + 1), key=fits)
    old = edit.old if edit.old.endswith(ENDS) or at == len(lines) else edit.old + end
    if at and at == len(lines) and not lines[-1].endswith(ENDS):
        lines[-1] += end
    lines.insert(at, old)


def _change_back(lines: list[str], edit: Edit) -> bool:
    same = [n for n, line in enumerate(lines) if edit.new is not None and _bare(line) == _bare(edit.new)]
    if same:
        nearest = min(same, key=lambda n: abs(n - edit.at))
        lines[nearest] = edit.old.rstrip("\r\n") + lines[nearest][len(_bare(lines[nearest])) :]
        return True
    name = re.match(r"[^=:]*[=:]", edit.old)
    found = [n for n, line in enumerate(lines) if name and line.startswith(name[0])]
    if len(found) != 1 or not edit.entry:
        return False
    line = lines[found[0]]
    old, without, new = (listed(text, edit.between) for text in (edit.old, edit.new or "", line))
    if old and without and new:
        lines[found[0]] = new.written(_items_back(old.items, without.items, new.items))
        return True
    if holding(edit.entry, False).search(line):
        return True
    tail = re.search(r"[\"']?\s*$", line)
    cut = tail.start() if tail else len(line)
    gap = "" if line[:cut].endswith((edit.between, ":", "=", '"', "'")) else edit.between
    lines[found[0]] = line[:cut] + gap + edit.entry + line[cut:]
    return True


def _items_back(old: list[str], without: list[str], now: list[str]) -> list[str]:
    """A list as it is now, with the items that were taken out of the old one."""
    left = Counter(without)
    for at, item in enumerate(old):
        left[item] -= 1
        one = lists.taken(old, at)
        if left[item] < 0 and sum(lists.same(there) == lists.same(item) for there in now) < one.equal:
            now = lists.put_back(now, one)
    return now


def _bare(line: str) -> str:
    return line.rstrip("\r\n")


def _digest(line: str) -> str:
    return hashlib.sha256(_bare(line).encode("utf-8", "surrogatepass")).hexdigest()[:16]
