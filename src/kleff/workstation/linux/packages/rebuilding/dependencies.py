"""What packages need before dpkg can finish installing them (deb-control(5), Depends and Pre-Depends; Debian policy 7)."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from kleff.workstation.things import PackageRecord

# One alternative: a name, an architecture that may stand behind it, and a version it must have.
ALTERNATIVE = re.compile(r"\s*([a-z0-9][a-z0-9+.-]*)(?::\w+)?\s*(?:\(\s*(<<|<=|=|>=|>>)\s*([^)\s]+)\s*\))?\s*(?:\[[^]]*\])?\s*")
HOLDS: Mapping[str, Callable[[int], bool]] = {
    "<<": lambda c: c < 0, "<=": lambda c: c <= 0, "=": lambda c: c == 0, ">=": lambda c: c >= 0, ">>": lambda c: c > 0,
}  # fmt: skip


@dataclass(frozen=True)
class Present:
    """What is installed: versions by name, and what others provide (with a version, or "")."""

    versions: dict[str, str] = field(default_factory=dict)
    provided: dict[str, set[str]] = field(default_factory=dict)


def lacking(records: Sequence[PackageRecord], present: Present, compare: Callable[[str, str], int]) -> list[tuple[str, str]]:
    """(package, what it needs and is not there) for packages that are to be installed together."""
    there = with_these(present, records)
    found = []
    for record in records:
        for group in _groups(record.control):
            if not is_met(group, there, compare):
                found.append((record.name, group.strip()))
    return found


def with_these(present: Present, records: Sequence[PackageRecord]) -> Present:
    """What is installed once these packages are too."""
    versions = {**present.versions, **{r.name.partition(":")[0]: r.version for r in records}}
    provided = {name: set(of) for name, of in present.provided.items()}
    for record in records:
        for name, version in provides(field_of(record.control, "Provides")):
            provided.setdefault(name, set()).add(version)
    return Present(versions, provided)


def is_met(group: str, present: Present, compare: Callable[[str, str], int]) -> bool:
    """Whether one of the alternatives of a dependency is there."""
    return any(_met(alternative, present.versions, present.provided, compare) for alternative in group.split("|"))


def meeting(group: str, records: Sequence[PackageRecord], compare: Callable[[str, str], int]) -> PackageRecord | None:
    """The first of some packages that meets a dependency by itself."""
    return next((r for r in records if is_met(group, with_these(Present(), [r]), compare)), None)


def depended_on(text: str) -> list[str]:
    """The names in a Depends field, every alternative."""
    found = [match[1] for one in re.split(r"[,|]", text) if (match := ALTERNATIVE.fullmatch(one))]
    return list(dict.fromkeys(found))


def provides(text: str) -> Iterator[tuple[str, str]]:
    """(name, version or "") of a Provides field."""
    for one in text.split(",") if text.strip() else ():
        match = ALTERNATIVE.fullmatch(one)
        if match:
            yield match[1], match[3] or ""


def _groups(control: str) -> Iterator[str]:
    for name in ("Pre-Depends", "Depends"):
        text = field_of(control, name)
        yield from (group for group in text.split(",") if group.strip())


def field_of(control: str, name: str) -> str:
    """The value of a field, its further lines joined."""
    found = re.search(rf"^{name}:(.*(?:\n[ \t].*)*)", control, re.MULTILINE | re.IGNORECASE)
    return " ".join(found[1].split()) if found else ""


def _met(alternative: str, versions: dict[str, str], provided: dict[str, set[str]], compare: Callable[[str, str], int]) -> bool:
    match = ALTERNATIVE.fullmatch(alternative)
    if match is None:
        return True  # written in a way that is not known here: dpkg says what it thinks of it
    name, relation, version = match[1], match[2], match[3]
    there = ([versions[name]] if name in versions else []) + sorted(provided.get(name, ()))
    if not relation:
        return bool(there)
    return any(v and HOLDS[relation](compare(v, version)) for v in there)
