"""The closed list of effect kinds; the inverse of each, over the facets of a workstation alone, stands in `inverses`.

moved             a path was set aside         inverse: moved back, never over anything
key removed       a key with all below it      inverse: written back from the export
value removed     one value of a key           inverse: written back from the export
service changed   stopped                      inverse: start type and running state given back
task switched off                              inverse: switched on again
unit stopped      of an account's session      inverse: started again
process ended     asked, then ended            none: named, with its command line
uninstaller ran   an outside program           inverse: from the spare; without one none: named
package removed   by the package manager       built anew from the spare; without one none: named
prepared          in the set-aside area        thrown away
put in place      by one rename                taken away, if it is still as it was put there
key written       values that were not there   deleted, or what was there before written back
command ran       the product's own program    none: named
"""

from __future__ import annotations

import contextlib
from base64 import b64decode
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from kleff.case.aside.area import Area, Layered, Moved, moved_from
from kleff.case.aside.deleting import delete_tree
from kleff.case.aside.package_spare import PackageSpare
from kleff.case.aside.spare import Spare
from kleff.case.effect_names import KEY, MOVED, PACKAGE, PLACED, UNINSTALLER, VALUE
from kleff.case.guard.guard import Guard, Target
from kleff.case.record.exports import export
from kleff.case.record.folder import Case
from kleff.case.record.journal import Effect
from kleff.errors import ActionFailed
from kleff.progress import Progress, Silent
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef, Registry
from kleff.texts import plain
from kleff.workstation.common.counting import PRIVILEGED
from kleff.workstation.facets import Workstation
from kleff.workstation.paths import WPath

BATCH = 100  # intents that share one flush


@dataclass
class Hands:
    """What effects work with: the workstation, the case, the guard, and who watches."""

    workstation: Workstation
    case: Case
    guard: Guard
    progress: Progress
    area: Area = field(init=False)

    def __post_init__(self) -> None:
        self.area = Area(self.workstation.files, self.case.id, areas_of(self))

    @property
    def registry(self) -> Registry:
        if self.workstation.registry is None:
            raise ActionFailed("this workstation has no registry")
        return self.workstation.registry

    def intend(self, action: int, kind: str, data: dict[str, Any], place: bytes = b"") -> Effect:
        """One effect's intent, on disk when this returns."""
        number = self.case.journal.next_effect()
        self.case.journal.intend([Effect(number, action, kind, place, data, "intended")])
        return self.case.journal.effect(number)

    def done(self, effect: Effect, note: str = "") -> None:
        self.case.journal.mark([effect.id], "done", note)


# -- acting ---------------------------------------------------------------------------------------------------


def set_aside(hands: Hands, targets: list[tuple[int, Target]], told: Callable[[int, Moved], None]) -> None:
    """Set paths aside, each for an action: looked at, guarded again, intended, moved, flushed, confirmed. `BATCH` of them share a flush.

    Args:
        told: is given the action and what was moved, one after the other.

    Raises:
        ActionFailed: naming the path; what was moved before it stays moved and is journaled.
    """
    for start in range(0, len(targets), BATCH):
        batch = targets[start : start + BATCH]
        moves = _plan_moves(hands, [target for _, target in batch])
        actions = [action for action, _ in batch]
        intents = zip(moves, actions, strict=True)
        hands.case.journal.intend([Effect(n, action, MOVED, m.place.raw, m.data(), "intended") for (n, m), action in intents])
        hands.area.make({m.aside.parent for _, m in moves})
        done: list[tuple[int, Moved]] = []
        try:
            for (number, moved), action in zip(moves, actions, strict=True):
                try:
                    hands.area.move(moved)
                except Layered:
                    moved = _copy_aside(hands, number, moved)
                done.append((number, moved))
                if moved.privileged:
                    _strip(hands, number, moved)
                told(action, moved)
                hands.progress.step(moved.items, moved.size)
        finally:
            _confirm_moves(hands, done)


def _copy_aside(hands: Hands, number: int, moved: Moved) -> Moved:
    """What cannot be renamed is copied, read back, and then deleted, as far as it is in the copy."""
    journal = hands.case.journal
    journal.amend(journal.effect(number), copied="making")
    hands.progress.start(f"copying {moved.place.name}", items=moved.items, size=moved.size)
    identity = hands.area.copy(moved, hands.progress.step)
    journal.amend(journal.effect(number), copied="made", copy=list(identity))
    moved = replace(moved, copy=identity)
    left = hands.area.delete_original(moved)
    if left:
        raise ActionFailed(
            f"{moved.place}: {plain(left[0])} has appeared or changed while it was copied", remedy="look what writes there; then resume"
        )
    return moved


def _strip(hands: Hands, number: int, moved: Moved) -> None:
    """Set-aside programs lose the right to run as their owner; journaled first, given back by undo."""
    found = hands.area.privileged(moved)
    modes = [["\0".join(names).encode("utf-8", "surrogateescape").hex(), mode] for names, mode in found]
    hands.case.journal.amend(hands.case.journal.effect(number), modes=modes)
    hands.area.set_modes(moved.aside, [(names, mode & ~PRIVILEGED) for names, mode in found])


def modes_of(data: dict[str, Any]) -> list[tuple[tuple[str, ...], int]]:
    listed = [(bytes.fromhex(names).decode("utf-8", "surrogateescape"), mode) for names, mode in data.get("modes", [])]
    return [(tuple(n for n in names.split("\0") if n), mode) for names, mode in listed]


def _plan_moves(hands: Hands, targets: list[Target]) -> list[tuple[int, Moved]]:
    first = hands.case.journal.next_effect()
    moves: list[tuple[int, Moved]] = []
    for target in targets:
        verdict = hands.guard.check(target)
        if not verdict.ok:
            raise ActionFailed(f"{target.path} is no longer allowed to be touched: {verdict.reason}", remedy="look at it by hand")
        if Path(hands.workstation.files.host(target.path)) in (hands.case.folder, *hands.case.folder.parents):
            raise ActionFailed(f"{target.path} holds this very case", remedy="keep cases elsewhere: --cases FOLDER")
        moves.append((first + len(moves), hands.area.plan(target.path, first + len(moves))))
    return moves


def _confirm_moves(hands: Hands, done: list[tuple[int, Moved]]) -> None:
    gone = {m.place for _, m in done}
    parents = {m.place.parent for _, m in done if m.place.parent not in gone} | {m.aside.parent for _, m in done}
    hands.area.flush({p for p in parents if hands.workstation.files.look(p) is not None})
    hands.case.journal.mark([n for n, _ in done], "done")


def remove_key(hands: Hands, action: int, key: KeyRef, tree: RegKey) -> None:
    """Export a key at this very instant, then delete it with all below it."""
    _remove_registry(hands, action, KEY, key, tree, lambda: hands.registry.delete_tree(key))


def remove_value(hands: Hands, action: int, key: KeyRef, tree: RegKey) -> None:
    """Export the one value in `tree`, then delete it."""
    name = next(iter(tree.values.values())).name
    _remove_registry(hands, action, VALUE, key, tree, lambda: hands.registry.api.delete_value(key.hive, key.physical, name))


def _remove_registry(hands: Hands, action: int, kind: str, key: KeyRef, tree: RegKey, act: Callable[[], None]) -> None:
    verdict = hands.guard.check_key(key, value=kind == VALUE)
    if not verdict.ok:
        raise ActionFailed(f"{key} may not be touched: {verdict.reason}", remedy="correct the procedure")
    stem = f"{hands.case.journal.next_effect():04d}"
    for ending in (".reg", ".json"):  # of a try that was killed before its intent
        (hands.case.folder / "undo" / (stem + ending)).unlink(missing_ok=True)
    sha256 = export(hands.case.folder / "undo", stem, key, tree)
    keys, values = tree.count()
    data = {"key": str(key), "stem": stem, "sha256": sha256, "keys": keys, "values": values}
    effect = hands.intend(action, kind, data)
    try:
        act()
    except OSError as error:
        raise ActionFailed(f"{key} cannot be removed: {error.strerror}", remedy="check the rights on the key; then resume") from None
    finally:
        hands.registry.api.flush()
    hands.done(effect)


def areas_of(hands: Hands) -> set[WPath]:
    """The set-aside areas this case has used."""
    files = hands.workstation.files
    effects = hands.case.journal.effects()
    areas = {moved_from(files, e.place, e.data).aside.parent for e in effects if e.kind in (MOVED, PLACED)}
    return areas | {files.from_raw(b64decode(a)) for e in effects for a in e.data.get("areas", [])}


def spare_of(hands: Hands, number: int) -> Spare:
    """The spare of an effect."""
    return Spare(hands.workstation.files, hands.workstation.registry, hands.area, hands.case.folder, number)


def package_spare_of(hands: Hands, number: int) -> PackageSpare:
    """The recorded packages of an effect."""
    return PackageSpare(hands.workstation, spare_of(hands, number), hands.case.folder, number)


def drop_spares(hands: Hands, every: bool = False) -> None:
    """Delete what is left of spares: of effects that are taken back or never happened, or of all."""
    for path in spares(hands, every):
        with contextlib.suppress(FileNotFoundError), hands.workstation.files.parent(path) as (fd, name):
            delete_tree(fd, name, Silent())


def spares(hands: Hands, every: bool = True) -> list[WPath]:
    """The folders of spares: of all effects, or of those that are taken back or never happened."""
    return [
        hands.workstation.files.from_raw(b64decode(area)).child(f"{effect.id:04d}-spare")
        for effect in hands.case.journal.effects()
        if effect.kind in (UNINSTALLER, PACKAGE) and (every or effect.state in ("undone", "void"))
        for area in effect.data.get("areas", [])
    ]
