"""Saving what is no file: facts for the report, settings of services, which packages there were and who had chosen them."""

import re
from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta, field

from kleff.errors import ActionFailed, LinkOnTheWay
from kleff.objects.base.action import ABSENT, TO_DO, UNREADABLE, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind
from kleff.objects.base.restoring import ShownOnly
from kleff.objects.base.staging import Stage
from kleff.objects.commands.programs import arguments, objection_to, output_of
from kleff.objects.keys.meaning import meant_keys
from kleff.objects.packages.steps import Names
from kleff.objects.paths.steps import found_paths
from kleff.procedure.globs import name_matches
from kleff.procedure.loaded import StepOf
from kleff.procedure.model import SavingStep, Text
from kleff.procedure.texts import Problem, key_problem, path_problem
from kleff.procedure.variables import BadTemplate, parse_template
from kleff.texts import plural
from kleff.workstation.identity import NameId
from kleff.workstation.things import Package

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


def _facts(model: FactBackup, here: Here) -> Iterator[tuple[str, str]]:
    """(account, fact) of each place that tells it.

    Raises:
        Untold: none does.
    """
    found = list(_texts(model, here))
    if not found:
        raise Untold("not there")
    for account, text in found:
        if model.pattern:
            match = re.search(model.pattern, text)
            text = (match[1] if match and match.re.groups else match[0]) if match else ""
        line = next((line.strip() for line in text.splitlines() if line.strip()), "")
        if line:
            yield account, line[:LONGEST]


def _texts(model: FactBackup, here: Here) -> Iterator[tuple[str, str]]:
    if model.in_value is not None:
        registry = here.workstation.registry
        for key, account in meant_keys(here, model.in_key, None, []):
            value = registry.value(key, model.in_value) if registry else None
            if value is not None:
                yield account, value.text
    elif model.in_file:
        for expanded in here.resolver.expand(model.in_file):
            for path in found_paths(expanded, here):
                data = here.workstation.files.read(path, 1 << 16)
                text = data.decode("utf-16", "replace") if data[:2] in (b"\xff\xfe", b"\xfe\xff") else data.decode("utf-8", "replace")
                yield (expanded.account.name if expanded.account else ""), text
    else:
        argv = arguments(list(model.told_by), here)
        if argv is None:
            raise Untold(f"{model.told_by[0]} is not there")
        if why := objection_to(argv, here):
            raise Untold(why)
        yield "", output_of(here, argv, PATIENCE)


class FactKind(ShownOnly, Kind):
    """`fact`."""

    names = ("fact",)
    models = {"backup": FactBackup}

    def stage(self, step: StepOf[FactBackup], stage: Stage) -> None:
        model = step.model
        known = re.split(r"[\\\[(.*+?^$|]", model.pattern)[0]
        for path in stage.named(model.in_file) if model.in_file else []:
            stage.file(path, f"{known}SAMPLE-0001\r\n")
        if model.in_value is not None:
            stage.key(model.in_key, {model.in_value: f"{known}SAMPLE-0001"})

    def plan(self, step: StepOf[FactBackup], here: Here) -> Iterator[Action]:
        model = step.model
        try:
            found = list(_facts(model, here))
        except (Untold, ActionFailed, LinkOnTheWay, OSError) as error:
            action = here.action(step, "note", model.fact)
            action.state = ABSENT if isinstance(error, Untold) else UNREADABLE
            action.reason = error.what if isinstance(error, ActionFailed | LinkOnTheWay) else str(error)
            yield action
            return
        for account, text in found:
            shown = DOTS if model.private else text
            action = here.action(step, "note", model.fact, account=account, items=1, undo="stays in the bag")
            action.shows = [shown]
            yield action
        if not found:
            yield here.action(step, "note", model.fact, state=ABSENT, reason="nothing in it")

    def do(self, action: Action, step: StepOf[FactBackup], work: Work) -> Outcome:
        model = step.model
        try:
            found = dict(_facts(model, work.here))
        except (Untold, LinkOnTheWay, OSError) as error:
            raise ActionFailed(f"{model.fact} cannot be told: {error!s}", remedy="note it by hand, then resume with --skip") from None
        text = found.get(action.account, "")
        settings = {"value": text, "private": True} if model.private else {"value": text}
        work.bag.add_settings(action.number, work.item(action, "fact", name=model.fact, settings=settings))
        return Outcome(items=1, note=DOTS if model.private else text)


def chosen_by_hand(here: Here) -> Collection[str]:
    """Names of packages that only came along with others are not among these."""
    path = here.workstation.files.path(CHOSEN)
    try:
        text = here.workstation.files.read(path, 16 << 20).decode("utf-8", "replace") if path else ""
    except OSError:
        text = ""
    along = {
        m[1] for part in text.split("\n\n") if "Auto-Installed: 1" in part and (m := re.search(r"^Package: (\S+)$", part, re.MULTILINE))
    }
    packages = here.workstation.packages
    return {p.name for p in (packages.all() if packages else []) if p.name.partition(":")[0] not in along}


class PackagesKind(ShownOnly, Kind):
    """`packages`."""

    names = ("packages",)
    models = {"backup": PackagesBackup}

    def _found(self, step: StepOf[PackagesBackup], here: Here) -> list[Package]:
        packages, names = here.workstation.packages, step.model.names
        return [p for p in (packages.all() if packages else []) if any(name_matches(n, p.name.partition(":")[0], False) for n in names)]

    def plan(self, step: StepOf[PackagesBackup], here: Here) -> Iterator[Action]:
        action = here.action(step, "save", f"packages {', '.join(step.model.names)}", undo="stays in the bag")
        found = self._found(step, here)
        action.about = [NameId("package", p.name) for p in found]
        action.items = len(found)
        action.shows = [f"{p.name} {p.version}" for p in found[:8]]
        if not found:
            action.state = ABSENT
            action.reason = "not installed" if here.workstation.packages else "this workstation has no package manager"
        else:
            action.state = TO_DO
        yield action

    def do(self, action: Action, step: StepOf[PackagesBackup], work: Work) -> Outcome:
        from kleff.case.bag.archive import MemberSource

        workstation, found = work.here.workstation, self._found(step, work.here)
        by_hand = chosen_by_hand(work.here)
        listed = [
            {"name": p.name, "version": p.version, "state": p.state, "chosen": "by hand" if p.name in by_hand else "along"} for p in found
        ]
        files = [workstation.files.path(text) for p in found for text in p.config_files]
        present = [path for f in files if f and workstation.files.look(path := workstation.files.resolve(f).path) is not None]
        item = work.item(action, "packages", settings={"packages": listed})
        wanted = [MemberSource(p) for p in present]
        item = work.bag.add_files(action.number, item, wanted, workstation.files, workstation.admin, work.progress, {})
        return Outcome(items=len(found), size=item.size, note=f"with {plural(item.files, 'configuration file')}")


KINDS = (FactKind(), PackagesKind())
