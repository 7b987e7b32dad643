"""A flatpak was uninstalled; taken back, it is installed again from its bundle, without network and from the same source."""

from __future__ import annotations

from pathlib import Path
from typing import ClassVar

from kleff.case.effects.base import UNDONE, Aside, Effect, TakenBack, stays
from kleff.case.hands import Hands
from kleff.case.record.effect import Count, Journaled, Sha256
from kleff.errors import ActionFailed, DamagedCase
from kleff.procedure.globs import PathStyle
from kleff.workstation.flatpak_facet import Flatpak, Flatpaks, named
from kleff.workstation.things import Account
from kleff.workstation.this_machine import host


class FlatpakRemoved(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """Believed whenever it was intended: to put back what is there changes nothing.

    Attributes:
        bundle: the SHA-256 of what it is installed from again; size: its bytes.
        number: of the file that holds it: that of the first try.
    """

    kind: ClassVar[str] = "flatpak removed"
    starts_programs: ClassVar[bool] = True

    one: Flatpak
    bundle: Sha256
    size: Count
    number: Count

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        flatpaks, file = hands.workstation.flatpaks, bundle_of(hands, self.number)
        if flatpaks is None:
            return stays("there is no flatpak here any more")
        if not file.exists() or host().sha256(file) != self.bundle:
            raise DamagedCase("is not what was saved", where=str(file), remedy="restore the case folder from a copy")
        account = named(hands.workstation.accounts.all(), self.one.account)
        if self.one.account and account is None:
            return stays(f"there is no account {self.one.account} here any more")
        hands.progress.say(f"installing {self.one.ref} again")
        try:
            flatpaks.put_back(self.one, account, file)
        except ActionFailed as error:
            return stays(f"{error.what}; {error.remedy}" if error.remedy else error.what)
        return UNDONE

    def again(self, one: Journaled) -> bool:
        return True

    def aside(self) -> Aside | None:
        return Aside(1, self.size)

    def lies_aside(self, one: Journaled, hands: Hands) -> bool:
        return bundle_of(hands, self.number).exists()

    def discard(self, one: Journaled, hands: Hands) -> None:
        bundle_of(hands, self.number).unlink(missing_ok=True)

    def what(self, one: Journaled, style: PathStyle) -> str:
        return self.one.ref


def bundle_of(hands: Hands, number: int) -> Path:
    """Where the bundle of an effect lies."""
    return hands.case.folder / "undo" / f"{number:04d}.flatpak"


def remove_flatpak(hands: Hands, action: int, one: Flatpak) -> None:
    """Save it as a bundle, and uninstall it.

    Raises:
        ActionFailed: it cannot be saved; nothing is removed then. Or it cannot be removed.
    """
    flatpaks = hands.workstation.flatpaks
    assert flatpaks is not None
    account = named(hands.workstation.accounts.all(), one.account)
    effect = _earlier(hands, action, one) or _saved(hands, flatpaks, one, account)
    with hands.doing(action, effect) as journaled:
        flatpaks.remove(effect.one, account, hands.case.output(journaled.id))


def _earlier(hands: Hands, action: int, one: Flatpak) -> FlatpakRemoved | None:
    """Of a try that was cut off: its bundle is whole, what is there now may not be."""
    tries = (e.effect for e in hands.case.journal.effects(action) if isinstance(e.effect, FlatpakRemoved))
    return next((e for e in tries if (e.one.ref, e.one.account) == (one.ref, one.account)), None)


def _saved(hands: Hands, flatpaks: Flatpaks, one: Flatpak, account: Account | None) -> FlatpakRemoved:
    number = hands.case.journal.next_effect()
    file = bundle_of(hands, number)
    file.unlink(missing_ok=True)  # of a try that was killed before its intent
    hands.progress.say(f"     saving {one.ref}")
    try:
        saved = flatpaks.save(one, account, file)
    except OSError as error:
        raise ActionFailed(f"{one.ref} cannot be saved: {error}", remedy="make room; then resume") from None
    host().flush_folder(file.parent)
    return FlatpakRemoved(one=saved, bundle=host().sha256(file), size=file.stat().st_size, number=number)
