"""A service was stopped, and kept from starting until the case ends; taken back, it starts and runs as before."""

from __future__ import annotations

from typing import ClassVar

from kleff.case.effects.base import UNDONE, Effect, TakenBack, stays
from kleff.case.hands import Hands
from kleff.case.record.effect import Journaled
from kleff.procedure.globs import PathStyle
from kleff.registry.registry import KeyRef
from kleff.registry.values import RegValue
from kleff.workstation.things import Service


class ServiceStopped(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """A service as it was before: whether it ran, and how it starts."""

    kind: ClassVar[str] = "service changed"
    starts_programs: ClassVar[bool] = True

    name: str
    running: bool
    start: str
    held: bool = False

    @property
    def service(self) -> Service:
        return Service(self.name, self.running, self.start)

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        services = hands.workstation.services
        if services is None or services.get(self.name) is None:
            return stays(f"the service {self.name} is no longer registered")
        services.restore(self.service)
        return UNDONE

    def release(self, one: Journaled, hands: Hands) -> None:
        """One that is still there may be started again as before; none is started."""
        if self.held and hands.workstation.services is not None:
            hands.workstation.services.release(self.service)

    def settings(self, one: Journaled, hands: Hands) -> list[tuple[KeyRef, RegValue]]:
        services = hands.workstation.services
        return services.settings(self.service) if self.held and services is not None else []

    def what(self, one: Journaled, style: PathStyle) -> str:
        return self.name


def _start_before(hands: Hands, service: Service) -> str:
    """How a service started before this case: of one that a killed try holds already, the service itself cannot tell any more."""
    earlier = (one.effect for one in hands.case.journal.effects() if one.state == "done")
    found = (e.start for e in earlier if isinstance(e, ServiceStopped) and e.name == service.name)
    return next(found, service.start)


def stop_service(hands: Hands, action: int, service: Service) -> bool:
    """Stop a service. It is held first: what watches over it must not start it again.

    Returns:
        Whether this system can hold it.
    """
    services = hands.workstation.services
    assert services is not None
    start = _start_before(hands, service)
    with hands.doing(action, ServiceStopped(name=service.name, running=service.running, start=start, held=True)) as one:
        held = services.hold(service.name)
        if not held:
            hands.amend(one, held=False)
        services.stop(service.name)
    return held
