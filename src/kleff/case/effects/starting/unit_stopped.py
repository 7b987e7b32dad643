"""A unit of an account's own session was stopped; taken back, it is started again."""

from __future__ import annotations

from typing import ClassVar

from kleff.case.effects.base import UNDONE, Effect, TakenBack, stays
from kleff.case.hands import Hands
from kleff.case.record.effect import Journaled
from kleff.procedure.globs import PathStyle
from kleff.workstation.things import Account, Service


class UnitStopped(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """A unit as it was before, and the id of the account whose it is."""

    kind: ClassVar[str] = "unit stopped"
    starts_programs: ClassVar[bool] = True

    name: str
    running: bool
    start: str
    account: str

    def release(self, one: Journaled, hands: Hands) -> None:
        """Else it could not be started before that account signs in again."""
        units, account = hands.workstation.units, self._account(hands)
        if units is not None and account is not None and self.start != "masked-runtime":
            units.release(account, self.name)

    def _account(self, hands: Hands) -> Account | None:
        return next((a for a in hands.workstation.accounts.all() if a.id == self.account), None)

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        units, account = hands.workstation.units, self._account(hands)
        if units is None or account is None:
            return stays(f"the unit {self.name} is in no account's session any more")
        units.restore(account, Service(self.name, self.running, self.start))
        return UNDONE

    def what(self, one: Journaled, style: PathStyle) -> str:
        return self.name


def stop_unit(hands: Hands, action: int, account: Account, unit: Service) -> None:
    """Stop a unit of an account's session, and keep it from being started."""
    units = hands.workstation.units
    assert units is not None
    with hands.doing(action, UnitStopped(name=unit.name, running=unit.running, start=unit.start, account=account.id)):
        units.stop(account, unit.name)
