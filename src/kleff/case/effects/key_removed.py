"""A registry key, or one value of it, was removed; taken back, it is written back from the export made at that very instant."""

from __future__ import annotations

from collections.abc import Callable
from typing import ClassVar

from kleff.case.effects.base import UNDONE, Effect, TakenBack, stays
from kleff.case.hands import Hands
from kleff.case.record.effect import Count, Journaled, Sha256, Stem
from kleff.case.record.exports import export, read_export
from kleff.errors import ActionFailed, remedy_for
from kleff.procedure.globs import PathStyle
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef


class KeyRemoved(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """A key with all below it. Believed whenever it was intended: putting back what is still there changes nothing."""

    kind: ClassVar[str] = "key removed"

    key: str = ""
    stem: Stem
    sha256: Sha256
    keys: Count = 0
    values: Count = 0

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        key, tree = read_export(hands.case.folder / "undo", self.stem, self.sha256)
        try:
            left = hands.registry.write_tree(key, tree)
        except OSError as error:
            return stays(f"{key} cannot be written: {error.strerror}")
        finally:
            hands.registry.api.flush()
        return stays("; ".join(left)) if left else UNDONE

    def again(self, one: Journaled) -> bool:
        return True

    def what(self, one: Journaled, style: PathStyle) -> str:
        return self.key


class ValueRemoved(KeyRemoved, kw_only=True, frozen=True, omit_defaults=True):
    """One value of a key."""

    kind: ClassVar[str] = "value removed"


def remove_key(hands: Hands, action: int, key: KeyRef, tree: RegKey) -> None:
    """Export a key at this very instant, then delete it with all below it."""
    _remove(hands, action, KeyRemoved, key, tree, lambda: hands.registry.delete_tree(key))


def remove_value(hands: Hands, action: int, key: KeyRef, tree: RegKey) -> None:
    """Export the one value in `tree`, then delete it."""
    name = next(iter(tree.values.values())).name
    _remove(hands, action, ValueRemoved, key, tree, lambda: hands.registry.api.delete_value(key.hive, key.physical, name))


def _remove(hands: Hands, action: int, kind: type[KeyRemoved], key: KeyRef, tree: RegKey, act: Callable[[], None]) -> None:
    key = hands.registry.spelled(key)  # as it is written there: so it is made again
    verdict = hands.guard.check_key(key, value=kind is ValueRemoved)
    if not verdict.ok:
        raise ActionFailed(f"{key} may not be touched: {verdict.reason}", remedy="correct the procedure")
    stem = f"{hands.case.journal.next_effect():04d}"
    for ending in (".reg", ".json"):  # left by a try that was killed before its intent was written
        (hands.case.folder / "undo" / (stem + ending)).unlink(missing_ok=True)
    sha256 = export(hands.case.folder / "undo", stem, key, tree)
    keys, values = tree.count()
    with hands.doing(action, kind(key=str(key), stem=stem, sha256=sha256, keys=keys, values=values)):
        try:
            act()
        except OSError as error:
            raise ActionFailed(f"{key} cannot be removed: {error.strerror}", remedy=remedy_for(error)) from None
        finally:
            hands.registry.api.flush()
