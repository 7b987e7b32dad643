"""Whether the links of an item stay within its own place, with every other link of the item on the way."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping

MOST = 40  # links that are followed for one target, as many as the kernel follows (path_resolution(7))
Names = tuple[str, ...]


def leads_out(names: Names, target: str, links: Mapping[Names, str], top: int) -> bool:
    """Whether a link leads out of its place.

    Args:
        names: of the link, below what its item hangs on; target: as it is written in it.
        links: the targets of all links of the item, by their names.
        top: how many of the first names it may not leave.
    """
    if _absolute(target):
        return True
    place = names[:top]
    at, left, followed = list(names[:-1]), _parts(target), 0
    while left:
        part = left.pop(0)
        if part == "..":
            if not at:
                return True
            at.pop()
        else:
            at.append(part)
            further = links.get(tuple(at))
            if further is not None:
                followed += 1
                if followed > MOST or _absolute(further):
                    return True
                at.pop()
                left = _parts(further) + left
        if tuple(at[:top]) != place[: len(at)] or (len(at) < top and not left):
            return True
    return tuple(at[:top]) != place


def own_place(names: Names, folders: Collection[Names]) -> int:
    """How many of its first names lead to the topmost folder of the item that a link lies in; its own folder if it lies in none."""
    return next((n for n in range(1, len(names)) if names[:n] in folders), len(names) - 1)


def below_a_link(names: Names, links: Mapping[Names, str]) -> bool:
    """Whether something would be put through a link of the same item."""
    return any(names[:n] in links for n in range(1, len(names)))


def _absolute(target: str) -> bool:
    return target.startswith(("/", "\\")) or re.match(r"[A-Za-z]:", target) is not None


def _parts(target: str) -> list[str]:
    return [part for part in re.split(r"[/\\]", target) if part not in ("", ".")]
