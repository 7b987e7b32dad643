"""Texts that are lists of texts: a search path, a list of endings; and values of the registry that hold them."""

from __future__ import annotations

from dataclasses import dataclass

from kleff.procedure.globs import fold
from kleff.registry.values import REG_EXPAND_SZ, REG_MULTI_SZ, REG_SZ, RegValue, list_value


@dataclass(frozen=True)
class Taken:
    """One item that was taken out of a list.

    Attributes:
        item: as it was written; at: its place, from 0; before, after: its neighbours, "" at an end.
        equal: how many of the same there were, itself included.
    """

    item: str
    at: int
    before: str
    after: str
    equal: int


def same(item: str) -> str:
    """What two ways of writing an item share: letter case, a separator at the end, quotes and blanks around it do not count."""
    return fold(item.strip().strip('"').strip().rstrip("\\/"))


def taken(items: list[str], at: int) -> Taken:
    """What is to be known of an item so that it can be put back."""
    before, after = items[at - 1] if at else "", items[at + 1] if at + 1 < len(items) else ""
    return Taken(items[at], at, before, after, sum(same(item) == same(items[at]) for item in items))


def find(items: list[str], one: Taken) -> int | None:
    """Where an item stands now: the one that is written just so and stands nearest to its place; None if it is gone."""
    equal = [n for n, item in enumerate(items) if item == one.item] or [n for n, item in enumerate(items) if same(item) == same(one.item)]
    return min(equal, key=lambda n: abs(n - one.at)) if equal else None


def put_back(items: list[str], one: Taken) -> list[str]:
    """The list with the item where it was, whatever else has changed: after its neighbour, else before the other, else at its place."""
    if one.before in items and one.before:
        at = min((n + 1 for n, item in enumerate(items) if item == one.before), key=lambda n: abs(n - one.at))
    elif one.after in items and one.after:
        at = min((n for n, item in enumerate(items) if item == one.after), key=lambda n: abs(n - one.at))
    else:
        at = min(one.at, len(items))
    return [*items[:at], one.item, *items[at:]]


def items_of(value: RegValue, between: str) -> list[str] | None:
    """The items of a value; None if it is no list. Args: between: what parts them in a text."""
    if value.type == REG_MULTI_SZ:
        return value.texts
    return value.text.split(between) if value.type in (REG_SZ, REG_EXPAND_SZ) else None


def with_items(value: RegValue, items: list[str], between: str) -> RegValue:
    """The same value with other items: its type stays, and whether it ends with a NUL."""
    if value.type == REG_MULTI_SZ:
        return list_value(value.name, items)
    end = "\0" if value.raw.endswith(b"\0\0") else ""
    return RegValue(value.name, value.type, (between.join(items) + end).encode("utf-16-le", "surrogatepass"))
