"""One item was taken out of a list in a registry value; taken back, it stands where it stood, whatever else has changed."""

from __future__ import annotations

from typing import Any, ClassVar

from kleff.case.effects.base import UNDONE, Effect, TakenBack, stays
from kleff.case.hands import Hands
from kleff.case.record.effect import Count, Journaled
from kleff.errors import ActionFailed, remedy_for
from kleff.procedure.globs import PathStyle
from kleff.registry.lists import Taken, find, items_of, put_back, same, taken, with_items
from kleff.registry.registry import KeyRef, unpack_key
from kleff.registry.values import RegValue


class ListItemTaken(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """The item with its neighbours, and how many of the same there were.

    Attributes:
        key, value: where the list is; between: what parts its items.
    """

    kind: ClassVar[str] = "list item taken"

    key: dict[str, Any]
    value: str
    between: str
    item: str
    at: Count
    before: str = ""
    after: str = ""
    equal: Count = 1

    @property
    def one(self) -> Taken:
        return Taken(self.item, self.at, self.before, self.after, self.equal)

    def happened(self, one: Journaled, hands: Hands) -> bool:
        """By how many of the same there are; a list that is gone has lost it too."""
        items = self._items(hands)
        return items is None or self._equal(items) < self.equal

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        key, value = unpack_key(self.key), hands.registry.value(unpack_key(self.key), self.value)
        items = items_of(value, self.between) if value is not None else None
        if value is None or items is None:
            return stays(f"{key}: the value {self.value} is gone, or no list any more; of it: {self.item}")
        if self._equal(items) >= self.equal:
            return UNDONE
        try:
            _write(hands, key, with_items(value, put_back(items, self.one), self.between))
        except OSError as error:
            return stays(f"{key} cannot be written: {error.strerror}; of {self.value}: {self.item}")
        return UNDONE

    def again(self, one: Journaled) -> bool:
        return True

    def what(self, one: Journaled, style: PathStyle) -> str:
        return f"{self.item} in {self.value}"

    def _items(self, hands: Hands) -> list[str] | None:
        value = hands.registry.value(unpack_key(self.key), self.value)
        return items_of(value, self.between) if value is not None else None

    def _equal(self, items: list[str]) -> int:
        return sum(same(item) == same(self.item) for item in items)


def take_item(hands: Hands, action: int, key: KeyRef, name: str, between: str, one: Taken) -> bool:
    """Take one item out of a list, as it stands now. False if it is gone already.

    Raises:
        ActionFailed: it may not be touched, or cannot be written.
    """
    verdict = hands.guard.check_item(key, name)
    if not verdict.ok:
        raise ActionFailed(f"{key} may not be touched: {verdict.reason}", remedy="correct the procedure")
    value = hands.registry.value(key, name)
    items = items_of(value, between) if value is not None else None
    at = find(items, one) if items is not None else None
    if value is None or items is None or at is None:
        return False
    now = taken(items, at)
    effect = ListItemTaken(
        key=key.packed, value=name, between=between, item=now.item, at=now.at, before=now.before, after=now.after, equal=now.equal
    )
    with hands.doing(action, effect):
        try:
            _write(hands, key, with_items(value, [*items[:at], *items[at + 1 :]], between))
        except OSError as error:
            raise ActionFailed(f"{key} cannot be written: {error.strerror}", remedy=remedy_for(error)) from None
    return True


def _write(hands: Hands, key: KeyRef, value: RegValue) -> None:
    try:
        hands.registry.api.set(key.hive, key.physical, value)
    finally:
        hands.registry.api.flush()
