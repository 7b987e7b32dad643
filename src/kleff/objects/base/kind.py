"""The duties and abilities of a kind of object.

A kind must say which step models it offers. What else it can do is an ability of its own, a small protocol below; who needs one asks
for it with `able`, never for a kind by name.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Literal, Protocol, TypeVar, runtime_checkable

from kleff.case.guard.guard import Target
from kleff.case.guard.kept import Kept
from kleff.objects.base.action import Action, Outcome, Sighting
from kleff.objects.base.condition import condition_of
from kleff.objects.base.here import Here, Work
from kleff.procedure.loaded import LoadedStep
from kleff.procedure.model import Step
from kleff.registry.registry import KeyRef
from kleff.texts import plural
from kleff.workstation.paths import WPath
from kleff.workstation.things import Process

if TYPE_CHECKING:
    from kleff.case.record.beforehand import Beforehand
    from kleff.objects.base.staging import Stage

Total = Literal["", "saved", "rescued", "aside", "keys", "values"]
A = TypeVar("A")

SECTIONS = {
    "before": "Before anything was done", "backup": "Saved in the bag", "drivers": "Saved in the bag", "rescue": "Rescued",
    "stop": "Stopped", "uninstall": "Uninstalled", "purge": "Uninstalled", "delete": "Deleted",
}  # fmt: skip


@dataclass(frozen=True)
class Words:
    """How what a kind does in one phase is told.

    Attributes:
        section: of a report, for what was done.
        noun: one, and many, of what is counted; empty if nothing is.
        sized: its bytes are told too.
        total: which sum of a plan its items and bytes belong to.
        frees: what it takes away takes room until it is discarded.
        removes: False if something else stands in its place then.
        within: a part of what an action is about is taken out of it; the rest stays.
    """

    section: str
    noun: tuple[str, str] = ("", "")
    sized: bool = False
    total: Total = ""
    frees: bool = False
    removes: bool = True
    within: bool = False


class Kind:
    """A kind of object.

    Attributes:
        names: the keys by which a step names it.
        models: the step model it offers in each phase.
        systems: those that have it; empty if any may.
    """

    names: tuple[str, ...] = ()
    systems: tuple[str, ...] = ()
    models: dict[str, type[Step]] = {}
    condition: str = ""
    """What a condition on its evidence is, for the reference; empty if it offers none."""

    @cached_property
    def condition_model(self) -> type[Step]:
        """Its evidence as a condition."""
        return condition_of(self.models["evidence"], self.condition)

    exports: bool = False
    """What it saves is not known in size before."""

    def words(self, phase: str) -> Words:
        """How it is told."""
        return Words(SECTIONS.get(phase, phase), total="saved" if phase == "backup" else "")

    def proves(self, phase: str) -> bool:
        """Whether what a step of this phase would still have to do shows that the product is not gone."""
        return phase not in ("before", "backup", "after")


@runtime_checkable
class Looks(Protocol):
    """Can tell what of it is there."""

    def look(self, step: LoadedStep, here: Here) -> Iterator[Sighting]: ...


@runtime_checkable
class Plans(Protocol):
    """Makes actions of a step. Nothing is changed."""

    def plan(self, step: LoadedStep, here: Here) -> Iterator[Action]: ...


@runtime_checkable
class Does(Protocol):
    """Does an action; done twice is done once.

    Raises:
        ActionFailed: naming the thing and the remedy.
    """

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome: ...


@runtime_checkable
class Joins(Protocol):
    """Can do several actions at once, so that they share their flushes."""

    def joins(self, step: LoadedStep) -> bool:
        """Whether actions of a step may be done together with others of this kind."""

    def together(self, actions: list[tuple[Action, LoadedStep]], work: Work) -> dict[int, Outcome]:
        """By number; what is not among the results has to be done by itself."""


@dataclass
class Claimed:
    """What a step names as the product's own.

    Attributes:
        targets: paths that are there, with whether they may go with all that is in them now.
        keys: with all below them; values: single ones by key and name.
        shared: exact paths that go though others own them too.
        folders, files: where the product is, as its registration tells.
    """

    targets: list[tuple[Target, bool]] = field(default_factory=list)
    keys: list[KeyRef] = field(default_factory=list)
    values: list[tuple[KeyRef, str]] = field(default_factory=list)
    shared: list[WPath] = field(default_factory=list)
    folders: list[WPath] = field(default_factory=list)
    files: list[WPath] = field(default_factory=list)

    def add(self, other: Claimed) -> None:
        self.targets += other.targets
        self.keys += other.keys
        self.values += other.values
        self.shared += other.shared
        self.folders += other.folders
        self.files += other.files


@runtime_checkable
class Claims(Protocol):
    """Knows what a step names as the product's own: for the guard, the spare, the search for who uses it."""

    def claims(self, step: LoadedStep, here: Here) -> Claimed: ...


@runtime_checkable
class Needs(Protocol):
    """Knows what a step has to run or read on the workstation."""

    def needs(self, step: LoadedStep, here: Here) -> Iterator[tuple[WPath, str]]:
        """Each path, and what it is."""


@runtime_checkable
class Stages(Protocol):
    """Knows what a step would find where the product is installed."""

    def stage(self, step: LoadedStep, stage: Stage) -> None:
        """Put it on a lab."""


@runtime_checkable
class Used(Protocol):
    """Knows which accounts have what a step names."""

    def users(self, step: LoadedStep, here: Here) -> set[str]: ...


@runtime_checkable
class Keeps(Protocol):
    """Knows what of its kind stays on the workstation and must not be harmed."""

    def keep(self, steps: list[LoadedStep], here: Here, claimed: Claimed) -> Kept:
        """Of what is claimed, what stays.

        Args:
            steps: that will be done.
        """


@runtime_checkable
class Notes(Protocol):
    """Knows what of it can only be told before it is removed."""

    def note(self, step: LoadedStep, here: Here, noted: Beforehand) -> None:
        """Add to what is noted."""


@runtime_checkable
class Ends(Protocol):
    """Ends running programs."""

    def ends(self, step: LoadedStep, here: Here) -> list[Process]:
        """Which, as far as they run now."""


@runtime_checkable
class StopsServices(Protocol):
    """Stops services."""

    def stopped(self, step: LoadedStep, here: Here) -> set[str]:
        """The names of the services a step stops."""


@runtime_checkable
class NeedsRights(Protocol):
    """Cannot do everything without an administrator's rights."""

    def needs_rights(self, action: Action, here: Here) -> bool: ...


@runtime_checkable
class Lists(Protocol):
    """Knows programs that tell what can be chosen."""

    def listed(self, step: LoadedStep, here: Here) -> list[str]:
        """What one tells; empty if it must not be run.

        Raises:
            ActionFailed: it cannot be told.
        """


@runtime_checkable
class Advises(Protocol):
    """Has advice on a valid step, as a careful colleague would."""

    def advice(self, step: LoadedStep) -> list[str]: ...


@runtime_checkable
class Refuses(Protocol):
    """Knows of some of its steps that they are refused on every workstation."""

    def always_refused(self, step: LoadedStep, here: Here) -> Iterator[str]:
        """Why, and what to write instead.

        Args:
            here: on a workstation as it is usually set up, with nothing of any product.
        """


@runtime_checkable
class Adds(Protocol):
    """Makes actions of a whole plan, not of a step of its own."""

    ahead_of: tuple[str, ...]
    """The phases before whose first action they are done."""

    def add(self, planned: list[Action], here: Here) -> list[Action]: ...


def able(kind: Kind, ability: type[A]) -> A | None:
    """The kind as something that has an ability; None if it has not."""
    return kind if isinstance(kind, ability) else None


def much(kind: Kind, phase: str, items: int, size: str = "") -> str:
    """How much something is about, for people; "" where nothing is counted.

    Args:
        size: its bytes, as people read them; "" for none.
    """
    words = kind.words(phase)
    if not items or not words.noun[0]:
        return ""
    return plural(items, *words.noun) + (f", {size}" if size and words.sized else "")
