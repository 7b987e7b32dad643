"""Readiness: another product, package, path, key or service that must or must not be there."""

from typing import Annotated, Literal

from msgspec import Meta

from kleff.objects.base import UNREADABLE, Action, Kind, Scene
from kleff.objects.entries import EntryEvidence
from kleff.objects.keys import KeyEvidence
from kleff.objects.packages import PackageEvidence
from kleff.objects.paths import PathEvidence
from kleff.objects.readiness import settled
from kleff.objects.services import ServiceEvidence
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import Step

Must = Annotated[Literal["there", "absent"], Meta(description="what it must be")]
Waivable = Annotated[bool, Meta(description="--waive NAME goes on without it")]


class EntryBefore(EntryEvidence, kw_only=True, frozen=True):
    """A registered product that must, or must not, be there."""

    must_be: Must
    waivable: Waivable = False


class PackageBefore(PackageEvidence, kw_only=True, frozen=True):
    """A package that must, or must not, be there."""

    must_be: Must
    waivable: Waivable = False


class PathBefore(PathEvidence, kw_only=True, frozen=True):
    """A path that must, or must not, be there."""

    must_be: Must
    waivable: Waivable = False


class KeyBefore(KeyEvidence, kw_only=True, frozen=True):
    """A key that must, or must not, be there."""

    must_be: Must
    waivable: Waivable = False


class ServiceBefore(ServiceEvidence, kw_only=True, frozen=True):
    """A service that must, or must not, be registered."""

    must_be: Must
    waivable: Waivable = False


MODELS: dict[str, type[Step]] = {
    "entry": EntryBefore,
    "package": PackageBefore,
    "path": PathBefore,
    "key": KeyBefore,
    "service": ServiceBefore,
}


def plan_presence(kind: Kind, step: LoadedStep, scene: Scene) -> Action:
    """The action of such a step: looked at as evidence is."""
    wanted = getattr(step.model, "must_be", "")
    action = scene.action(step, "check", f"{step.kind} {getattr(step.model, step.kind)} must be {wanted}")
    found = list(kind.look(step, scene))
    if any(s.unreadable for s in found):
        action.state, action.reason = UNREADABLE, found[0].what
        return action
    seen = f"{found[0].what} is there" if found else "not there"
    remedy = "install it first" if wanted == "there" else "remove it first"
    return settled(action, step, scene, bool(found) == (wanted == "there"), seen, remedy)
