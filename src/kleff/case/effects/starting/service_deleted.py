"""A service was taken out of the manager's register; taken back, the manager makes it again from its key as it was at that very instant."""

from __future__ import annotations

from typing import ClassVar

from kleff.case.effects.base import UNDONE, Effect, TakenBack, stays
from kleff.case.hands import Hands
from kleff.case.record.effect import Journaled, Sha256, Stem
from kleff.case.record.exports import export, read_export
from kleff.errors import ActionFailed, remedy_for
from kleff.procedure.globs import PathStyle
from kleff.registry.registry import KeyRef
from kleff.workstation.boot import same_boot
from kleff.workstation.things import Service


class ServiceDeleted(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """A service, and where its key lies in the case.

    Attributes:
        pending: the boot in which it was marked to go at the restart.
    """

    kind: ClassVar[str] = "service deleted"

    name: str
    start: str
    stem: Stem
    sha256: Sha256
    pending: str = ""

    def happened(self, one: Journaled, hands: Hands) -> bool:
        services = hands.workstation.services
        return services is None or services.get(self.name) is None or bool(self.pending)

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        services, registrations = hands.workstation.services, hands.workstation.registrations
        if services is None or registrations is None:
            return stays(f"the service {self.name}: this workstation has no service manager now")
        if same_boot(hands.workstation, self.pending):
            return stays(f"the service {self.name} goes at the restart, and can be made again after it only")
        _, tree = read_export(hands.case.folder / "undo", self.stem, self.sha256)
        try:
            registrations.make(self.name, tree)
        except OSError as error:  # as where another of that name has been made since
            return stays(f"the service {self.name} cannot be made again: {error.strerror}")
        return UNDONE

    def again(self, one: Journaled) -> bool:
        return True

    def what(self, one: Journaled, style: PathStyle) -> str:
        return self.name


def delete_service(hands: Hands, action: int, service: Service, key: KeyRef) -> bool:
    """Keep what it is, then have the manager delete it. False if it goes only once nothing has it open, or at the restart.

    Args:
        key: in which it is registered.

    Raises:
        ActionFailed: it may not be touched, or the manager says no.
    """
    registrations, verdict = hands.workstation.registrations, hands.guard.check_name("service", service.name)
    tree = hands.registry.tree(key)
    if not verdict.ok or registrations is None or tree is None:
        raise ActionFailed(f"the service {service.name} may not be touched: {verdict.reason}", remedy="correct the procedure")
    stem = f"{hands.case.journal.next_effect():04d}"
    for ending in (".reg", ".json"):  # left by a try that was killed before its intent was written
        (hands.case.folder / "undo" / (stem + ending)).unlink(missing_ok=True)
    sha256 = export(hands.case.folder / "undo", stem, key, tree)
    try:
        with hands.doing(action, ServiceDeleted(name=service.name, start=service.start, stem=stem, sha256=sha256)) as one:
            gone = registrations.delete(service.name)
            if not gone:
                hands.amend(one, pending=hands.workstation.boot)
        return gone
    except OSError as error:
        raise ActionFailed(f"the service {service.name} cannot be deleted: {error.strerror}", remedy=remedy_for(error)) from None
