"""Manual steps: what only a person can do. Confirmed with who and when, or checked where there is proof."""

from collections.abc import Collection, Iterator
from typing import Annotated, Literal

from msgspec import Meta, field

from kleff.errors import ActionFailed, LinkOnTheWay
from kleff.objects.base import DONE, MANUAL, Action, Offers, Outcome, Scene, Work
from kleff.objects.commands import arguments, output_of
from kleff.objects.keys import meant_keys
from kleff.objects.paths import found_paths
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import Problem, Section, Step, Text, key_problem, path_problem
from kleff.procedure.variables import BadTemplate, parse_template
from kleff.texts import plain

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

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if not self.id and self.proof is None:
            yield (), "a manual step needs an id, or proof"
        if self.proof is not None:
            yield from ((("proof", *where), text) for where, text in self.proof.problems(places))


def holds(proof: Proof, scene: Scene) -> tuple[bool, str]:
    """Whether the proof is there, and what was seen."""
    wanted = proof.must_be == "there"
    if proof.path:
        try:
            found = [str(p) for e in scene.resolver.expand(proof.path) for p in found_paths(e, scene)]
        except (OSError, LinkOnTheWay) as error:
            return False, f"{proof.path} cannot be looked at: {error}"
        return bool(found) == wanted, f"{found[0] if found else proof.path} is {'there' if found else 'not there'}"
    if proof.key:
        registry = scene.workstation.registry
        keys = [k for k, _ in meant_keys(scene, proof.key, None, []) if registry is not None and registry.exists(k)]
        return bool(keys) == wanted, f"{proof.key} is {'there' if keys else 'not there'}"
    return _said(proof, scene)


def _said(proof: Proof, scene: Scene) -> tuple[bool, str]:
    argv = arguments(list(proof.command), scene)
    if argv is None:
        return False, f"{proof.command[0]} is not there"
    try:
        text = output_of(scene, argv, PATIENCE)
    except ActionFailed as error:
        return False, error.what
    return proof.says in text, f"{argv[0]} says {'so' if proof.says in text else 'otherwise'}"


class ManualKind(Offers):
    """`manual`."""

    models = {"before": Manual, "stop": Manual, "after": Manual}

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        model = step.model
        assert isinstance(model, Manual)
        action = scene.action(step, "by hand", plain(model.manual), state=MANUAL, details={"id": model.id})
        if model.proof is not None:
            good, seen = holds(model.proof, scene)
            action.state, action.reason = (DONE, plain(seen)) if good else (MANUAL, plain(f"not yet: {seen}"))
        elif model.id in scene.confirmed:
            action.state, action.reason = DONE, scene.confirmed[model.id]
        else:
            action.reason = "" if step.phase == "after" else f"to be confirmed: --confirmed {model.id}"
        yield action

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        now = next(self.plan(step, work.scene))
        if now.state != DONE:
            raise ActionFailed(now.reason, remedy=f"{action.target} Then resume")
        return Outcome(note=now.reason)
