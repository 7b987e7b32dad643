"""Readiness: facts that must hold before anything is done. Each that does not names its remedy; some can be waived by name."""

from collections.abc import Callable, Collection, Iterator
from typing import Annotated, Any, Literal

from msgspec import Meta

from kleff.objects.base.action import Action
from kleff.objects.base.checking import settled
from kleff.objects.base.here import Here
from kleff.objects.base.kind import Kind
from kleff.procedure.loaded import LoadedStep
from kleff.procedure.model import Step, Text
from kleff.procedure.texts import Problem
from kleff.procedure.versions import parse_range
from kleff.workstation.system_facet import Readiness


class Before(Step, kw_only=True, frozen=True):
    """What must hold before anything is done."""

    waivable: Annotated[bool, Meta(description="--waive NAME goes on without it")] = True

    @property
    def may_be_waived(self) -> bool:
        return self.waivable


class PowerBefore(Before, kw_only=True, frozen=True):
    """Mains power, or enough battery."""

    power: Literal["mains"]
    enough: Annotated[int | None, Meta(description="a battery with so many percent will do")] = None


class RightsBefore(Before, kw_only=True, frozen=True):
    """An administrator's rights, for every step, not only where an action needs them."""

    rights: Literal["administrator"]


class RestartBefore(Before, kw_only=True, frozen=True):
    """No restart is pending already."""

    restart: Literal["none-pending"]


class InstallersBefore(Before, kw_only=True, frozen=True):
    """No installer and no package manager is at work."""

    installers: Literal["none-at-work"]


class SignedInBefore(Before, kw_only=True, frozen=True):
    """Nobody else is signed in."""

    signed_in: Literal["nobody-else"]


class BitsBefore(Before, kw_only=True, frozen=True):
    """A 32-bit or 64-bit system."""

    bits: Literal[32, 64]


class VersionBefore(Before, kw_only=True, frozen=True):
    """A version of the system."""

    system_version: Annotated[Text, Meta(description='a range, e.g. ">=10.0.19041"')]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        try:
            parse_range(self.system_version)
        except ValueError as error:
            yield ("system_version",), str(error)


class Unknown(Exception):
    """It cannot be told."""


# What a look comes to: (holds, what was seen, what to do).
Seen = tuple[bool, str, str]


def _power(model: PowerBefore, here: Here, facet: Readiness) -> Seen:
    power = facet.power()
    if power.mains:
        return True, "on mains power", ""
    percent = "" if power.percent is None else f" with {power.percent} %"
    enough = model.enough is not None and power.percent is not None and power.percent >= model.enough
    return enough, f"on battery{percent}", "connect the power supply"


def _rights(model: Step, here: Here, facet: Readiness) -> Seen:
    return here.workstation.admin, "administrator" if here.workstation.admin else "no administrator", "run Kleff as administrator"


def _restart(model: Step, here: Here, facet: Readiness) -> Seen:
    found = facet.restart_pending()
    return not found, "; ".join(found) or "none is pending", "restart the workstation first"


def _installers(model: Step, here: Here, facet: Readiness) -> Seen:
    found = facet.at_work()
    return not found, "; ".join(found) or "none is at work", "let it end first"


def _signed_in(model: Step, here: Here, facet: Readiness) -> Seen:
    found = facet.signed_in()
    return not found, ", ".join(found) if found else "nobody else", "ask them to save their work and to sign out"


def _bits(model: BitsBefore, here: Here, facet: Readiness) -> Seen:
    return here.workstation.bits == model.bits, f"{here.workstation.bits}-bit", "use the procedure that is meant for this system"


def _version(model: VersionBefore, here: Here, facet: Readiness) -> Seen:
    version = facet.version()
    if not version:
        raise Unknown("the system does not tell its version")
    return parse_range(model.system_version).holds(version), f"version {version}", "use the procedure that is meant for this system"


CHECKS: dict[str, tuple[type[Step], str, Callable[[Any, Here, Readiness], Seen]]] = {  # of that very model
    "power": (PowerBefore, "power", _power),
    "rights": (RightsBefore, "rights", _rights),
    "restart": (RestartBefore, "pending restart", _restart),
    "installers": (InstallersBefore, "installers at work", _installers),
    "signed_in": (SignedInBefore, "who is signed in", _signed_in),
    "bits": (BitsBefore, "kind of system", _bits),
    "system_version": (VersionBefore, "version of the system", _version),
}


class CheckKind(Kind):
    """One of the facts in `CHECKS`."""

    def __init__(self, name: str) -> None:
        self.names = (name,)
        self.models = {"before": CHECKS[name][0]}
        self._name = name

    def plan(self, step: LoadedStep, here: Here) -> Iterator[Action]:
        _, what, check = CHECKS[self._name]
        action = here.action(step, "check", what)
        facet = here.workstation.readiness
        try:
            if facet is None:
                raise Unknown("the workstation does not tell")
            holds, seen, remedy = check(step.model, here, facet)
        except (Unknown, OSError) as error:
            holds, seen, remedy = False, str(error), "look at it"
        yield settled(action, step, here, holds, seen, remedy)


KINDS = tuple(CheckKind(name) for name in CHECKS)
