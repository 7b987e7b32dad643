"""The places of a workstation that are the system's own, each with its rule."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from kleff.case.guard.tables import Table
from kleff.procedure.globs import is_glob, parts_match
from kleff.workstation.facets import Workstation
from kleff.workstation.paths import WPath

Key = tuple[str, tuple[str, ...]]


class PlaceRules:
    """The rules of a table on one workstation."""

    def __init__(self, workstation: Workstation, table: Table) -> None:
        self._files = workstation.files
        self._exact: dict[Key, str] = {}
        self._patterns: list[tuple[Key, str]] = []
        self._asked: dict[Key, str | None] = {}
        for path, rule in (*self._places(table), *self._homes(workstation, table)):
            if any(map(is_glob, path.parts)):
                self._patterns.append((path.key, rule))
            else:
                self._exact[path.key] = rule
        self._deepest = max((len(parts) for _, parts in (*self._exact, *(key for key, _ in self._patterns))), default=0)
        self._below: dict[Key, list[Key]] = {}
        for volume, parts in self._exact:
            for depth in range(len(parts)):
                self._below.setdefault((volume, parts[:depth]), []).append((volume, parts))

    def _places(self, table: Table) -> Iterator[tuple[WPath, str]]:
        for volume in self._files.volumes:
            for text, rule in table.places.items():
                path = self._files.path(text.replace("{drive}", volume))
                if path is not None:
                    yield path, rule
                    if path.parts and path.parts[0] in table.merged:
                        yield WPath(path.style, path.volume, ("usr", *path.parts)), rule

    def _homes(self, workstation: Workstation, table: Table) -> Iterator[tuple[WPath, str]]:
        for account in workstation.accounts.all():
            if account.ordinary:
                for text, rule in table.home.items():
                    yield account.home.child(*(self._files.style.relative(text) or ())), rule

    def of(self, key: Key) -> str | None:
        """The rule of a place itself; None if it is in no table."""
        if key not in self._asked:
            self._asked[key] = self._exact.get(key) or self._by_pattern(key)
        return self._asked[key]

    def _by_pattern(self, key: Key) -> str | None:
        volume, parts = key
        return next(
            (rule for (v, p), rule in self._patterns if v == volume and len(p) == len(parts) and parts_match(p, parts, False)), None
        )

    def above(self, key: Key) -> tuple[int, str]:
        """How deep the nearest place above lies that has a rule, and the rule; roots have one."""
        volume, parts = key
        deepest = min(len(parts) - 1, self._deepest)
        return next((n, rule) for n in range(deepest, -1, -1) if (rule := self.of((volume, parts[:n]))) is not None)

    def below(self, key: Key) -> Iterable[Key]:
        """Places below that have a rule; those told by a wildcard left out."""
        return self._below.get(key, ())
