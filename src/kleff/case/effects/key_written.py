"""Saved registry keys were written: values that were not there; what was there is exported first. Taken back, it is as before."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Annotated, ClassVar

from msgspec import Meta

from kleff.case.effects.base import UNDONE, Effect, TakenBack, stays
from kleff.case.hands import Hands
from kleff.case.record.effect import Count, Journaled, Sha256, Stem
from kleff.case.record.exports import export, read_export
from kleff.errors import ActionFailed, remedy_for
from kleff.procedure.globs import PathStyle, fold
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef, Registry


class KeyWritten(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """What was written of a key, and what was there before. Believed whenever it was intended: taking back what was not written
    changes nothing."""

    kind: ClassVar[str] = "key written"

    key: str = ""
    stem: Stem
    sha256: Sha256
    before: Annotated[str, Meta(pattern=r"^([0-9a-f]{64})?$")]
    keys: Count = 0
    values: Count = 0

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        folder = hands.case.folder / "undo"
        key, written = read_export(folder, self.stem, self.sha256)
        before = read_export(folder, f"{self.stem}-before", self.before)[1] if self.before else None
        left: list[str] = []
        try:
            _unwrite(hands.registry, key, written, before, left)
        except OSError as error:
            return stays(f"{self.key} cannot be changed: {error.strerror}")
        finally:
            hands.registry.api.flush()
        return stays("; ".join(left)) if left else UNDONE

    def again(self, one: Journaled) -> bool:
        return True

    def what(self, one: Journaled, style: PathStyle) -> str:
        return self.key


@dataclass
class Difference:
    """What writing a tree would mean: keys and values that are missing, values that are the same, and those that differ."""

    missing: RegKey
    keys: int = 0
    values: int = 0
    same: int = 0
    differ: list[str] = field(default_factory=list)

    @property
    def anything(self) -> bool:
        return bool(self.keys or self.values)


def compare(registry: Registry, key: KeyRef, tree: RegKey, replace: bool = False) -> Difference:
    """What of `tree` is not there; with `replace` also what is there and differs."""
    result = Difference(RegKey(tree.name))
    _compare(registry.tree(key), tree, result.missing, str(key), result, replace)
    return result


def would_write(registry: Registry, key: KeyRef, tree: RegKey, replace: bool) -> tuple[KeyRef, Difference]:
    """What writing a tree comes to, with the keys above that have to be made; and the topmost key that is written to."""
    top, whole = _from_what_is_there(registry, key, tree)
    return top, compare(registry, top, whole, replace)


def _compare(present: RegKey | None, wanted: RegKey, missing: RegKey, name: str, result: Difference, replace: bool) -> None:
    result.keys += present is None
    for folded, value in wanted.values.items():
        now = present.values.get(folded) if present else None
        if now is not None and (now.type, now.raw) == (value.type, value.raw):
            result.same += 1
            continue
        if now is not None:
            result.differ.append(f"{name}: {value.name or '(default)'}")
        if now is None or replace:
            missing.values[folded] = value
            result.values += 1
    for folded, below in wanted.keys.items():
        there = present.keys.get(folded) if present else None
        part = RegKey(below.name)
        before = result.keys, result.values
        _compare(there, below, part, f"{name}\\{below.name}", result, replace)
        if before != (result.keys, result.values):
            missing.keys[folded] = part


def write_key(hands: Hands, action: int, key: KeyRef, tree: RegKey, replace: bool) -> Difference:
    """Write what is missing of a tree; what is there now and what is written are exported first.

    Raises:
        ActionFailed: the key cannot be written.
    """
    key, difference = would_write(hands.registry, key, tree, replace)
    if not difference.anything:
        return difference
    folder, stem = hands.case.folder / "undo", f"{hands.case.journal.next_effect():04d}"
    for name in (stem, f"{stem}-before"):
        for ending in (".reg", ".json"):  # left by a try that was killed before its intent was written
            (folder / (name + ending)).unlink(missing_ok=True)
    present = hands.registry.tree(key)
    before = export(folder, f"{stem}-before", key, present) if present is not None else ""
    sha256 = export(folder, stem, key, difference.missing)
    effect = KeyWritten(key=str(key), stem=stem, sha256=sha256, before=before, keys=difference.keys, values=difference.values)
    with hands.doing(action, effect):
        try:
            _write(hands.registry, key, difference.missing)
        except OSError as error:
            raise ActionFailed(f"{key} cannot be written: {error.strerror}", remedy=remedy_for(error)) from None
        finally:
            hands.registry.api.flush()
    return difference


def _from_what_is_there(registry: Registry, key: KeyRef, tree: RegKey) -> tuple[KeyRef, RegKey]:
    """The same with every key above that is not there: what is made is taken away again by undo."""
    least = 2 if key.hive == "HKU" else 1
    while len(key.parts) > least + 1 and not registry.exists(above := KeyRef(key.hive, "\\".join(key.parts[:-1]), key.view)):
        tree = RegKey(key.parts[-2], keys={fold(key.parts[-1]): tree})
        key = above
    return key, tree


def _write(registry: Registry, key: KeyRef, tree: RegKey) -> None:
    registry.api.create(key.hive, key.physical)
    for value in tree.values.values():
        registry.api.set(key.hive, key.physical, value)
    for below in tree.keys.values():
        _write(registry, key.child(below.name), below)


def _unwrite(registry: Registry, key: KeyRef, written: RegKey, before: RegKey | None, left: list[str]) -> None:
    for below in written.keys.values():
        _unwrite(registry, key.child(below.name), below, before.keys.get(fold(below.name)) if before else None, left)
    for value in written.values.values():
        now = registry.value(key, value.name)
        was = before.values.get(fold(value.name)) if before else None
        if now is None or (was is not None and (now.type, now.raw) == (was.type, was.raw)):
            continue
        if (now.type, now.raw) != (value.type, value.raw):
            left.append(f"{key}: value {value.name or '(default)'} has been set since")
        elif was is not None:
            registry.api.set(key.hive, key.physical, was)
        else:
            registry.api.delete_value(key.hive, key.physical, value.name)
    if before is None and registry.exists(key) and not registry.values(key) and not registry.subkeys(key):
        registry.api.delete_key(key.hive, key.physical)
