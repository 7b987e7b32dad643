"""Products registered as installed, and their uninstallers."""

import time
from collections.abc import Collection, Iterator
from typing import TYPE_CHECKING, Annotated

from msgspec import Meta, field

from kleff.case.guard.guard import Kept
from kleff.errors import ActionFailed
from kleff.objects.base.action import ABSENT, MANUAL, UNREADABLE, Action, Outcome, Sighting
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Claimed, Kind
from kleff.objects.spare_contents import entry_plan, spare_line
from kleff.objects.uninstalling import RESTART, RESTARTING, Watch, is_over, last_try
from kleff.procedure.globs import literal_count, name_matches
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import Step, Text
from kleff.procedure.texts import Problem, duration_problem
from kleff.procedure.versions import parse_duration
from kleff.workstation.identity import covers, key_id, sameness
from kleff.workstation.things import Entry

if TYPE_CHECKING:
    from kleff.case.record.beforehand import Beforehand


class _Entry(Step, kw_only=True, frozen=True):
    entry: Annotated[Text, Meta(description="name as registered; * and ? are wildcards")]
    publisher: Annotated[str, Meta(description="publisher as registered; * and ? are wildcards")] = ""


class EntryEvidence(_Entry, kw_only=True, frozen=True):
    """A product registered as installed."""


class EntryUninstall(_Entry, kw_only=True, frozen=True):
    """Run the registered uninstaller, quietly."""

    patience: Annotated[str, Meta(description="how long it may take, e.g. 45m; never cut off earlier")] = "45m"
    quiet: Annotated[list[Text], Meta(description="program and arguments that remove it without a question, where none are registered")] = (
        field(default_factory=list)
    )

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from duration_problem("patience", self.patience)


class EntryVerify(_Entry, kw_only=True, frozen=True):
    """A product that must not be registered any more."""


def matching(step: LoadedStep, here: Here) -> list[Entry]:
    """The entries a step means, of every version."""
    model = step.model
    assert isinstance(model, _Entry)
    entries = here.workstation.entries
    found = entries.all() if entries else []
    return [
        e
        for e in found
        if name_matches(model.entry, e.name, True) and (not model.publisher or name_matches(model.publisher, e.publisher, True))
    ]


def _going(step: LoadedStep, here: Here) -> list[Entry]:
    """Those that a step uninstalls: of the versions that are meant, and chosen where that is asked."""
    model = step.model
    assert isinstance(model, EntryUninstall)
    return [
        e for e in matching(step, here)
        if here.version_in_range(e.version, model.entry) and not here.not_chosen(model, e.account, e.version, e.name)
    ]  # fmt: skip


NOT_LOOKED_AT = "it cannot be looked at: what is registered for this account is in use"


def _unread(here: Here) -> list[str]:
    return here.workstation.entries.unread() if here.workstation.entries else []


class EntryKind(Kind):
    """`entry`."""

    names = ("entry",)
    systems = ("windows",)
    condition = "A registered product that must, or must not, be there."
    models = {"evidence": EntryEvidence, "uninstall": EntryUninstall, "verify": EntryVerify}

    def look(self, step: LoadedStep, here: Here) -> Iterator[Sighting]:
        assert isinstance(step.model, _Entry)
        for account in _unread(here):
            what = f"{step.model.entry} ({NOT_LOOKED_AT})"
            yield Sighting(kind="entry", what=what, account=account, line=step.line, unreadable=True, component=True)
        for entry in matching(step, here):
            yield Sighting(
                kind="entry", what=entry.name, about=entry.id, version=entry.version, where=entry.location or entry.registered_at,
                account=entry.account, line=step.line, in_range=here.version_in_range(entry.version, step.model.entry), component=True,
            )  # fmt: skip

    def plan(self, step: LoadedStep, here: Here) -> Iterator[Action]:
        model = step.model
        assert isinstance(model, _Entry)
        verb = "uninstall" if step.phase == "uninstall" else "look for"
        found = matching(step, here)
        for account in _unread(here):
            yield here.action(step, verb, model.entry, account=account, state=UNREADABLE, reason=NOT_LOOKED_AT)
        if not found:
            reason = "not registered" if here.workstation.entries else "this system registers packages, not products"
            yield here.action(step, verb, model.entry, state=ABSENT, reason=reason)
        for entry in found:
            target = entry.name if entry.version in entry.name else f"{entry.name} ({entry.version})"
            action = here.action(step, verb, target, about=[entry.id], account=entry.account, version=entry.version, component=entry.name)
            action.because += f", registered at {entry.registered_at}"
            if not here.version_in_range(entry.version, model.entry):
                version = f"version {entry.version}" if entry.version else "its version is unknown and"
                action.keep(f"{version} is outside {here.procedure.product.versions}")
            elif isinstance(model, EntryUninstall):
                self._planned(model, entry, here, action)
            yield action

    def _planned(self, model: EntryUninstall, entry: Entry, here: Here, action: Action) -> None:
        action.items = 1
        command = _command(model, entry)
        objection = _objection(entry, command, here)
        if command is not None:
            action.shows.append("runs: " + " ".join(f'"{a}"' if " " in a else a for a in command))
        if objection:
            action.state, action.reason = MANUAL, objection
        elif here.options.spare == "off":
            action.without_return, action.undo = True, "cannot be taken back: an outside program does it"
        else:
            action.undo = "brought back from the spare"
            action.shows.append(spare_line(here, entry_plan(here, entry)))

    def needs_rights(self, action: Action, here: Here) -> bool:
        return True

    def advice(self, step: LoadedStep) -> list[str]:
        model = step.model
        if not isinstance(model, EntryUninstall):
            return []
        told = [] if model.publisher else ["names no publisher: another maker's product of the same name would match"]
        if not literal_count(model.entry):
            told.append(f"entry = '{model.entry}' means every product of that maker; name the product, or  versions  in [product]")
        return told

    def keep(self, steps: list[LoadedStep], here: Here, claimed: Claimed) -> Kept:
        """Folders of registered products that are not uninstalled."""
        kept, entries = Kept(), here.workstation.entries
        if entries is None:
            return kept
        style = here.workstation.style
        going = {sameness(e.id, style) for step in steps if isinstance(step.model, EntryUninstall) for e in _going(step, here)}
        # One whose registration a step deletes goes too, also without its uninstaller.
        deleted = [key_id(key) for key in claimed.keys]
        going |= {sameness(e.id, style) for e in entries.all() if any(covers(key, e.id, style) for key in deleted)}
        for entry in entries.all():
            place = here.workstation.files.path(entry.location) if entry.location and sameness(entry.id, style) not in going else None
            if place is not None and place.parts:
                name = entry.name if entry.version in entry.name else f"{entry.name} {entry.version}"
                kept.places.append((place, f"it belongs to {name}, which stays"))
        return kept

    def claims(self, step: LoadedStep, here: Here) -> Claimed:
        if not isinstance(step.model, EntryUninstall):
            return Claimed()
        places = [here.workstation.files.path(e.location) for e in _going(step, here) if e.location]
        return Claimed(folders=[p for p in places if p is not None and p.parts])

    def note(self, step: LoadedStep, here: Here, noted: "Beforehand") -> None:
        """Where it is installed, and the program that removes it."""
        files = here.workstation.files
        for entry in _going(step, here):
            noted.add(files.path(entry.location) if entry.location else None, "installed in", entry.name)
            if entry.quiet and not entry.product_code:  # else it is the system's own installer
                noted.add(files.path(entry.quiet[0]), "uninstalls", entry.name)

    # -- running ----------------------------------------------------------------------------------------------

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        from kleff.case.effects.uninstaller_ran import run_uninstaller, started_by

        model, here = step.model, work.here
        assert isinstance(model, EntryUninstall)
        entry, last = _entry(action, step, here), last_try(action, work)
        running = started_by(last.one, work.hands) if last else None
        patience = parse_duration(model.patience)
        watch = Watch(action, work, lambda: _entry(action, step, here) is None, time.monotonic() + patience)
        if last is not None and running is not None and last.effect.code is None:
            if not is_over(running, here):
                work.progress.say(f"     the uninstaller of {action.target} is still at work: waiting for it")
                return watch.follow(last.one, running)
            if running.code is not None:  # it ended while nobody was there, and its supervisor has kept how
                return watch.follow(last.one, running)
        if entry is None:
            from kleff.case.effects.spared import put_back_others_of

            others = put_back_others_of(work.hands, action.number)
            return Outcome(
                note="; ".join(n for n in ("already gone", others) if n),
                restart=last is not None and last.effect.code in (RESTART, RESTARTING),
            )
        if last is not None and (last.effect.watching or watch.went_on_by_itself(last)):
            # Cut off while the copy it handed over to was at work.
            return watch.finish(last.one, last.effect.code, running)
        command = _command(model, entry)
        objection = _objection(entry, command, here)
        if objection or command is None:
            raise ActionFailed(objection, remedy="uninstall it by hand, then resume")
        plan = None if here.options.spare == "off" else entry_plan(here, entry)
        return watch.follow(*run_uninstaller(work.hands, action.number, action.target, command, plan, patience))


def _command(model: EntryUninstall, entry: Entry) -> list[str] | None:
    if entry.quiet is not None:
        return list(entry.quiet)
    return list(model.quiet) or None


def _objection(entry: Entry, command: list[str] | None, here: Here) -> str:
    workstation = here.workstation
    if command is None:
        return f"no quiet way is known; uninstall it by hand ({entry.registered or 'no command is registered'})"
    if entry.account and not entry.product_code:
        return f"registered by the account {entry.account} itself; uninstall it by hand as that account"
    program = workstation.files.path(command[0])
    if program is None:
        return f"{command[0]} is not a path; uninstall it by hand"
    return (workstation.commands.objection(program) if workstation.commands else "no programs are run here") or ""


def _entry(action: Action, step: LoadedStep, here: Here) -> Entry | None:
    style = here.workstation.style
    wanted = sameness(action.about[0], style)
    return next((e for e in matching(step, here) if sameness(e.id, style) == wanted), None)
