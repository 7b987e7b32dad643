"""In which order packages are installed together: unpacked in groups, configured in between where one needs another at work before it
can be unpacked at all (Debian policy 7.2, Pre-Depends).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from kleff.workstation.linux.packages.rebuilding.dependencies import Present, field_of, is_met, meeting
from kleff.workstation.things import PackageRecord

Compare = Callable[[str, str], int]


@dataclass
class Group:
    """Packages that are unpacked at once, and those that are configured then, before the next are unpacked."""

    unpacked: list[PackageRecord]
    configured: list[PackageRecord] = field(default_factory=list)


def installing_order(records: Sequence[PackageRecord], present: Present, compare: Compare) -> list[Group]:
    """The groups; the last one's packages are not configured, nor is what is left of those before.

    Args:
        present: what is installed and configured besides.
    """
    before = {r.name: _needed(r, ("Pre-Depends",), records, present, compare) for r in records}
    needed = {r.name: _needed(r, ("Pre-Depends", "Depends"), records, present, compare) for r in records}
    groups: list[Group] = []
    unpacked: set[str] = set()
    configured: set[str] = set()
    while len(unpacked) < len(records):
        ready = [r for r in records if r.name not in unpacked and before[r.name] <= configured]
        if not ready:
            ready = [r for r in records if r.name not in unpacked]  # a ring, which the package manager is to judge
            configured |= unpacked
        groups.append(Group(ready))
        unpacked |= {r.name for r in ready}
        wanted = _wanted(records, unpacked, configured, before, needed)
        groups[-1].configured = [r for r in records if r.name in wanted]
        configured |= wanted
    return groups


def _wanted(
    records: Sequence[PackageRecord], unpacked: set[str], configured: set[str], before: dict[str, set[str]], needed: dict[str, set[str]]
) -> set[str]:
    """What must be configured now, so that more can be unpacked: with all that it needs itself, as far as that is unpacked."""
    wanted: set[str] = set()
    for record in records:
        if record.name in unpacked:
            continue
        for name in before[record.name] & unpacked:
            with_it = _with_its_needs(name, needed)
            if with_it <= unpacked:
                wanted |= with_it
    return wanted - configured


def _with_its_needs(name: str, needed: dict[str, set[str]]) -> set[str]:
    found, waiting = {name}, [name]
    while waiting:
        more = needed[waiting.pop()] - found
        found |= more
        waiting += more
    return found


def _needed(record: PackageRecord, fields: Sequence[str], records: Sequence[PackageRecord], present: Present, compare: Compare) -> set[str]:
    """Which of the others a package needs, where nothing that is installed already serves."""
    found: set[str] = set()
    for name in fields:
        for group in field_of(record.control, name).split(","):
            if not group.strip() or is_met(group, present, compare):
                continue
            other = meeting(group, records, compare)
            if other is not None and other.name != record.name:
                found.add(other.name)
    return found
