"""What a plan comes to in numbers."""

from __future__ import annotations

from collections.abc import Hashable, Iterator

import msgspec

from kleff.objects.base.action import KEPT, MANUAL, REFUSED, SKIPPED, TO_DO, UNKNOWN, UNREADABLE, Action
from kleff.objects.base.known import kind_of
from kleff.procedure.globs import PathStyle, fold
from kleff.workstation.identity import Identity, KeyId, path_of

UNCOUNTED = ("before", "verify", "after")


class Totals(msgspec.Struct, kw_only=True):
    """Sums over a plan; sizes in bytes."""

    to_do: int = 0
    absent: int = 0
    kept: int = 0
    refused: int = 0
    manual: int = 0
    unreadable: int = 0
    unknown: int = 0
    skipped: int = 0
    saved_items: int = 0
    saved_size: int = 0
    rescued_items: int = 0
    rescued_size: int = 0
    aside_items: int = 0
    aside_size: int = 0
    keys: int = 0
    values: int = 0


def totals_of(actions: list[Action], style: PathStyle) -> Totals:
    """The sums over numbered actions; what lies in what another action removes is counted once."""
    sums = dict.fromkeys(Totals.__struct_fields__, 0)
    states = (KEPT, REFUSED, MANUAL, UNREADABLE, UNKNOWN, SKIPPED)
    names = {TO_DO: "to_do", **{state: state for state in states}}
    nested = _nested(actions, style)
    for action in (a for a in actions if a.phase not in UNCOUNTED):
        sums[names.get(action.state, "absent")] += 1
        total = kind_of(action.kind).words(action.phase).total
        if action.state != TO_DO or not total or action.number in nested:
            continue
        sums[total if total in sums else f"{total}_items"] += action.items
        if f"{total}_size" in sums:
            sums[f"{total}_size"] += action.size
    return Totals(**sums)


def _nested(actions: list[Action], style: PathStyle) -> set[int]:
    """The numbers of the removals of what another one removes too."""
    going = [(a.number, way) for a in actions if a.phase == "delete" and a.state == TO_DO for i in a.about if (way := _way(i, style))]
    first: dict[Hashable, int] = {}
    for number, way in going:
        first.setdefault(way, number)
    return {n for n, way in going if first[way] != n or any(above in first for above in _above(way))}


def _way(identity: Identity, style: PathStyle) -> tuple[Hashable, ...]:
    """The names that lead to a path, a key or a value; empty for anything else."""
    path = path_of(identity, style)
    if path is not None:
        return "path", *path.key[0:1], *path.key[1]
    if isinstance(identity, KeyId):
        value = () if identity.value is None else (("value", fold(identity.value)),)
        return "key", identity.hive, identity.view, *(fold(p) for p in identity.key.parts), *value
    return ()


def _above(way: tuple[Hashable, ...]) -> Iterator[tuple[Hashable, ...]]:
    return (way[:n] for n in range(2, len(way)))
