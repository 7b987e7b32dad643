"""A driver was removed from the system's store, its devices before it; taken back, its files and settings come from the spare."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from kleff.case.aside.spare_plan import SparePlan
from kleff.case.effects.base import TakenBack, stays
from kleff.case.effects.spared import Spared, areas_for, no_spare, spare_of
from kleff.case.hands import Hands
from kleff.case.record.effect import Journaled
from kleff.errors import ActionFailed, remedy_for
from kleff.procedure.globs import PathStyle
from kleff.workstation.driver_facet import DriverPackage


class DriverRemoved(Spared, kw_only=True, frozen=True, omit_defaults=True):
    """A package of the store.

    Attributes:
        inf: the name the system had given it; title: its devices'; file: of its settings, in the store.
        devices: those that used it.
    """

    kind: ClassVar[str] = "driver removed"

    inf: str
    title: str
    file: str
    devices: list[str] = []

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        """Its files and what was known of its devices come back; then the system adds it."""
        drivers = hands.workstation.drivers
        if drivers is None or not self.index:
            return stays(f"the driver of {self.title} is not taken back; install it again")
        spare = spare_of(hands, one.id)
        left = spare.bring_back(self.index, own=[])
        spare.check_failed()
        if left:
            return stays("; ".join(left))
        try:
            restart = drivers.control.add_package(self.file)
        except OSError as error:
            return stays(f"the driver of {self.title}: its files are back, but the system does not add it: {error.strerror}")
        how = "set up anew when they are plugged in" if drivers.control.knows_devices else ""
        how += ("; " if how else "") + "after a restart" if restart else ""
        return TakenBack("undone", f"the driver of {self.title} is back{f', its devices are {how}' if how else ''}" if how else "")

    def what(self, one: Journaled, style: PathStyle) -> str:
        return self.title


def remove_driver(hands: Hands, action: int, package: DriverPackage, plan: SparePlan) -> bool:
    """The intent, after it the spare, complete; then its devices, and only then the package. True if a restart is needed.

    Raises:
        ActionFailed: no spare can be taken, or the system says no.
    """
    drivers = hands.workstation.drivers
    assert drivers is not None
    file = package.folder.child(package.original) if package.folder is not None else package.file
    effect = DriverRemoved(inf=package.inf, title=package.title, file=str(file), devices=[d.instance for d in package.devices])
    one = hands.intend(action, msgspec.structs.replace(effect, areas_=areas_for(hands, plan), spare="making"))
    try:
        index = spare_of(hands, one.id).make(plan)
    except OSError as error:
        raise no_spare(error, "the driver was not removed") from None
    one = hands.amend(one, spare="made", index=index)
    try:
        restart = [drivers.control.remove_device(device.instance) for device in package.devices]
        restart.append(drivers.control.remove_package(package.inf))
    except OSError as error:
        remedy = remedy_for(error, otherwise="unplug its devices")
        raise ActionFailed(f"the driver of {package.title} cannot be removed: {error.strerror}", remedy=remedy) from None
    hands.done(one)
    return any(restart)
