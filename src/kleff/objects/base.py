"""What every kind of object shares: actions, the scene they are planned on, and the duties of a kind."""

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Protocol

import msgspec

from kleff.case.guard.guard import Guard
from kleff.errors import ActionFailed
from kleff.objects.resolve import Resolver
from kleff.objects.secrets import Secrets
from kleff.procedure.conditions import Answer, not_wanted
from kleff.procedure.load import LoadedStep, Procedure
from kleff.procedure.model import Step
from kleff.progress import Progress, Silent
from kleff.workstation.facets import Workstation

if TYPE_CHECKING:  # what only a run needs is not loaded for a look
    from kleff.case.bag.bag import Bag
    from kleff.case.bag.encryption import BagKey
    from kleff.case.bag.index import Object, SavedItem
    from kleff.case.effects import Hands

TO_DO, ABSENT, UNREADABLE, KEPT, REFUSED, MANUAL = "to do", "absent", "unreadable", "kept", "refused", "manual"
DONE, FAILED, SKIPPED, WAITING, UNDONE = "done", "failed", "skipped", "waiting for restart", "undone"
NOT_EMPTY = "not empty now; goes if it is empty when its turn comes"
NOTHING_TO_UNDO = "nothing to take back"

Telling = dict[tuple[str, ...], str | ActionFailed]
"""What programs told, or why they could not, by the name of the secret they were given and their arguments."""


class Action(msgspec.Struct, kw_only=True):
    """One step made concrete on one workstation.

    Attributes:
        number: its place in the plan, from 1; 0 while planning.
        kind: the object key of the step, which says who does it.
        verb: what is done, one or two words.
        target: for people; `exact` holds the same exactly where it is a path (base64 of raw bytes).
        state: `to do` ... `manual`; `reason` says why where it is not `to do`.
        because: why it is in the plan.
        version, component: of what is registered or installed, where the action is about that.
        saves: what kind of data a step saves, as the procedure says.
        undo: how it can be taken back; `final` if it cannot.
        details: what the kind needs to do it.
        inside: what stays within it, with reasons.
        shows: further lines for the preview.
    """

    number: int = 0
    phase: str
    step: int
    line: int
    kind: str
    label: str = ""
    verb: str
    target: str
    exact: str = ""
    account: str = ""
    version: str = ""
    component: str = ""
    state: str = TO_DO
    reason: str = ""
    because: str = ""
    saves: str = ""
    undo: str = NOTHING_TO_UNDO
    final: bool = False
    items: int = 0
    size: int = 0
    optional: bool = False
    after_restart: bool = False
    details: dict[str, Any] = {}
    inside: list[str] = []
    shows: list[str] = []


class Sighting(msgspec.Struct, kw_only=True):
    """A piece of evidence that was found (or could not be looked at)."""

    kind: str
    what: str
    version: str = ""
    where: str = ""
    account: str = ""
    line: int = 0
    in_range: bool = True
    unreadable: bool = False


class Outcome(msgspec.Struct, kw_only=True):
    """What doing an action came to."""

    state: str = DONE
    note: str = ""
    items: int = 0
    size: int = 0
    restart: bool = False


@dataclass
class Scene:
    """A procedure on a workstation: what planning needs."""

    workstation: Workstation
    procedure: Procedure
    guard: Guard
    resolver: Resolver
    progress: Progress = field(default_factory=Silent)
    spare: str = "links"
    answers: dict[str, Answer] = field(default_factory=dict)
    secrets: Secrets = field(default_factory=Secrets)
    waived: frozenset[str] = frozenset()
    confirmed: dict[str, str] = field(default_factory=dict)
    stop_holders: bool = False
    bag_key: "BagKey | None" = None
    versions: list[str] = field(default_factory=list)
    # What programs told while this was planned, and what they told a plan of the same moment: those are not run again.
    told: Telling = field(default_factory=dict)
    heard: Telling = field(default_factory=dict)

    def not_wanted(self, step: Step) -> str:
        """Why a step is not to be done with the answers given here; "" if it is."""
        facts: dict[str, Answer] = {"bits": str(self.workstation.bits), "version": self.versions}
        return not_wanted(step.when, step.unless, {**facts, **self.answers})

    def action(self, step: LoadedStep, verb: str, target: str, **more: Any) -> Action:
        """A new action of a step, with what every action of it shares."""
        optional = step.model.optional or not getattr(step.model, "required", True)
        because = more.pop("because", "") or f"the step at line {step.line}"
        return Action(
            phase=step.phase, step=step.index, line=step.line, kind=step.kind, label=step.model.label, verb=verb,
            target=target, because=because, optional=optional, after_restart=step.model.after_restart,
            saves=getattr(step.model, "kind", None) or "", **more,
        )  # fmt: skip

    def version_in_range(self, version: str, pattern: str) -> bool:
        """Whether a version is one the procedure touches; an unknown one only if the pattern itself names a number."""
        wanted = self.procedure.product.range
        if not wanted.conditions:
            return True
        if not version:
            return any(c.isdigit() for c in pattern)
        compare = self.workstation.compare_versions
        return wanted.holds(version, compare) if compare else wanted.holds(version)


@dataclass
class Work:
    """What doing an action needs: the scene, hands for effects, the bag."""

    scene: Scene
    hands: "Hands"
    bag: "Bag"

    @property
    def progress(self) -> Progress:
        return self.hands.progress

    def item(self, action: Action, object: "Object", **more: Any) -> "SavedItem":
        """What the bag is told of a thing that an action saves."""
        from kleff.case.bag.index import FORMAT, SavedItem

        return SavedItem(
            format=FORMAT, object=object, label=action.label, kind=action.saves, line=action.line, account=action.account, **more
        )


class Kind(Protocol):
    """A kind of object."""

    models: dict[str, type[Step]]
    """Which step model it offers in which phase."""

    def look(self, step: LoadedStep, scene: Scene) -> Iterator[Sighting]:
        """Evidence: what of it is there."""

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        """The actions a step means here. Nothing is changed."""

    def joins(self, step: LoadedStep) -> bool:
        """Whether actions of a step may be done together with others of this kind."""

    def together(self, actions: list[tuple[Action, LoadedStep]], work: Work) -> dict[int, Outcome]:
        """Do several at once, by number; what is not among the results has to be done by itself."""

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        """Do an action; done twice is done once.

        Raises:
            ActionFailed: naming the thing and the remedy.
        """


def can_look(kind: Kind) -> bool:
    """Whether a kind can tell what of it is there."""
    return type(kind).look is not Offers.look


class Offers:
    """A base for kinds: what a kind does not offer it is never asked for (the loader sees to that)."""

    models: dict[str, type[Step]] = {}

    def look(self, step: LoadedStep, scene: Scene) -> Iterator[Sighting]:
        raise NotImplementedError(step.phase)

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        raise NotImplementedError(step.phase)

    def joins(self, step: LoadedStep) -> bool:
        return False

    def together(self, actions: list[tuple[Action, LoadedStep]], work: Work) -> dict[int, Outcome]:
        raise NotImplementedError(actions[0][1].phase)

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        raise NotImplementedError(step.phase)
