"""The guard of registry keys and values."""

from __future__ import annotations

from kleff.case.guard import tables
from kleff.case.guard.verdict import OK, Verdict
from kleff.procedure.globs import fold
from kleff.registry.registry import KeyRef
from kleff.workstation.facets import Workstation


class KeyGuard:
    """The keys of one workstation."""

    def __init__(self, workstation: Workstation, table: tables.Table) -> None:
        self._workstation = workstation
        self._table = table
        self._rules = {fold(text): rule for text, rule in table.keys.items()}
        ways = [text.split("\\") for text in self._rules]
        self._deepest = max(map(len, ways), default=0)
        self._holding = {"\\".join(way[:depth]) for way in ways for depth in range(1, len(way))}

    def check_value(self, key: KeyRef, name: str) -> Verdict:
        """Whether a single value may be removed whole."""
        own = {fold(k): [fold(n) for n in names] for k, names in self._table.single_values.items()}
        if fold(name) in own.get(fold("\\".join(self._general(key))), ()):
            return Verdict("refused", f"the value {name} is the system's own; many programs have a part in it")
        return self.check(key, value=True)

    def check_item(self, key: KeyRef, name: str) -> Verdict:
        """Whether single items may be taken out of a list in a value."""
        lists = {fold(k): [fold(n) for n in names] for k, names in self._table.lists.items()}
        link = self._link_above(key) or (key if self._is_link(key) else None)
        if link is None and fold(name) in lists.get(fold("\\".join(self._general(key))), ()):
            return OK
        return self.check_value(key, name)

    def check(self, key: KeyRef, value: bool = False) -> Verdict:
        """Whether a key (or a single value in it) may be removed."""
        parts = self._general(key)
        link = self._link_above(key) or (key if value and self._is_link(key) else None)
        if link is not None:
            return Verdict("refused", f"the key {link} on the way is a link, and leads to other keys")
        upper = [fold(p) for p in parts]
        if len(upper) > 4 and upper[:2] == ["HKLM", "SYSTEM"] and upper[3] == "SERVICES" and self._table.is_own("service", parts[4]):
            return Verdict("refused", f"the service {parts[4]} is the system's own")
        if "\\".join(upper) in self._rules:
            if value and self._rules["\\".join(upper)] in (tables.VALUES, tables.NAMED):
                return OK
            return Verdict("refused", "it is one of the system's own keys")
        if not value and "\\".join(upper) in self._holding:
            return Verdict("refused", "it holds keys of the system's own")
        for depth in range(min(len(upper) - 1, self._deepest), 0, -1):
            rule = self._rules.get("\\".join(upper[:depth]))
            if rule == tables.NAMED:
                return OK
            if rule is not None:
                return Verdict("refused", f"it lies in {chr(92).join(parts[:depth])}, which is the system's own")
        return Verdict("refused", f"it lies directly in {key.hive}")

    def _link_above(self, key: KeyRef) -> KeyRef | None:
        """The first key above that is a link. An account's classes are reached by one of the system's own. Below a key that is not there
        nothing is."""
        registry = self._workstation.registry
        for depth in range(1, len(key.parts)):
            above = KeyRef(key.hive, "\\".join(key.parts[:depth]), key.view)
            own = key.hive == "HKU" and [fold(p) for p in above.parts[1:]] == ["SOFTWARE", "CLASSES"]
            if not own and self._is_link(above):
                return above
            if registry is None or not registry.exists(above):
                return None
        return None

    def _is_link(self, key: KeyRef) -> bool:
        return self._workstation.registry is not None and self._workstation.registry.link(key) is not None

    def _general(self, key: KeyRef) -> list[str]:
        parts = key.parts
        if key.hive == "HKU":
            return ["HKCU", *parts[1:]]
        if len(parts) > 1 and fold(parts[0]) == "SYSTEM" and fold(parts[1]).startswith("CONTROLSET"):
            return ["HKLM", parts[0], "{controlset}", *parts[2:]]
        return ["HKLM", *parts]
