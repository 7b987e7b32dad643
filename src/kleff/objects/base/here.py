"""A procedure on a workstation: what planning needs, settled once; and what doing needs besides."""

from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, Literal

from kleff.case.guard.guard import Guard
from kleff.errors import ActionFailed
from kleff.objects.base.action import Action
from kleff.objects.base.places import OwnPlaces
from kleff.objects.base.resolve import Resolver
from kleff.objects.base.secrets import Secrets
from kleff.procedure.conditions import Answer, not_wanted
from kleff.procedure.loaded import LoadedStep, Procedure
from kleff.procedure.model import Step
from kleff.progress import Progress
from kleff.workstation.facets import Workstation

if TYPE_CHECKING:  # what only a run needs is not loaded for a look
    from kleff.case.bag.bag import Bag
    from kleff.case.bag.index import Object, SavedItem
    from kleff.case.hands import Hands
    from kleff.case.record.beforehand import Beforehand

SpareMode = Literal["links", "full", "off"]
Asked = tuple[str, ...]
Said = str | ActionFailed


@dataclass(frozen=True)
class Options:
    """How a run is to be done.

    Attributes:
        spare: what is taken before an outside program removes something.
        waived: conditions that are gone on without.
        confirmed: manual steps that are done, by their id, and who says so.
        stop_holders: names or numbers of programs that hold the product's files open and are to be ended.
        without_backup: labels of backups that are gone on without, and why.
        accounts: the names of those it is done for alone; none for all.
        came_along: whether packages that came along go too, where the procedure does not say: "these", "all", "none"; "" if nobody says.
        show_items: name what a database holds, which is counted else.
        goes_on_alone: after a restart the workstation goes on by itself.
        without_uninstallers: registered products are removed without theirs.
        somebody: a person is there, who can answer windows.
        restarted: a person says whether the workstation was restarted since the case waits; None if nobody does.
    """

    spare: SpareMode = "links"
    waived: frozenset[str] = frozenset()
    confirmed: dict[str, str] = field(default_factory=dict)
    stop_holders: frozenset[str] = frozenset()
    without_backup: dict[str, str] = field(default_factory=dict)
    accounts: frozenset[str] = frozenset()
    show_items: bool = False
    came_along: str = ""
    goes_on_alone: bool = False
    without_uninstallers: bool = False
    somebody: bool = False
    restarted: bool | None = None


@dataclass
class Programs:
    """What programs said while something was planned: another plan of the same moment does not run them again.

    Attributes:
        said: output, or why there is none, by the name of the secret that was given and the arguments.
        before: what they said to a plan of the same moment.
    """

    said: dict[Asked, Said] = field(default_factory=dict)
    before: dict[Asked, Said] = field(default_factory=dict)

    def again(self) -> "Programs":
        """For another plan of the same moment."""
        return Programs(before={**self.before, **self.said})


@dataclass(frozen=True)
class Here:
    """A procedure on a workstation.

    Attributes:
        answers: to the procedure's questions; versions: that the evidence shows.
        own: the product's places, as far as they are known.
        present: whether anything shows the product, or could not be looked at.
        since: when a Kleff that changes something was last at work here before this was looked at, in ns.
    """

    workstation: Workstation
    procedure: Procedure
    guard: Guard
    resolver: Resolver
    answers: dict[str, Answer] = field(default_factory=dict)
    versions: tuple[str, ...] = ()
    present: bool = True
    own: OwnPlaces = field(default_factory=OwnPlaces)
    options: Options = field(default_factory=Options)
    secrets: Secrets = field(default_factory=Secrets)
    programs: Programs = field(default_factory=Programs)
    since: int = 0

    def with_options(self, **options: Any) -> "Here":
        """The same with other options."""
        return replace(self, options=replace(self.options, **options))

    def not_wanted(self, step: Step) -> str:
        """Why a step is not to be done with the answers given here; "" if it is."""
        facts: dict[str, Answer] = {"bits": str(self.workstation.bits), "version": list(self.versions)}
        return not_wanted(step.when, step.unless, {**facts, **self.answers})

    def not_chosen(self, step: Step, account: str = "", version: str = "", component: str = "") -> str:
        """Of what a step found: the account, version or component that was not chosen; "" if it was, or nothing is to be chosen."""
        if not step.chosen:
            return ""
        ask = next(a for a in self.procedure.asks if a.id == step.chosen)
        answer = self.answers[ask.id]
        wanted = [answer] if isinstance(answer, str) else answer if isinstance(answer, list) else []
        if ask.from_ == "lists":
            return ""  # its step looks itself
        is_of = {"accounts": account, "versions": version, "components": component}[str(ask.from_)]
        return "" if is_of in wanted else is_of

    def action(self, step: LoadedStep, verb: str, target: str, **more: Any) -> Action:
        """A new action of a step, with what every action of it shares."""
        model = step.model
        because = more.pop("because", "") or f"the step at line {step.line}"
        return Action(
            phase=step.phase, step=step.index, line=step.line, kind=step.kind, label=model.label, verb=verb, target=target,
            because=because, optional=model.may_fail, after_restart=model.after_restart, saves=model.saves, owed=model.owed, **more,
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
    """What doing an action needs: the context, hands for effects, the bag, and what was noted when the case began."""

    here: Here
    hands: "Hands"
    bag: "Bag"
    beforehand: "Beforehand | None" = None

    @property
    def progress(self) -> Progress:
        return self.hands.progress

    def item(self, action: Action, object: "Object", **more: Any) -> "SavedItem":
        """What the bag is told of a thing that an action saves."""
        from kleff.case.bag.index import FORMAT, SavedItem

        return SavedItem(
            format=FORMAT, object=object, label=action.label, kind=action.saves, line=action.line, account=action.account, **more
        )
