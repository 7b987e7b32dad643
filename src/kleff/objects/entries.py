"""Products registered as installed, and their uninstallers."""

import time
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated

from msgspec import Meta, field

from kleff.case.guard.guard import Kept
from kleff.case.programs import last_words
from kleff.errors import ActionFailed
from kleff.objects.base.action import ABSENT, DONE, MANUAL, Action, Outcome, Sighting
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Claimed, Kind
from kleff.objects.spare_contents import entry_plan, spare_line
from kleff.procedure.globs import literal_count, name_matches
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import Problem, Step, Text, duration_problem
from kleff.procedure.versions import parse_duration
from kleff.texts import seconds
from kleff.workstation.identity import covers, key_id, sameness
from kleff.workstation.things import Entry, Running

if TYPE_CHECKING:
    from kleff.case.effects.uninstaller_ran import UninstallerRan
    from kleff.case.record.beforehand import Beforehand
    from kleff.case.record.effect import Journaled

# Exit codes of Windows Installer, which other uninstallers use too ("Windows Installer Error Codes").
OK, RESTART, RESTARTING = 0, 3010, 1641
NOT_THERE = (1605, 1614)
SETTLING = 10.0  # seconds that are left to the system once nothing of an uninstaller is at work any more
MEANINGS = {
    1602: "cancelled: it asked a question",
    1603: "fatal error during removal",
    1612: "its source is missing",
    1618: "another installation is at work",
}


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


class EntryKind(Kind):
    """`entry`."""

    names = ("entry",)
    systems = ("windows",)
    condition = "A registered product that must, or must not, be there."
    models = {"evidence": EntryEvidence, "uninstall": EntryUninstall, "verify": EntryVerify}

    def look(self, step: LoadedStep, here: Here) -> Iterator[Sighting]:
        assert isinstance(step.model, _Entry)
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
        entry, last = _entry(action, step, here), _last(action, work)
        running = started_by(last.one, work.hands) if last else None
        patience = parse_duration(model.patience)
        watch = _Watch(action, step, work, time.monotonic() + patience)
        if last is not None and running is not None and last.effect.code is None:
            if not _over(running, here):
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


@dataclass(frozen=True)
class _Try:
    """An earlier try of this case to run the uninstaller of an action."""

    one: "Journaled"
    effect: "UninstallerRan"


def _last(action: Action, work: Work) -> _Try | None:
    """The uninstaller that an interrupted run of this case started on this boot."""
    from kleff.case.effects.uninstaller_ran import UninstallerRan

    tries = [_Try(e, e.effect) for e in work.hands.case.journal.effects(action.number) if isinstance(e.effect, UninstallerRan)]
    return tries[-1] if tries and tries[-1].effect.boot == work.here.workstation.boot else None


def _over(running: Running, here: Here) -> bool:
    commands = here.workstation.commands
    return commands is None or commands.wait(running, 0)


@dataclass(frozen=True)
class _Watch:
    """Waits for an uninstaller, and until what it removes is no longer registered.

    Attributes:
        deadline: by the monotonic clock.
    """

    action: Action
    step: LoadedStep
    work: Work
    deadline: float

    def _gone(self) -> bool:
        return _entry(self.action, self.step, self.work.here) is None

    def went_on_by_itself(self, last: _Try) -> bool:
        """Cut off at an unknown instant: give what may still be at work time; True if the product is gone then."""
        from kleff.case.effects.spared import until_still

        if last.effect.ended or last.effect.spare == "making":
            return False
        self.work.progress.say(f"     looking whether the uninstaller of {self.action.target} is still at work")
        until_still(self.work.hands, last.one, self._gone)
        return self._gone()

    def follow(self, one: "Journaled", running: Running) -> Outcome:
        """Wait for its end, understand its exit code, then watch until the entry is really gone."""
        hands, name, commands = self.work.hands, self.action.target, self.work.here.workstation.commands
        output = hands.case.output(one.id)
        assert commands is not None
        begun = time.monotonic()
        while not commands.wait(running, 0.25):
            if time.monotonic() > self.deadline:
                raise ActionFailed(
                    f"the uninstaller of {name} has not ended in time", remedy=f"look at its window and at {output}; then resume"
                )
            self.work.progress.step()
        code = running.code
        one = hands.amend(one, code=code, ended=code not in (OK, None, *NOT_THERE))
        if code not in (OK, RESTART, RESTARTING, None, *NOT_THERE):
            meaning = f" ({MEANINGS[code]})" if code in MEANINGS else ""
            hands.done(one, f"exit code {code}")
            raise ActionFailed(
                f"the uninstaller of {name} ended with exit code {code}{meaning}{last_words(output)}",
                remedy=f"read {output}; mend it, then resume, or go past it with  --skip {self.action.number}",
            )
        return self.finish(one, code, running, begun)

    def finish(self, one: "Journaled", code: int | None, running: Running | None, begun: float = 0.0) -> Outcome:
        """It has returned: watch until the entry is gone, unless it asks for a restart; then see what it did."""
        from kleff.case.effects.spared import put_back_others, record_difference

        hands, restart = self.work.hands, code in (RESTART, RESTARTING)
        if not restart:
            one = hands.amend(one, watching=True)
            try:
                self._until_gone(code, running)
            except ActionFailed:  # in vain; the next try starts the uninstaller anew
                hands.amend(one, watching=False, ended=True)
                raise
        others = put_back_others(hands, one)
        hands.done(one, f"exit code {'not known' if code is None else code}")
        took = f"took {seconds(time.monotonic() - begun)}" if begun else "went on by itself"
        words = "asks for a restart" if restart else f"was not there (exit code {code})" if code in NOT_THERE else took
        note = "; ".join(n for n in (words, record_difference(hands, one), others) if n)
        return Outcome(state=DONE, items=1, note=note, restart=restart)

    def _until_gone(self, code: int | None, running: Running | None) -> None:
        """Some uninstallers return at once after handing over to a copy of themselves: the entry tells, as long as anything is at work."""
        deadline = time.monotonic() if code in NOT_THERE else self.deadline
        said, at_work = False, time.monotonic()
        while not self._gone():
            if running is None or self._at_work(running):
                at_work = time.monotonic()
            if time.monotonic() >= min(deadline, at_work + SETTLING):
                raise ActionFailed(
                    f"{self.action.target} is still registered after its uninstaller ended",
                    remedy="look whether it still works; then resume",
                )
            if not said:
                self.work.progress.say("     the uninstaller has returned; waiting until the product is no longer registered")
                said = True
            time.sleep(0.1)

    def _at_work(self, running: Running) -> bool:
        """Whether the uninstaller has left something at work, or the system's own installer is."""
        commands, readiness = self.work.here.workstation.commands, self.work.here.workstation.readiness
        return (commands is not None and commands.busy(running)) or (readiness is not None and bool(readiness.at_work()))
