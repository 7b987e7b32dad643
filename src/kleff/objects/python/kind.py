"""Packages of Python environments: set aside by their own records, or with the environment that was made for one."""

from collections.abc import Collection, Iterator, Sequence
from typing import Annotated, Literal

from msgspec import Meta

from kleff.errors import LinkOnTheWay
from kleff.objects.base.action import ABSENT, REFUSED, UNREADABLE, Action, Outcome, Sighting
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Claimed, Kind, Words
from kleff.objects.base.own import pattern_objection, refuse
from kleff.objects.base.unreadable import why
from kleff.objects.packages.along import allowed_by, came_along, goes_too, refuse_for
from kleff.objects.paths.several import exact, plan_several, set_aside_several
from kleff.objects.python.environments import Distribution, Environment, Unread, environments, installed, normalized, topmost
from kleff.procedure.globs import name_matches
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.procedure.model import AccountStep, Step, Text, Texts
from kleff.procedure.texts import Problem, path_problem
from kleff.workstation.identity import NameId
from kleff.workstation.paths import WPath

NEVER = ("pip", "setuptools", "wheel")  # without them nothing else can be installed in an environment


class _Python(AccountStep, kw_only=True, frozen=True):
    python: Annotated[Text, Meta(description="name of the package; * and ? are wildcards")]
    in_environment: Annotated[str, Meta(description="only in this environment: the folder that holds its lib and bin")] = ""

    @property
    def written_paths(self) -> list[str]:
        return [self.in_environment] if self.in_environment else []

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if self.in_environment and (wrong := path_problem(self.in_environment, places)):
            yield ("in_environment",), wrong


class PythonEvidence(_Python, kw_only=True, frozen=True):
    """A Python package that is installed: for the machine, by an account, or as a tool with an environment of its own."""


class PythonPurge(_Python, kw_only=True, frozen=True):
    """Remove a Python package from each environment that has it; an environment that was made for it goes as a whole."""

    allows: Annotated[Texts, Meta(description="packages of the environment that need it and go with it; any other refuses the run")] = []
    came_along: Annotated[
        Literal["these", "none"], Meta(description="what was installed for it and nothing else in the environment needs")
    ] = "none"


class PythonVerify(_Python, kw_only=True, frozen=True):
    """A Python package that must be gone."""


class PythonKind(Kind):
    """`python`."""

    names = ("python",)
    systems = ("linux",)
    condition = "A Python package that must, or must not, be installed."
    models: dict[str, type[Step]] = {"evidence": PythonEvidence, "purge": PythonPurge, "verify": PythonVerify}

    def words(self, phase: str) -> Words:
        return Words("Uninstalled", ("item", "items"), sized=True, total="aside" if phase == "purge" else "", frees=phase == "purge")

    def look(self, step: StepOf[_Python], here: Here) -> Iterator[Sighting]:
        for found in _found(step, here):
            if isinstance(found, Unread):
                yield _unread(found, step)
                continue
            one, _ = found
            account = one.environment.account
            yield Sighting(
                kind="python", what=one.name, about=_id(one), version=one.version, where=f"in {one.environment.prefix}",
                account=account.name if account else "", line=step.line, in_range=here.version_in_range(one.version, one.name),
                component=True,
            )  # fmt: skip

    def plan(self, step: StepOf[_Python], here: Here) -> Iterator[Action]:
        model = step.model
        verb, any_there = "purge" if step.phase == "purge" else "look for", False
        for found in _found(step, here):
            any_there = True
            if isinstance(found, Unread):
                target, whose = f"Python package {model.python}, in {found.where}", found.account.name if found.account else ""
                yield here.action(step, verb, target, account=whose, state=UNREADABLE, reason=why(found.error))
                continue
            one, others = found
            account = one.environment.account
            action = here.action(
                step, verb, f"{one.name} {one.version} in {one.environment.prefix}", account=account.name if account else "",
                about=[_id(one)], version=one.version,
            )  # fmt: skip
            if not here.version_in_range(one.version, one.name):
                action.keep(f"version {one.version} is outside {here.procedure.product.versions}")
            elif isinstance(model, PythonPurge):
                try:
                    yield from list(self._planned(step, model, here, action, one, others))
                except (OSError, LinkOnTheWay) as error:  # such as a folder of programs that is a link
                    action.state, action.reason = UNREADABLE, why(error)
                    yield action
                continue
            yield action
        if not any_there:
            yield here.action(step, verb, f"Python package {model.python}", state=ABSENT, reason="in no environment")

    def _planned(
        self, step: LoadedStep, model: PythonPurge, here: Here, action: Action, one: Distribution, others: list[Distribution]
    ) -> Iterator[Action]:
        environment = one.environment
        if environment.tool == normalized(one.name):
            action.target = f"{one.name} {one.version}, with its environment"
            plan_several(action, here, [environment.prefix, *_links(here, environment)], environment.account)
            yield action
            return
        with_it, left = allowed_by(model.allows, _needing([one], others), lambda o: o.name)
        refuse(action, pattern_objection(model.python))
        if normalized(one.name) in NEVER:
            refuse(action, f"{one.name} is what installs the others")
        if refuse_for(action, [o.name for o in left], "needs it").state == REFUSED:
            yield action
            return
        goes_too(action, [o.name for o in with_it])
        plan_several(action, here, [p for o in (one, *with_it) for p in topmost(here.workstation.files, o)], environment.account)
        yield action
        yield from self._along(step, model, here, action, [one, *with_it], others)

    def _along(
        self, step: LoadedStep, model: PythonPurge, here: Here, action: Action, going: list[Distribution], others: list[Distribution]
    ) -> Iterator[Action]:
        along = _came_along(going, others)
        if not along:
            return
        names = ", ".join(f"{o.name} {o.version}" for o in along)
        more = here.action(step, "purge", names, account=action.account, about=[_id(o) for o in along])
        plan_several(more, here, [p for o in along for p in topmost(here.workstation.files, o)], going[0].environment.account)
        yield came_along(more, model.came_along == "these")

    def claims(self, step: StepOf[_Python], here: Here) -> Claimed:
        """The paths of what goes, so that what packages of the system own of them is known to stay."""
        model, files = step.model, here.workstation.files
        if not isinstance(model, PythonPurge):
            return Claimed()
        claimed = Claimed()
        for one, others in (found for found in _found(step, here) if not isinstance(found, Unread)):
            going = [one, *_needing([one], others)]
            paths = [p for o in (*going, *_came_along(going, others)) for p in topmost(files, o)]
            claimed.targets += [(exact(path, one.environment.account), True) for path in paths]
        return claimed

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        return set_aside_several(action, work)

    def always_refused(self, step: LoadedStep, here: Here) -> Iterator[str]:
        if isinstance(step.model, PythonPurge) and (why := pattern_objection(step.model.python)):
            yield f"python {step.model.python}: {why}; name the product's own package"


def _unread(found: Unread, step: StepOf[_Python]) -> Sighting:
    account = found.account.name if found.account else ""
    what = f"Python packages in {found.where} ({why(found.error)})"
    return Sighting(kind="python", what=what, account=account, line=step.line, unreadable=True, component=True)


def _found(step: StepOf[_Python], here: Here) -> Iterator[tuple[Distribution, list[Distribution]] | Unread]:
    """What a step means, each with all that is in the same environment; and where that could not be told."""
    model = step.model
    for environment in environments(here, model.accounts, model.in_environment):
        if isinstance(environment, Unread):
            yield environment
            continue
        try:
            everything = installed(here.workstation.files, environment)
        except (OSError, LinkOnTheWay) as error:
            yield Unread(environment.prefix, environment.account, error)
            continue
        for one in everything:
            main = not environment.tool or environment.tool == normalized(one.name)
            if main and name_matches(normalized(model.python), normalized(one.name), True):
                yield one, everything


def _needing(going: Sequence[Distribution], others: list[Distribution]) -> list[Distribution]:
    """What needs one of them, in chains."""
    names = {normalized(o.name) for o in going}
    result: list[Distribution] = []
    while more := [o for o in others if normalized(o.name) not in names and names & set(o.needs)]:
        result += more
        names |= {normalized(o.name) for o in more}
    return result


def _came_along(going: Sequence[Distribution], others: list[Distribution]) -> list[Distribution]:
    """What was brought in for them and nothing that stays needs, in all rounds."""
    gone = {normalized(o.name) for o in going}
    wanted = {need for o in going for need in o.needs}
    result: list[Distribution] = []
    while True:
        staying = [o for o in others if normalized(o.name) not in gone]
        needed = {need for o in staying for need in o.needs}
        more = [
            o for o in staying
            if normalized(o.name) in wanted - needed and not o.requested and normalized(o.name) not in NEVER
        ]  # fmt: skip
        if not more:
            return result
        result += more
        gone |= {normalized(o.name) for o in more}
        wanted |= {need for o in more for need in o.needs}


def _links(here: Here, environment: Environment) -> Iterator[WPath]:
    """The links by which a tool's programs are found."""
    files, style = here.workstation.files, here.workstation.style
    account = environment.account
    folder = account.home.child(".local", "bin") if account else WPath(style, "", ("usr", "local", "bin"))
    for name in files.names(folder):
        look = files.look(folder.child(name))
        if look is not None and look.is_link:
            leads = files.path(files.read_link(folder.child(name)))
            if leads is not None and environment.prefix.holds(leads):
                yield folder.child(name)


def _id(one: Distribution) -> NameId:
    return NameId("python", one.name, str(one.environment.prefix))


KINDS = (PythonKind(),)
