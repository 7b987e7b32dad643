"""What the system renames and deletes itself at the next restart, before any program runs: one list that all programs share.

The value is a list of pairs, the second empty for "delete" (MoveFileEx, Windows documentation). It is read and written whole here, so that
every other pair stays as it is, byte for byte.
"""

from __future__ import annotations

from kleff.procedure.globs import fold
from kleff.registry.registry import KeyRef, Registry
from kleff.registry.values import REG_MULTI_SZ, RegValue

SESSION = r"HKLM\SYSTEM\CurrentControlSet\Control\Session Manager"
NAME = "PendingFileRenameOperations"
BEFORE = "\\??\\"  # the name of the object, as the system's lowest layer has it
Pair = tuple[str, str]


class PendingRenames:
    """The list of one workstation."""

    def __init__(self, registry: Registry) -> None:
        self._registry = registry

    def all(self) -> list[Pair]:
        """(path, new path, or "" where it is deleted) in their order."""
        items = self._items()
        return [(_path(items[n]), _path(items[n + 1])) for n in range(0, len(items) - 1, 2)]

    def has(self, place: str, to: str) -> bool:
        """Whether a rename stands in it."""
        return (fold(place), fold(to)) in [(fold(a), fold(b)) for a, b in self.all()]

    def append(self, place: str, to: str) -> None:
        """Have the system rename something; done twice is done once.

        Raises:
            OSError: the system says no.
        """
        if not self.has(place, to):
            self._write([*self._items(), BEFORE + place, BEFORE + to])

    def remove(self, place: str, to: str) -> None:
        """Take one rename out again, nothing else; done twice is done once.

        Raises:
            OSError: the system says no.
        """
        items = self._items()
        kept: list[str] = []
        for n in range(0, len(items), 2):
            pair = items[n : n + 2]
            if [fold(_path(text)) for text in pair] != [fold(place), fold(to)]:
                kept += pair
        if kept != items:
            self._write(kept)

    def _key(self) -> KeyRef:
        return self._registry.canonical(SESSION)[0]

    def _items(self) -> list[str]:
        value = self._registry.value(self._key(), NAME)
        if value is None or value.type != REG_MULTI_SZ:
            return []
        texts = value.raw.decode("utf-16-le", "surrogatepass").split("\0")
        # The end of the last one, and that of the list, which some leave out.
        return texts[:-2] if len(texts) % 2 == 0 else texts[:-1]

    def _write(self, items: list[str]) -> None:
        key, api = self._key(), self._registry.api
        try:
            if items:
                raw = "".join(f"{item}\0" for item in items) + "\0"
                api.set(key.hive, key.physical, RegValue(NAME, REG_MULTI_SZ, raw.encode("utf-16-le", "surrogatepass")))
            else:
                api.delete_value(key.hive, key.physical, NAME)
        finally:
            api.flush()


def _path(text: str) -> str:
    """As people write it: "!" before a name means that the new one may replace another."""
    return text.removeprefix("!").removeprefix(BEFORE)
