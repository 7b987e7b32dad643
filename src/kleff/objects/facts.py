"""Saving what is no file: facts for the report, settings of services, which packages there were and who had chosen them."""

import re
from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta, field

from kleff.errors import ActionFailed, LinkOnTheWay
from kleff.objects.base import ABSENT, TO_DO, UNREADABLE, Action, Offers, Outcome, Scene, Work
from kleff.objects.commands import arguments, objection_to, output_of
from kleff.objects.keys import meant_keys
from kleff.objects.packages import Names
from kleff.objects.paths import found_paths
from kleff.procedure.globs import name_matches
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import Problem, SavingStep, Text, key_problem, path_problem
from kleff.procedure.variables import BadTemplate, parse_template
from kleff.texts import plain, plural
from kleff.workstation.facets import Package

PATIENCE = 60.0  # seconds a command that tells a fact may take
LONGEST = 500  # letters of a fact that are kept
DOTS = "\u2022" * 6
CHOSEN = "/var/lib/apt/extended_states"  # which packages came along with others (apt-mark(8))


class FactBackup(SavingStep, kw_only=True, frozen=True):
    """A fact for the report: a serial number, a version, the state of a licence."""

    fact: Annotated[Text, Meta(description="what it is")]
    told_by: Annotated[list[Text], Meta(description="program and arguments; its first line is the fact")] = field(default_factory=list)
    in_value: Annotated[str | None, Meta(description="name of a registry value, with in_key; empty for the default value")] = None
    in_key: str = ""
    in_file: Annotated[str, Meta(description="a file; its first line is the fact")] = ""
    pattern: Annotated[str, Meta(description="regular expression; its first group, or all that matches, is the fact")] = ""
    private: Annotated[bool, Meta(description="stored in the bag, shown as dots")] = False

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from super().problems(places)
        if sum((bool(self.told_by), self.in_value is not None, bool(self.in_file))) != 1:
            yield (), "a fact is told by one of told_by, in_value and in_file"
        if self.in_value is not None:
            wrong = key_problem(self.in_key)
            if wrong:
                yield ("in_key",), wrong
        if self.in_file and (wrong := path_problem(self.in_file, places)):
            yield ("in_file",), wrong
        if self.told_by:
            try:
                parse_template(self.told_by[0], places)
            except BadTemplate as error:
                yield ("told_by", 0), str(error)
        try:
            re.compile(self.pattern)
        except re.error as error:
            yield ("pattern",), f"is no regular expression: {error}"


class PackagesBackup(SavingStep, kw_only=True, frozen=True):
    """Which packages there are, in which version, who chose them, and their configuration files."""

    packages: Names

    @property
    def names(self) -> list[str]:
        return [self.packages] if isinstance(self.packages, str) else self.packages


class Untold(Exception):
    """The fact cannot be told; says why."""


def _facts(model: FactBackup, scene: Scene) -> Iterator[tuple[str, str]]:
    """(account, fact) of each place that tells it.

    Raises:
        Untold: none does.
    """
    found = list(_texts(model, scene))
    if not found:
        raise Untold("not there")
    for account, text in found:
        if model.pattern:
            match = re.search(model.pattern, text)
            text = (match[1] if match and match.re.groups else match[0]) if match else ""
        line = next((line.strip() for line in text.splitlines() if line.strip()), "")
        if line:
            yield account, line[:LONGEST]


def _texts(model: FactBackup, scene: Scene) -> Iterator[tuple[str, str]]:
    if model.in_value is not None:
        registry = scene.workstation.registry
        for key, account in meant_keys(scene, model.in_key, None, []):
            value = registry.value(key, model.in_value) if registry else None
            if value is not None:
                yield account, value.text
    elif model.in_file:
        for expanded in scene.resolver.expand(model.in_file):
            for path in found_paths(expanded, scene):
                data = scene.workstation.files.read(path, 1 << 16)
                text = data.decode("utf-16", "replace") if data[:2] in (b"\xff\xfe", b"\xfe\xff") else data.decode("utf-8", "replace")
                yield (expanded.account.name if expanded.account else ""), text
    else:
        argv = arguments(list(model.told_by), scene)
        if argv is None:
            raise Untold(f"{model.told_by[0]} is not there")
        if why := objection_to(argv, scene):
            raise Untold(why)
        yield "", output_of(scene, argv, PATIENCE)


class FactKind(Offers):
    """`fact`."""

    models = {"backup": FactBackup}

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        model = step.model
        assert isinstance(model, FactBackup)
        try:
            found = list(_facts(model, scene))
        except (Untold, ActionFailed, LinkOnTheWay, OSError) as error:
            action = scene.action(step, "note", plain(model.fact))
            action.state = ABSENT if isinstance(error, Untold) else UNREADABLE
            action.reason = plain(str(getattr(error, "what", "") or error))
            yield action
            return
        for account, text in found:
            shown = DOTS if model.private else plain(text)
            action = scene.action(step, "note", plain(model.fact), account=account, items=1, undo="stays in the bag")
            action.shows = [shown]
            yield action
        if not found:
            yield scene.action(step, "note", plain(model.fact), state=ABSENT, reason="nothing in it")

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        model = step.model
        assert isinstance(model, FactBackup)
        try:
            found = dict(_facts(model, work.scene))
        except (Untold, LinkOnTheWay, OSError) as error:
            raise ActionFailed(
                f"{model.fact} cannot be told: {plain(str(error))}", remedy="note it by hand, then resume with --skip"
            ) from None
        text = found.get(action.account, "")
        settings = {"value": text, "private": True} if model.private else {"value": text}
        work.bag.add_settings(action.number, work.item(action, "fact", name=model.fact, settings=settings))
        return Outcome(items=1, note=DOTS if model.private else plain(text))


def chosen_by_hand(scene: Scene) -> Collection[str]:
    """Names of packages that only came along with others are not among these."""
    path = scene.workstation.files.path(CHOSEN)
    try:
        text = scene.workstation.files.read(path, 16 << 20).decode("utf-8", "replace") if path else ""
    except OSError:
        text = ""
    along = {
        m[1] for part in text.split("\n\n") if "Auto-Installed: 1" in part and (m := re.search(r"^Package: (\S+)$", part, re.MULTILINE))
    }
    packages = scene.workstation.packages
    return {p.name for p in (packages.all() if packages else []) if p.name.partition(":")[0] not in along}


class PackagesKind(Offers):
    """`packages`."""

    models = {"backup": PackagesBackup}

    def _found(self, step: LoadedStep, scene: Scene) -> list[Package]:
        assert isinstance(step.model, PackagesBackup)
        packages, names = scene.workstation.packages, step.model.names
        return [p for p in (packages.all() if packages else []) if any(name_matches(n, p.name.partition(":")[0], False) for n in names)]

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        assert isinstance(step.model, PackagesBackup)
        action = scene.action(step, "save", plain(f"packages {', '.join(step.model.names)}"), undo="stays in the bag")
        found = self._found(step, scene)
        action.items = len(found)
        action.shows = [plain(f"{p.name} {p.version}") for p in found[:8]]
        if not found:
            action.state = ABSENT
            action.reason = "not installed" if scene.workstation.packages else "this workstation has no package manager"
        else:
            action.state = TO_DO
        yield action

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        from kleff.case.bag.archive import Wanted

        workstation, found = work.scene.workstation, self._found(step, work.scene)
        by_hand = chosen_by_hand(work.scene)
        listed = [
            {"name": p.name, "version": p.version, "state": p.state, "chosen": "by hand" if p.name in by_hand else "along"} for p in found
        ]
        files = [workstation.files.path(text) for p in found for text in p.config_files]
        present = [path for f in files if f and workstation.files.look(path := workstation.files.resolve(f).path) is not None]
        item = work.item(action, "packages", settings={"packages": listed})
        wanted = [Wanted(p) for p in present]
        item = work.bag.add_files(action.number, item, wanted, workstation.files, workstation.admin, work.progress, {})
        return Outcome(items=len(found), size=item.size, note=f"with {plural(item.files, 'configuration file')}")
