"""Alternatives that lead to the product's programs, which no package has registered or nobody takes away."""

from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta, Struct

from kleff.case.guard.guard import Target
from kleff.objects.base.action import ABSENT, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Claimed, Kind, Words
from kleff.objects.base.resolve import Expanded
from kleff.procedure.globs import is_glob, parts_match
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.procedure.model import Step, Text
from kleff.procedure.texts import Problem, path_problem
from kleff.workstation.identity import NameId
from kleff.workstation.paths import WPath
from kleff.workstation.things import Alternative


class AlternativesDelete(Step, kw_only=True, frozen=True):
    """Let the product's programs be no alternatives any more; another one is then what the name stands for."""

    alternatives_to: Annotated[Text, Meta(description="the program, or a folder with all below it")]

    @property
    def written_paths(self) -> list[str]:
        return [self.alternatives_to]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        wrong = path_problem(self.alternatives_to, places)
        if wrong or is_glob(self.alternatives_to):
            yield ("alternatives_to",), wrong or f"{self.alternatives_to!r} has wildcards; name one place"


class One(Struct, kw_only=True):
    """The alternative, as it was agreed on."""

    one: Alternative


class AlternativesKind(Kind):
    """`alternatives_to`."""

    names = ("alternatives_to",)
    systems = ("linux",)
    models: dict[str, type[Step]] = {"delete": AlternativesDelete}

    def words(self, phase: str) -> Words:
        return Words("Alternatives removed", ("alternative", "alternatives"))

    def plan(self, step: StepOf[AlternativesDelete], here: Here) -> Iterator[Action]:
        model, any_there = step.model, False
        for one, path in _found(model, here):
            any_there = True
            action = here.action(step, "remove", f"alternative {one.path} for {one.name}", items=1, undo="made one again")
            action.about = [NameId("alternative", one.name, one.path)]
            action.set_details(One(one=one))
            if why := here.guard.keeps(path):
                action.keep(why)
            yield action
        if not any_there:
            reason = "none leads there" if here.workstation.alternatives else "this workstation has none"
            yield here.action(
                step,
                "remove",
                f"alternatives to {model.alternatives_to}",
                state=ABSENT,
                reason=reason,
                nowhere=not here.workstation.alternatives,
            )

    def claims(self, step: StepOf[AlternativesDelete], here: Here) -> Claimed:
        """The programs, so that those of packages which stay are known to stay."""
        return Claimed(targets=[(Target(path, len(path.parts), len(path.name)), False) for _, path in _found(step.model, here)])

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        from kleff.case.effects.packages.alternative_removed import remove_alternative

        told, alternatives = action.details_as(One).one, work.here.workstation.alternatives
        now = [a for a in (alternatives.all() if alternatives else []) if (a.name, a.path) == (told.name, told.path)]
        if not now:
            return Outcome(note="already gone")
        remove_alternative(work.hands, action.number, now[0])
        return Outcome(items=1)

    def needs_rights(self, action: Action, here: Here) -> bool:
        return True


def _found(model: AlternativesDelete, here: Here) -> Iterator[tuple[Alternative, WPath]]:
    """Those that lead to the place; to none directly in the root, such as /usr, which holds everybody's programs."""
    alternatives = here.workstation.alternatives
    meant = [e for e in here.resolver.expand(model.alternatives_to) if not e.absent and len(e.pattern) > 1]
    for one in alternatives.all() if alternatives and meant else []:
        path = here.workstation.files.path(one.path)
        if path is not None and any(_holds(e, path) for e in meant):
            yield one, path


def _holds(expanded: Expanded, path: WPath) -> bool:
    count = len(expanded.pattern)
    return count <= len(path.parts) and parts_match(expanded.pattern, path.parts[:count], path.style.folded)


KINDS = (AlternativesKind(),)
