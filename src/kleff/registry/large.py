"""Large registry files: where each key stands is found at once, what is in a key is read when it is asked for."""

from __future__ import annotations

from bisect import bisect_left
from dataclasses import dataclass
from itertools import accumulate
from typing import Any

from kleff.procedure.globs import fold
from kleff.registry.regfile import HEADER, ROOTS, RegKey, parse
from kleff.registry.values import RegValue

LARGE = 2 << 20  # letters from which it is worth it
END = "]\r"  # of the line of a key, as the system writes it
AFTER = "]"  # the letter behind the backslash: a bound of what begins with a path and one


@dataclass(frozen=True)
class Places:
    """Where the keys of a text stand.

    Attributes:
        paths: of all keys, folded, sorted; starts: where each begins in the text; ends: where the next one does.
    """

    text: str
    where: str
    paths: list[str]
    starts: dict[str, int]
    ends: dict[int, int]


class LargeKey(RegKey):
    """A key of which neither its values nor the keys in it are read yet."""

    def __init__(self, places: Places, path: str, name: str) -> None:
        self.name = name
        self._places, self._path = places, path

    def __getattr__(self, name: str) -> Any:
        if name == "values":
            self.values: dict[str, RegValue] = self._read()
            return self.values
        if name == "keys":
            self.keys: dict[str, RegKey] = self._below()
            return self.keys
        raise AttributeError(name)

    def _read(self) -> dict[str, RegValue]:
        places = self._places
        start = places.starts.get(self._path)
        if start is None:
            return {}
        key = parse(f"{HEADER}\r\n{places.text[start : places.ends[start]]}", places.where)
        while key.keys:  # the one that stands in the block
            (key,) = key.keys.values()
        return key.values

    def _below(self) -> dict[str, RegKey]:
        places, begin = self._places, self._path + "\\"
        at, end = bisect_left(places.paths, begin), bisect_left(places.paths, self._path + AFTER)
        found: dict[str, RegKey] = {}
        while at < end:
            path = places.paths[at]
            name, deeper, _ = path[len(begin) :].partition("\\")
            whole = begin + name
            if name not in found:
                found[name] = LargeKey(places, whole, self._spelled(whole, path))
            at = bisect_left(places.paths, whole + AFTER, at + 1) if deeper else at + 1
        return found

    def _spelled(self, whole: str, path: str) -> str:
        """The name as it is written, in the line of the key or of one below it."""
        start = self._places.starts[whole if whole in self._places.starts else path] + 1
        return self._places.text[start : start + len(whole)].rpartition("\\")[2]


def parse_large(text: str, where: str) -> RegKey:
    """The same tree as `parse` gives; of a large text what is in a key is read when it is first asked for.

    Raises:
        DamagedCase: as `parse`; of the values of a key when they are asked for.
    """
    found = _heads(text) if len(text) >= LARGE else None
    if not found:
        return parse(text, where)
    by_path = dict(found)
    order = [start for _, start in found]
    places = Places(text, where, sorted(by_path), by_path, dict(zip(order, [*order[1:], len(text)], strict=True)))
    if len(by_path) < len(found) or not {path.partition("\\")[0] for path in (places.paths[0], places.paths[-1])} <= set(ROOTS):
        return parse(text, where)
    root = RegKey("")
    for long, short in ROOTS.items():
        if bisect_left(places.paths, long) < bisect_left(places.paths, long + AFTER):
            root.keys[short] = LargeKey(places, long, short)
    return root


def _heads(text: str) -> list[tuple[str, int]] | None:
    """(folded path, where its line begins) of every key; None where the text must be read as a whole: keys that are to be deleted, lines
    that are no key, empty names in a path.
    """
    first, *pieces = text.split("\n[")
    lines = [piece[: piece.find("\n")] for piece in pieces]
    if not all(line.endswith(END) for line in lines):
        return None
    paths = [line[:-2] for line in lines]
    joined = "\n".join(["", *paths, ""])
    if "\n-" in joined or "\\\\" in joined or "\\\n" in joined:
        return None
    folded = fold(joined).split("\n")[1:-1]
    starts = accumulate((len(piece) + 2 for piece in pieces), initial=len(first) + 1)
    return list(zip(folded, starts, strict=False))
