"""Which numbers of accounts and groups mean somebody else by now."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from kleff.workstation.things import Number


@dataclass
class Renumbering:
    """Which numbers mean somebody else by now, or nobody.

    Attributes:
        users, groups: old number -> the number of that name now; None where the name is not there any more.
        names: of those that are not there, by (is a group, old number).
    """

    users: dict[int, int | None] = field(default_factory=dict)
    groups: dict[int, int | None] = field(default_factory=dict)
    names: dict[tuple[bool, int], str] = field(default_factory=dict)

    def __bool__(self) -> bool:
        return bool(self.users or self.groups)

    def owner(self, uid: int, gid: int) -> tuple[int, int]:
        """Who owns now what they owned; the administrator, where nobody of that name is there."""
        return self.users.get(uid, uid) or 0, self.groups.get(gid, gid) or 0

    def lost(self, uid: int, gid: int) -> list[str]:
        """The names of its owners that are not there any more."""
        asked = ((False, uid, self.users), (True, gid, self.groups))
        return [f"{'group' if group else 'account'} {self.names[group, n]}" for group, n, of in asked if of.get(n, n) is None]


def renumbering(then: Sequence[Number], now: Sequence[Number]) -> Renumbering:
    """What has changed; nothing where there are no numbers, or they were not noted. Root stays root."""
    numbers = {(n.group, n.name): int(n.number) for n in now if n.number.isdigit()}
    result = Renumbering()
    for one in then:
        if not one.number.isdigit() or one.number == "0":
            continue
        old, new = int(one.number), numbers.get((one.group, one.name))
        if new != old:
            (result.groups if one.group else result.users)[old] = new
            if new is None:
                result.names[one.group, old] = one.name
    return result
