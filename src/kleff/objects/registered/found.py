"""What the kinds of registered things share: each is some keys and values, found, guarded, exported, deleted and written back together."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Generic, TypeVar

from kleff.objects.base.action import ABSENT, KEPT, REFUSED, UNREADABLE, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Claimed, Kind, Words
from kleff.objects.base.staging import Stage
from kleff.objects.base.unreadable import why
from kleff.objects.registered.spelling import Spelling
from kleff.procedure.globs import fold, is_glob, literal_count, parts_match
from kleff.procedure.loaded import StepOf
from kleff.procedure.model import Step
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef, Registry
from kleff.workstation.identity import KeyId, NameId, PathId, key_id
from kleff.workstation.paths import WPath

R = TypeVar("R", bound=Step)

LETTERS = 4  # of a name with wildcards
SHOWN = 8


@dataclass(frozen=True)
class Found:
    """One thing.

    Attributes:
        values, keys: what it is in the registry; values go first.
        file: its file as it is registered, which goes with it.
        shows: lines for a preview; kept: why it stays, if it does.
    """

    what: str
    account: str = ""
    values: tuple[tuple[KeyRef, str], ...] = ()
    keys: tuple[KeyRef, ...] = ()
    file: str = ""
    shows: tuple[str, ...] = ()
    kept: str = ""

    @property
    def about(self) -> list[PathId | KeyId | NameId]:
        """What it is, exactly."""
        return [*(key_id(key, name) for key, name in self.values), *(key_id(key) for key in self.keys)]


@dataclass(frozen=True)
class Sort(Generic[R]):
    """A sort of registered thing: all that tells it from the others.

    Attributes:
        name: the key by which a step names it; noun: one, and many.
        delete, verify: the step models.
        find: what is there of a step; raises OSError where it cannot be looked at.
        stage: puts on a lab what a step would find.
        looks_through: what all of is looked through, if that must be told.
    """

    name: str
    noun: tuple[str, str]
    delete: type[R]
    verify: type[R]
    find: Callable[[R, Registry, Here], Iterable[Found]]
    stage: Callable[[R, Stage], None]
    looks_through: str = ""


class RegisteredKind(Kind, Generic[R]):
    """The kind of one sort of thing that a product has registered."""

    systems = ("windows",)

    def __init__(self, sort: Sort[R]) -> None:
        self.sort = sort
        self.names = (sort.name,)
        self.models = {"delete": sort.delete, "verify": sort.verify}

    def stage(self, step: StepOf[R], stage: Stage) -> None:
        self.sort.stage(step.model, stage)

    def find(self, model: R, here: Here) -> Iterable[Found]:
        """What is there of a step.

        Raises:
            OSError: it cannot be looked at.
        """
        return self.sort.find(model, here.workstation.registry, here) if here.workstation.registry is not None else ()

    def named(self, model: R) -> str:
        """What a step means, for people."""
        value = getattr(model, self.sort.name)
        return value if isinstance(value, str) else ", ".join(value)

    def words(self, phase: str) -> Words:
        return Words("Deleted in the registry" if phase == "delete" else "Looked for", self.sort.noun)

    def plan(self, step: StepOf[R], here: Here) -> Iterator[Action]:
        noun, through = self.sort.noun[0], self.sort.looks_through
        verb, text = ("delete" if step.phase == "delete" else "look for"), f"{noun} {self.named(step.model)}"
        if here.workstation.registry is None:
            yield here.action(step, verb, text, state=ABSENT, reason="this workstation has no registry", nowhere=True)
            return
        try:
            found = list(self.find(step.model, here))
        except OSError as error:
            yield here.action(step, verb, text, state=UNREADABLE, reason=why(error))
            return
        at_most = getattr(step.model, "at_most", None)
        if at_most is not None and len(found) > at_most:
            yield here.action(step, verb, text, state=REFUSED, reason=f"it means {len(found)}, more than at_most = {at_most}")
            return
        for one in found:
            action = here.action(step, verb, f"{noun} {one.what}", account=one.account, about=one.about, items=1)
            action.shows = list(one.shows) + ([f"{through} were looked through"] if through else [])
            if step.phase == "delete":
                self.judge(action, one, here)
            elif one.kept:
                action.keep(one.kept)
            yield action
        if not found:
            yield here.action(step, verb, text, state=ABSENT, reason=f"no such {noun}")

    def judge(self, action: Action, one: Found, here: Here) -> None:
        """What the guard says to its deletion."""
        action.undo = "written back from the export"
        verdicts = [here.guard.check_key(key) for key in one.keys] + [here.guard.check_value(key, name) for key, name in one.values]
        refused = next((v for v in verdicts if not v.ok), None)
        if one.kept:
            action.keep(one.kept)
        elif refused is not None:
            action.judged(refused.word, refused.reason, refused.remedy)

    def do(self, action: Action, step: StepOf[R], work: Work) -> Outcome:
        from kleff.case.effects.key_removed import remove_key, remove_value

        registry, count = work.here.workstation.registry, 0
        first = action.about[0] if action.about else None
        if isinstance(first, KeyId) and _is_there(first, work.here) and not self.is_ours(first, step.model, work.here):
            return Outcome(state=KEPT, note="it is another's by now")
        for about in (about for about in action.about if isinstance(about, KeyId)):
            if registry is None:
                continue
            if about.value is None and (tree := registry.tree(about.key)) is not None:
                remove_key(work.hands, action.number, about.key, tree)
                count += 1
            elif about.value is not None and not self.still_ours(about.key, about.value, step.model, work.here):
                continue
            elif about.value is not None and (value := registry.value(about.key, about.value)) is not None:
                remove_value(work.hands, action.number, about.key, RegKey(about.key.parts[-1], {fold(value.name): value}))
                count += 1
        return Outcome(items=1) if count else Outcome(note="already gone")

    def is_ours(self, about: KeyId, model: R, here: Here) -> bool:
        """Whether the first that a thing consists of, and that is there, is still the product's; the others go with it."""
        return any(about in one.about for one in self.find(model, here) if not one.kept)

    def still_ours(self, key: KeyRef, name: str, model: R, here: Here) -> bool:
        """Whether a value that was agreed on may go: it may hold another's by now."""
        return True

    def claims(self, step: StepOf[R], here: Here) -> Claimed:
        if step.phase != "delete" or here.workstation.registry is None:
            return Claimed()
        found: list[Found] = []
        with suppress(OSError):  # the plan says so where it stands
            found = [one for one in self.find(step.model, here) if not one.kept]
        return Claimed(keys=[key for one in found for key in one.keys], values=[pair for one in found for pair in one.values])

    def users(self, step: StepOf[R], here: Here) -> set[str]:
        names: set[str] = set()
        if here.workstation.registry is not None and not self.sort.looks_through:  # which would take long, for a name alone
            with suppress(OSError):
                names = {one.account for one in self.find(step.model, here) if one.account}
        return names

    def needs_rights(self, action: Action, here: Here) -> bool:
        return not action.account


def _is_there(id_: KeyId, here: Here) -> bool:
    """Whether a key or a value is there."""
    registry = here.workstation.registry
    if registry is None:
        return False
    return registry.exists(id_.key) if id_.value is None else registry.value(id_.key, id_.value) is not None


class Into:
    """Whether a command line, or a path, leads to where the product is. Args: patterns: of paths."""

    def __init__(self, here: Here, patterns: Sequence[str]) -> None:
        self._here = here
        self._meant = [e for text in patterns for e in here.resolver.expand(text) if not e.absent]
        self._spellings: dict[str, Spelling] = {}

    def leads(self, text: str, account: str = "") -> bool:
        """Whether a path in it is meant, or lies below one that is; as it is written, in any way the system takes."""
        if account not in self._spellings:
            self._spellings[account] = Spelling(self._here, account)
        spelling = self._spellings[account]
        return any(self._is_meant(path) for path in (*spelling.path(text), *spelling.in_text(text)))

    def _is_meant(self, path: WPath) -> bool:
        depths = range(1, len(path.parts) + 1)
        return any(e.volume == path.volume and any(parts_match(e.pattern, path.parts[:n], True) for n in depths) for e in self._meant)


def is_path(text: str) -> bool:
    """Whether a text names a path, not a name."""
    return "\\" in text or text.startswith(("{", "%"))


def too_short(name: str) -> str:
    """Why a name with wildcards means too much; "" if it does not."""
    wrong = is_glob(name) and literal_count(name) < LETTERS
    return f"means too much; write at least {LETTERS} letters or digits besides wildcards and ending" if wrong else ""
