"""Products registered as installed, and their uninstallers."""

import time
from base64 import b64encode
from collections.abc import Collection, Iterator
from typing import TYPE_CHECKING, Annotated, Any

from msgspec import Meta, field

from kleff.case.aside.spare_plan import SparePlan
from kleff.case.effect_names import UNINSTALLER
from kleff.errors import ActionFailed
from kleff.objects.base import ABSENT, DONE, KEPT, MANUAL, Action, Offers, Outcome, Scene, Sighting, Work
from kleff.objects.spares import no_spare, record_difference, spare_keys, spare_line, spare_places, spare_values
from kleff.procedure.globs import name_matches
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import Problem, Step, Text, duration_problem
from kleff.procedure.versions import parse_duration
from kleff.registry.registry import unpack_key
from kleff.texts import plain, seconds
from kleff.workstation.facets import Entry, Running

if TYPE_CHECKING:
    from kleff.case.record.journal import Effect

# Exit codes of Windows Installer, which other uninstallers use too ("Windows Installer Error Codes").
OK, RESTART, RESTARTING = 0, 3010, 1641
NOT_THERE = (1605, 1614)
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


def matching(step: LoadedStep, scene: Scene) -> list[Entry]:
    """The entries a step means, of every version."""
    model = step.model
    assert isinstance(model, _Entry)
    entries = scene.workstation.entries
    found = entries.all() if entries else []
    return [
        e
        for e in found
        if name_matches(model.entry, e.name, True) and (not model.publisher or name_matches(model.publisher, e.publisher, True))
    ]


class EntryKind(Offers):
    """`entry`."""

    models = {"evidence": EntryEvidence, "uninstall": EntryUninstall, "verify": EntryVerify}

    def look(self, step: LoadedStep, scene: Scene) -> Iterator[Sighting]:
        assert isinstance(step.model, _Entry)
        for entry in matching(step, scene):
            yield Sighting(
                kind="entry", what=plain(entry.name), version=plain(entry.version), where=plain(entry.location or str(entry.key)),
                account=entry.account, line=step.line, in_range=scene.version_in_range(entry.version, step.model.entry),
            )  # fmt: skip

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        model = step.model
        assert isinstance(model, _Entry)
        verb = "uninstall" if step.phase == "uninstall" else "look for"
        found = matching(step, scene)
        if not found:
            reason = "not registered" if scene.workstation.entries else "this system registers packages, not products"
            yield scene.action(step, verb, plain(model.entry), state=ABSENT, reason=reason)
        for entry in found:
            target = plain(entry.name if entry.version in entry.name else f"{entry.name} ({entry.version})")
            action = scene.action(step, verb, target, account=entry.account, version=entry.version, component=entry.name)
            action.because += f", registered at {plain(str(entry.key))}"
            action.details = entry.key.packed
            if not scene.version_in_range(entry.version, model.entry):
                version = f"version {entry.version}" if entry.version else "its version is unknown and"
                action.state, action.reason = KEPT, plain(f"{version} is outside {scene.procedure.product.versions}")
            elif isinstance(model, EntryUninstall):
                self._planned(model, entry, scene, action)
            yield action

    def _planned(self, model: EntryUninstall, entry: Entry, scene: Scene, action: Action) -> None:
        action.items = 1
        command = self._command(model, entry)
        objection = self._objection(entry, command, scene)
        if command is not None:
            action.shows.append(plain("runs: " + " ".join(f'"{a}"' if " " in a else a for a in command)))
        if objection:
            action.state, action.reason = MANUAL, plain(objection)
        elif scene.spare == "off":
            action.final, action.undo = True, "cannot be taken back: an outside program does it"
        else:
            action.undo = "brought back from the spare"
            action.shows.append(spare_line(scene, self._spare_plan(scene, entry)))

    def _command(self, model: EntryUninstall, entry: Entry) -> list[str] | None:
        if entry.quiet is not None:
            return list(entry.quiet)
        return list(model.quiet) or None

    def _objection(self, entry: Entry, command: list[str] | None, scene: Scene) -> str:
        workstation = scene.workstation
        if command is None:
            return f"no quiet way is known; uninstall it by hand ({entry.registered or 'no command is registered'})"
        if entry.account and not entry.product_code:
            return f"registered by the account {entry.account} itself; uninstall it by hand as that account"
        program = workstation.files.path(command[0])
        if program is None:
            return f"{command[0]} is not a path; uninstall it by hand"
        return (workstation.commands.objection(program) if workstation.commands else "no programs are run here") or ""

    def _spare_plan(self, scene: Scene, entry: Entry) -> SparePlan:
        return SparePlan(spare_places(scene, entry), spare_keys(scene, entry), spare_values(scene), scene.spare == "full")

    # -- running ----------------------------------------------------------------------------------------------

    def _entry(self, action: Action, step: LoadedStep, scene: Scene) -> Entry | None:
        wanted = unpack_key(action.details)
        return next((e for e in matching(step, scene) if e.key == wanted), None)

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        model = step.model
        assert isinstance(model, EntryUninstall)
        entry, last = self._entry(action, step, work.scene), self._last(action, work)
        from kleff.case.uninstallers import started_by

        running = started_by(last, work.scene.workstation) if last else None
        deadline = time.monotonic() + parse_duration(model.patience)
        if last is not None and running is not None and not self._ended(running, work):
            work.progress.say(f"     the uninstaller of {action.target} is still at work: waiting for it")
        elif entry is None:
            return Outcome(note="already gone", restart=last is not None and last.data.get("code") in (RESTART, RESTARTING))
        elif last is not None and last.data.get("watching"):  # cut off while the copy it handed over to was at work
            return self._finish(action, step, work, last, deadline, last.data["code"])
        elif last is not None and self._went_on_by_itself(action, step, work, last):
            return self._finish(action, step, work, last, deadline, last.data.get("code"))
        else:
            last, running = self._start(action, model, entry, work)
        return self._follow(action, step, work, last, running, deadline)

    def _last(self, action: Action, work: Work) -> "Effect | None":
        """The uninstaller that an interrupted run of this case started on this boot."""
        found = [e for e in work.hands.case.journal.effects(action.number) if e.kind == UNINSTALLER]
        return found[-1] if found and found[-1].data.get("boot") == work.scene.workstation.boot else None

    def _went_on_by_itself(self, action: Action, step: LoadedStep, work: Work, last: "Effect") -> bool:
        """Cut off at an unknown instant: give what may still be at work time; True if the product is gone then."""
        from kleff.case.uninstallers import until_still

        if last.data.get("ended") or last.data.get("spare") == "making":
            return False
        work.progress.say(f"     looking whether the uninstaller of {action.target} is still at work")
        until_still(work.hands, last, lambda: self._entry(action, step, work.scene) is None)
        return self._entry(action, step, work.scene) is None

    def _ended(self, running: Running, work: Work) -> bool:
        commands = work.scene.workstation.commands
        return commands is None or commands.wait(running, 0)

    def _start(self, action: Action, model: EntryUninstall, entry: Entry, work: Work) -> tuple["Effect", Running]:
        command = self._command(model, entry)
        objection = self._objection(entry, command, work.scene)
        if objection or command is None or work.scene.workstation.commands is None:
            raise ActionFailed(objection or "no programs are run here", remedy="uninstall it by hand, then resume")
        data: dict[str, Any] = {"what": action.target, "command": command, "boot": work.scene.workstation.boot}
        effect = self._spared(action, entry, data, work)
        running = work.scene.workstation.commands.start(command, work.hands.case.output(effect.id))
        return work.hands.case.journal.amend(effect, pid=running.pid, started=running.started), running

    def _spared(self, action: Action, entry: Entry, data: dict[str, Any], work: Work) -> "Effect":
        """The intent, and after it the spare, complete before the uninstaller is started."""
        from kleff.case.effects import spare_of

        journal, scene = work.hands.case.journal, work.scene
        if scene.spare == "off":
            return work.hands.intend(action.number, UNINSTALLER, data)
        plan = self._spare_plan(scene, entry)
        spare = spare_of(work.hands, journal.next_effect())
        areas = [b64encode(a.raw).decode() for a in spare.areas(plan)]
        effect = work.hands.intend(action.number, UNINSTALLER, {**data, "spare": "making", "areas": areas})
        work.progress.say("     taking a spare of the product")
        try:
            index = spare.make(plan)
        except OSError as error:
            raise no_spare(error, "the uninstaller was not run") from None
        return journal.amend(effect, spare="made", index=index)

    def _follow(self, action: Action, step: LoadedStep, work: Work, effect: "Effect", running: Running, deadline: float) -> Outcome:
        """Wait for its end, understand its exit code, then watch until the entry is really gone."""
        commands, output = work.scene.workstation.commands, work.hands.case.output(effect.id)
        assert commands is not None
        begun = time.monotonic()
        while not commands.wait(running, 0.25):
            if time.monotonic() > deadline:
                raise ActionFailed(
                    f"the uninstaller of {action.target} has not ended in time", remedy=f"look at its window and at {output}; then resume"
                )
            work.progress.step()
        code = running.code
        effect = work.hands.case.journal.amend(effect, code=code, ended=code not in (OK, None, *NOT_THERE))
        if code not in (OK, RESTART, RESTARTING, None, *NOT_THERE):
            meaning = f" ({MEANINGS[code]})" if code in MEANINGS else ""
            work.hands.done(effect, f"exit code {code}")
            raise ActionFailed(
                f"the uninstaller of {action.target} ended with exit code {code}{meaning}{_last_line(output)}",
                remedy=f"read {output}; mend it, then resume, or go past it with  --skip {action.number}",
            )
        return self._finish(action, step, work, effect, deadline, code, begun)

    def _finish(
        self, action: Action, step: LoadedStep, work: Work, effect: "Effect", deadline: float, code: int | None, begun: float = 0.0
    ) -> Outcome:
        """It has returned: watch until the entry is gone, unless it asks for a restart; then see what it did."""
        journal, restart = work.hands.case.journal, code in (RESTART, RESTARTING)
        if not restart:
            journal.amend(journal.effect(effect.id), watching=True)
            try:
                self._watch(action, step, work, deadline, code)
            except ActionFailed:  # in vain; the next try starts the uninstaller anew
                journal.amend(journal.effect(effect.id), watching=False, ended=True)
                raise
        work.hands.done(effect, f"exit code {'not known' if code is None else code}")
        did = record_difference(work.hands, effect)
        words = (
            f"was not there (exit code {code})"
            if code in NOT_THERE
            else f"took {seconds(time.monotonic() - begun)}"
            if begun
            else "went on by itself"
        )
        return Outcome(
            state=DONE, items=1, note="; ".join(n for n in ("asks for a restart" if restart else words, did) if n), restart=restart
        )

    def _watch(self, action: Action, step: LoadedStep, work: Work, deadline: float, code: int | None) -> None:
        """Some uninstallers return at once after handing over to a copy of themselves: the entry tells."""
        if code in NOT_THERE:
            deadline = time.monotonic()
        said = False
        while self._entry(action, step, work.scene) is not None:
            if time.monotonic() >= deadline:
                raise ActionFailed(
                    f"{action.target} is still registered after its uninstaller ended", remedy="look whether it still works; then resume"
                )
            if not said:
                work.progress.say("     the uninstaller has returned; waiting until the product is no longer registered")
                said = True
            time.sleep(0.1)


def _last_line(output: Any) -> str:
    try:
        lines = output.read_text("utf-8", "replace").strip().splitlines()
    except OSError:
        return ""
    return f": {plain(lines[-1])[:200]}" if lines else ""
