"""Packages were removed by the package manager, or changed to another version; taken back, they are built anew from what was recorded and
installed again.
"""

from __future__ import annotations

from base64 import b64decode, b64encode
from collections.abc import Callable
from typing import ClassVar, Literal

import msgspec
from msgspec import field

from kleff.case.aside.package_spare import PackageSpare
from kleff.case.aside.spare_plan import SparePlan
from kleff.case.effects.base import UNDONE, TakenBack, stays
from kleff.case.effects.spared import Spared, areas_for, no_spare, put_back_others, record_difference, spare_of
from kleff.case.hands import Hands
from kleff.case.record.effect import Base64, Count, Journaled, Sha256
from kleff.procedure.globs import PathStyle
from kleff.workstation.facets import Workstation
from kleff.workstation.things import PackageRecord


class PackageRemoved(Spared, kw_only=True, frozen=True, omit_defaults=True):
    """Packages that one call of the package manager removed.

    Attributes:
        what: names and versions; configuration: how many configuration files were saved before.
        records: SHA-256 of what was recorded of them.
        earlier: the effect of a try that was cut off, whose spare is the whole one.
        changed_to: the versions that were put in their place, by name; then nothing was removed.
        diverted: (path, where another's file lies meanwhile), of files that gave way to its own.
    """

    kind: ClassVar[str] = "package removed"
    starts_programs: ClassVar[bool] = True
    names_leftovers: ClassVar[bool] = True

    what_: str = field(name="what")
    names: list[str] = []
    purge: bool = True
    configuration: Count = 0
    records: Sha256 | Literal[""] = ""
    earlier: Count = 0
    diverted: list[tuple[Base64, Base64]] = []
    changed_to: dict[str, str] = {}

    def moved_back(self, hands: Hands) -> set[str]:
        files = hands.workstation.files
        return {lies for path, lies in self.diverted if files.look(files.from_raw(b64decode(path))) is not None}

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        if self.earlier:
            return UNDONE  # the spare of the try before holds it all
        if not self.index:
            done = f"changed {self.what_}" if self.changed_to else f"removed {self.what_}"
            return stays(f"the package manager {done}; install again, its saved configuration is in the case")
        hands.progress.say(f"building anew and installing {self.what_}")
        spare = package_spare_of(hands, one.id)
        left = spare.put_back(self.records, self.index, self.changed_to)
        return stays("; ".join(left)) if left else TakenBack("undone", f"installed again from the spare: {self.what_}{spare.not_back}")

    @property
    def named_by(self) -> str:
        return f"the package manager, {'changing' if self.changed_to else 'removing'} {self.what_},"

    def what(self, one: Journaled, style: PathStyle) -> str:
        return self.what_


def package_spare_of(hands: Hands, number: int) -> PackageSpare:
    """The recorded packages of an effect."""
    return PackageSpare(hands.workstation, spare_of(hands, number), hands.case.folder, number)


def remove_packages(
    hands: Hands, action: int, effect: PackageRemoved, planned: Callable[[], tuple[list[PackageRecord], SparePlan]] | None
) -> Journaled:
    """Remove packages, or change them: the intent, after it their spare, complete, and only then the package manager. To be confirmed by
    the caller, once it has looked whether they are gone.

    Args:
        planned: records them and says what the spare is made of; None to take none.

    Raises:
        ActionFailed: no spare can be taken, or the package manager fails.
    """
    packages = hands.workstation.packages
    assert packages is not None
    _note_foreign(hands, action)
    one = hands.intend(action, effect) if planned is None else _spared(hands, action, effect, planned)
    if effect.changed_to:
        packages.change(effect.changed_to, hands.case.output(one.id))
    else:
        packages.remove(effect.names, effect.purge, hands.case.output(one.id))
    return one


def after_removal(hands: Hands, one: Journaled) -> list[str]:
    """What the package manager did besides: put right where others need it, noted for the undo, and the effect confirmed.

    Returns:
        That in words, as far as there is anything to say.
    """
    effect = one.effect
    assert isinstance(effect, PackageRemoved)
    # After a try that was cut off, what both have done is to be compared with the spare of the first.
    whole = next((e for e in hands.case.journal.effects(one.action) if effect.earlier and e.id == effect.earlier), one)
    others = put_back_others(hands, whole)
    records = whole.effect.records if isinstance(whole.effect, PackageRemoved) else ""
    if records:
        package_spare_of(hands, whole.id).note_stopped(records)
        if effect.changed_to:
            package_spare_of(hands, whole.id).hold_again(records)
    told = record_difference(hands, whole, package_spare_of(hands, whole.id).foreign())
    hands.done(one)
    return [text for text in (told, others) if text]


def after_cut_off(hands: Hands, action: int) -> list[str]:
    """The same where the package manager has ended without Kleff."""
    one = earlier_try(hands, action)
    if one is None:
        return []
    _note_foreign(hands, action)
    return after_removal(hands, one)


def _note_foreign(hands: Hands, action: int) -> None:
    first = earlier_try(hands, action)
    if first is None or not isinstance(first.effect, PackageRemoved):
        return
    last = max(e.id for e in hands.case.journal.effects(action) if isinstance(e.effect, PackageRemoved))
    package_spare_of(hands, first.id).note_foreign(first.effect.index, hands.case.output(last))


def earlier_try(hands: Hands, action: int) -> Journaled | None:
    """The first try of an action whose spare was complete, and all that is saved before it."""
    tries = (e for e in hands.case.journal.effects(action) if isinstance(e.effect, PackageRemoved) and e.effect.index)
    return next(tries, None)


def clear_up(workstation: Workstation) -> None:
    """Take away what a run or an undo that was killed in the middle may have left in the way."""
    if workstation.packages is not None:
        workstation.packages.clear_up()


def _spared(hands: Hands, action: int, effect: PackageRemoved, planned: Callable[[], tuple[list[PackageRecord], SparePlan]]) -> Journaled:
    # Cut off while the package manager was at work: the spare of that time is whole, what is there now is not.
    before = earlier_try(hands, action)
    if before is not None:
        return hands.intend(action, msgspec.structs.replace(effect, earlier=before.id))
    hands.progress.say("     taking a spare of the packages")
    records, plan = planned()
    diverted = [(_raw(hands, path), _raw(hands, lies)) for record in records for path, lies in record.diverted]
    making = msgspec.structs.replace(effect, spare="making", areas_=areas_for(hands, plan), diverted=diverted)
    one = hands.intend(action, making)
    try:
        hashes = package_spare_of(hands, one.id).take(records, plan)
    except OSError as error:
        raise no_spare(error, "nothing was removed") from None
    return hands.amend(one, spare="made", **hashes)


def _raw(hands: Hands, text: str) -> str:
    path = hands.workstation.files.path(text)
    return b64encode(hands.workstation.files.resolve(path).path.raw if path else b"").decode()
