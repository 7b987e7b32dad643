"""Readiness: another product, package, path, key or service that must or must not be there."""

from typing import Annotated, Literal, cast

from msgspec import Meta, defstruct

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


def _before(evidence: type[Step], what: str, seen: str = "be there") -> type[Step]:
    """The evidence of that kind, told beforehand what it must be."""
    made = defstruct(
        evidence.__name__.replace("Evidence", "Before"),
        [("must_be", Must), ("waivable", Waivable, False)],
        bases=(evidence,),
        namespace={"__doc__": f"{what} that must, or must not, {seen}."},
        kw_only=True,
        frozen=True,
    )
    return cast(type[Step], made)


MODELS: dict[str, type[Step]] = {
    "entry": _before(EntryEvidence, "A registered product"),
    "package": _before(PackageEvidence, "A package"),
    "path": _before(PathEvidence, "A path"),
    "key": _before(KeyEvidence, "A key"),
    "service": _before(ServiceEvidence, "A service", "be registered"),
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
