"""Manual steps: what only a person can do. Confirmed with who and when, or checked where there is proof."""

from collections.abc import Collection, Iterator
from typing import Annotated, Literal

from msgspec import Meta, field

from kleff.errors import ActionFailed, LinkOnTheWay
from kleff.objects.base.action import DONE, MANUAL, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind
from kleff.objects.commands.programs import arguments, output_of
from kleff.objects.keys.meaning import meant_keys
from kleff.objects.paths.steps import found_paths
from kleff.procedure.loaded import StepOf
from kleff.procedure.model import Section, Step, Text
from kleff.procedure.texts import Problem, key_problem, path_problem
from kleff.procedure.variables import BadTemplate, parse_template
from kleff.workstation.identity import NameId

PATIENCE = 60.0  # seconds a command that gives proof may take


class Proof(Section, kw_only=True, frozen=True):
    """What shows that it was done: a path, a key, or what a command says."""

    path: str = ""
    key: str = ""
    must_be: Annotated[Literal["there", "absent"], Meta(description="of the path or key")] = "there"
    command: Annotated[list[Text], Meta(description="program and arguments; it must end well")] = field(default_factory=list)
    says: Annotated[str, Meta(description="what must be in the command's output")] = ""

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if sum(map(bool, (self.path, self.key, self.command))) != 1:
            yield (), "proof names one of path, key and command"
        wrong = path_problem(self.path, places) if self.path else key_problem(self.key) if self.key else None
        if wrong:
            yield ("path" if self.path else "key",), wrong
        if self.command:
            try:
                parse_template(self.command[0], places)
            except BadTemplate as error:
                yield ("command", 0), str(error)


class Manual(Step, kw_only=True, frozen=True):
    """Something a person does."""

    manual: Annotated[Text, Meta(description="what to do, one sentence")]
    id: Annotated[str, Meta(pattern=r"^[a-z0-9-]*$", description="short name for --confirmed; needed without proof")] = ""
    proof: Annotated[Proof | None, Meta(description="what shows it; then it is checked, not believed")] = None

    @property
    def confirmed_as(self) -> str:
        return self.id

    @property
    def has_proof(self) -> bool:
        return self.proof is not None

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if not self.id and self.proof is None:
            yield (), "a manual step needs an id, or proof"
        if self.proof is not None:
            yield from ((("proof", *where), text) for where, text in self.proof.problems(places))


def holds(proof: Proof, here: Here) -> tuple[bool, str]:
    """Whether the proof is there, and what was seen."""
    wanted = proof.must_be == "there"
    if proof.path:
        try:
            found = [str(p) for e in here.resolver.expand(proof.path) for p in found_paths(e, here)]
        except (OSError, LinkOnTheWay) as error:
            return False, f"{proof.path} cannot be looked at: {error}"
        return bool(found) == wanted, f"{found[0] if found else proof.path} is {'there' if found else 'not there'}"
    if proof.key:
        registry = here.workstation.registry
        keys = [k for k, _ in meant_keys(here, proof.key, None, []) if registry is not None and registry.exists(k)]
        return bool(keys) == wanted, f"{proof.key} is {'there' if keys else 'not there'}"
    return _said(proof, here)


def _said(proof: Proof, here: Here) -> tuple[bool, str]:
    argv = arguments(list(proof.command), here)
    if argv is None:
        return False, f"{proof.command[0]} is not there"
    try:
        text = output_of(here, argv, PATIENCE)
    except ActionFailed as error:
        return False, error.what
    return proof.says in text, f"{argv[0]} says {'so' if proof.says in text else 'otherwise'}"


class ManualKind(Kind):
    """`manual`."""

    names = ("manual",)
    models = {"before": Manual, "stop": Manual, "after": Manual}

    def proves(self, phase: str) -> bool:
        return False

    def plan(self, step: StepOf[Manual], here: Here) -> Iterator[Action]:
        model = step.model
        action = here.action(step, "by hand", model.manual, state=MANUAL, about=[NameId("manual", model.id or model.manual)])
        if model.proof is not None:
            good, seen = holds(model.proof, here)
            action.state, action.reason = (DONE, seen) if good else (MANUAL, f"not yet: {seen}")
        elif model.id in here.options.confirmed:
            action.state, action.reason = DONE, here.options.confirmed[model.id]
        else:
            action.reason = "" if step.phase == "after" else f"to be confirmed: --confirmed {model.id}"
        yield action

    def do(self, action: Action, step: StepOf[Manual], work: Work) -> Outcome:
        now = next(self.plan(step, work.here))
        if now.state != DONE:
            raise ActionFailed(now.reason, remedy=f"{action.target} Then resume")
        return Outcome(note=now.reason)


KINDS = (ManualKind(),)
