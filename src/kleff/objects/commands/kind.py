"""Programs of the product that export its data, or that are run to stop it; `restoring` has the data taken in again."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import msgspec

from kleff.errors import ActionFailed, Refused
from kleff.objects.base.action import ABSENT, MANUAL, SKIPPED, UNKNOWN, UNREADABLE, Action, Outcome, Sighting, for_vendor
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind
from kleff.objects.base.staging import Stage
from kleff.objects.base.unreadable import why
from kleff.objects.commands.evidence import CommandEvidence, look_at_output
from kleff.objects.commands.programs import arguments, counted, list_of, objection_to, program_of, run_program
from kleff.objects.commands.steps import (
    ITEM,
    CommandAfter,
    CommandBackup,
    CommandRun,
    CommandStop,
    CommandUninstall,
    CommandVerify,
    item_problem,
)
from kleff.objects.commands.tool import plan_tool
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.procedure.versions import parse_duration
from kleff.workstation.identity import NameId
from kleff.workstation.paths import WPath

if TYPE_CHECKING:
    from kleff.case.bag.index import SavedItem
    from kleff.objects.base.restoring import Restoring


class Exporting(msgspec.Struct, kw_only=True):
    """What there was to export, as the program told; of one thing of a list, which."""

    listed: list[str] = []
    item: str = ""


class CommandKind(Kind):
    """`command`."""

    names = ("command",)
    exports = True
    models = {
        "evidence": CommandEvidence, "backup": CommandBackup, "stop": CommandStop, "uninstall": CommandUninstall, "after": CommandAfter,
    }  # fmt: skip

    def stage(self, step: LoadedStep, stage: Stage) -> None:
        model = step.model
        if isinstance(model, CommandBackup):
            said = {word: "one sample\n" for words in (model.command, model.lists) for word in words[1:2]}
            stage.add("program", path=stage.program(model.command[0]), answers=said, prints="one sample\n")
        elif isinstance(model, CommandRun):
            stage.add("program", path=stage.program(model.command[0]), prints="one sample\n")

    def look(self, step: StepOf[CommandEvidence], here: Here) -> Iterator[Sighting]:
        yield from look_at_output(step, here)

    def proves(self, phase: str) -> bool:
        return False

    def plan(self, step: StepOf[CommandUninstall | CommandRun | CommandBackup], here: Here) -> Iterator[Action]:
        model = step.model
        if isinstance(model, CommandUninstall):
            yield plan_tool(step, model, here)
            return
        if isinstance(model, CommandRun):
            yield self._plan_run(step, model, here)
            return
        action = here.action(step, "export", model.saves_as, undo="stays in the bag", items=1)
        argv = arguments(model.command, here)
        if argv is None:
            # A program that is missing shows nothing of what it would export.
            action.state, action.reason = UNKNOWN, f"{model.command[0]} is not there, so what it exports cannot be saved"
            if not here.present:
                action.state, action.reason = ABSENT, f"{model.command[0]} is not there, and nothing of the product shows"
            yield action
            return
        action.shows = ["runs: " + " ".join(argv)]
        objection = objection_to(argv, here)
        if objection:
            action.state, action.reason = MANUAL, f"{objection}; export by hand"
            yield action
        elif model.lists:
            yield from self._listed(step, model, here, action)
        else:
            yield action

    def needs(self, step: LoadedStep, here: Here) -> Iterator[tuple[WPath, str]]:
        """The programs it runs, and the one that takes in again what it has saved."""
        model = step.model
        words = [model.restore[:1]] if isinstance(model, CommandBackup) else [model.command[:1]] if isinstance(model, CommandRun) else []
        words += [list(model.lists[:1])] if isinstance(model, CommandUninstall) else []
        what = "which takes in again what was saved" if isinstance(model, CommandBackup) else f"which the step at line {step.line} runs"
        for word in words:
            if word and (program := program_of(word[0], here)) is not None:
                yield program, what

    def _plan_run(self, step: LoadedStep, model: CommandRun, here: Here) -> Action:
        argv = arguments(list(model.command), here)
        action = here.action(step, "run", " ".join(argv or model.command), items=1, without_return=model.final)
        action.undo = "cannot be taken back" if model.final else "nothing to take back"
        if argv is None:
            action.state, action.reason, action.without_return = ABSENT, f"{model.command[0]} is not there", False
        elif why := objection_to(argv, here):
            action.state, action.reason = MANUAL, f"{why}; do it by hand"
        return action

    def _run(self, action: Action, model: CommandRun, work: Work) -> Outcome:
        argv = arguments(list(model.command), work.here)
        if argv is None:
            return Outcome(note="is not there any more")
        from kleff.case.effects.command_ran import Earlier, earlier, has_failed, running_command

        fine = model.fine
        before = earlier(work.hands, action.number, fine) if model.final else Earlier()
        if before.how:
            return Outcome(items=1, note="was run before the run was cut off", restart=before.code in model.restart)
        if model.final and has_failed(work.hands, action.number):
            raise ActionFailed(
                f"{argv[0]} was run and failed; what it does cannot be taken back, so it is not run again",
                remedy=f"look what it has done; go past it with  --skip {action.number} --because TEXT",
            )
        what = f"what {' '.join(argv)} has done" if model.final else ""
        with running_command(work.hands, action.number, what) as command:
            argv = command.runs(argv, work.here.secrets.known())
            command.code = run_program(
                work.here, argv, command.output, parse_duration(model.patience), secret=model.need, known=command.known, fine=fine
            )
        if command.code in model.absent:
            return Outcome(note=f"there was nothing to do (exit code {command.code})")
        restart = command.code in model.restart
        return Outcome(items=1, restart=restart, note=f"asks for a restart (exit code {command.code})" if restart else "")

    def _releasing(self, action: Action, model: CommandRun, work: Work) -> Outcome:
        """What is not given back to the vendor, because nobody there answers, keeps nobody from going on."""
        try:
            return self._run(action, model, work)
        except ActionFailed as error:
            question = f"{error.what}. Go on without, with a note for the vendor that {model.owed} was not released?"
            work.here.workstation.release()
            if not model.owed or not work.progress.agrees(question):
                if model.owed:
                    error.remedy += f"; or go on, with a note for the vendor:  --skip {action.number} --because TEXT"
                raise
            return Outcome(state=SKIPPED, note=for_vendor(model.owed, error.what))

    def listed(self, step: LoadedStep, here: Here) -> list[str]:
        """What a removal tool can remove, as far as its names can be given to it."""
        model = step.model
        if not isinstance(model, CommandUninstall) or objection_to(arguments(list(model.lists), here) or [""], here):
            return []
        return [name for name in list_of(model, here) if not item_problem(name)]

    def needs_rights(self, action: Action, here: Here) -> bool:
        return action.phase == "uninstall"

    def _listed(self, step: LoadedStep, model: CommandBackup, here: Here, action: Action) -> Iterator[Action]:
        try:
            names = list_of(model, here)
        except (ActionFailed, Refused) as error:
            why = ": ".join((error.what, *error.said[-1:]))
            action.shows.append(f"could not be listed: {why}")
            if ITEM in model.saves_as:
                action.state, action.reason = UNREADABLE, f"what there is could not be listed: {why}"
            yield action
            return
        action.set_details(Exporting(listed=names))
        if not names:
            action.state, action.reason = ABSENT, "nothing in it"
        elif ITEM in model.saves_as:
            for name in names:
                argv = arguments(model.command, here, name) or []
                each = here.action(
                    step, "export", model.saves_as.replace(ITEM, name), undo="stays in the bag", items=1,
                    shows=["runs: " + " ".join(argv)],
                )  # fmt: skip
                each.set_details(Exporting(listed=[name], item=name))
                if why := item_problem(name):
                    each.state, each.reason = MANUAL, f"{why}; export by hand"
                yield each
            return
        else:
            action.shows.append(f"holds {counted(names, here)}")
        yield action

    def do(self, action: Action, step: StepOf[CommandUninstall | CommandRun | CommandBackup], work: Work) -> Outcome:
        model, told = step.model, action.details_as(Exporting)
        item = told.item
        if isinstance(model, CommandUninstall):
            from kleff.objects.entries.tool import run_tool

            return run_tool(action, step, model, work)
        if isinstance(model, CommandRun):
            return self._releasing(action, model, work)
        argv = arguments(model.command, work.here, item)
        if argv is None:
            raise ActionFailed(f"{model.command[0]} was there at the preview and is gone", remedy="export by hand, then resume with --skip")
        name = model.saves_as.replace(ITEM, item)
        work.progress.start(f"exporting {name}")
        folder = work.hands.case.folder / "output"
        errors = folder / f"export-{action.number:04d}.txt"
        with work.bag.receiving(action.number, folder) as received:
            run_program(work.here, argv, received.path, parse_duration(model.patience), errors=errors, secret=model.need)
        size = received.size
        if not size:
            raise ActionFailed(f"{argv[0]} exported nothing", remedy="export by hand, then resume with --skip")
        settings = {"item": item} if item else {}
        saved = work.item(action, "command", name=name, listed=told.listed, settings=settings)
        saved = work.bag.add_output(action.number, saved, received.file)
        received.file.unlink()
        if not errors.stat().st_size:
            errors.unlink()
        return Outcome(note=f"in bag/data/{saved.file}", items=1, size=size)

    # -- restoring --------------------------------------------------------------------------------------------

    def plan_restore(self, item: SavedItem, stem: str, restoring: Restoring) -> Iterator[Action]:
        from kleff.objects.commands.restoring import plan

        yield plan(item, stem, restoring)

    def restore(self, action: Action, item: SavedItem, restoring: Restoring, work: Work) -> Outcome:
        from kleff.objects.commands.restoring import restore

        return restore(action, item, restoring, work)

    def missing(self, item: SavedItem, stem: str, restoring: Restoring, placed: Sequence[WPath]) -> list[str]:
        from kleff.objects.commands.restoring import missing

        return missing(item, restoring)


class CommandMissingKind(Kind):
    """`command_missing`."""

    names = ("command_missing",)
    models = {"verify": CommandVerify}

    def plan(self, step: StepOf[CommandVerify], here: Here) -> Iterator[Action]:
        name = step.model.command_missing
        found = here.workstation.commands.find(name) if here.workstation.commands else None
        action = here.action(step, "look for", f"command {name}", about=[NameId("command", name)])
        if found is None:
            action.state, action.reason = ABSENT, "not found"
        else:
            action.target = f"command {name}, found as {found}"
        yield action
        if here.workstation.system == "linux":
            yield from self._of_accounts(step, here, name)

    def _of_accounts(self, step: LoadedStep, here: Here, name: str) -> Iterator[Action]:
        """Where an account's own programs lie, which its search path has too (file-hierarchy(7), systemd)."""
        for account in here.resolver.accounts([]):
            for parts in ((".local", "bin"), ("bin",)):
                place = account.home.child(*parts, name)
                about = [NameId("command", name, str(place))]
                action = here.action(step, "look for", f"command {name}, found as {place}", account=account.name, about=about)
                try:
                    there = here.workstation.files.look(place) is not None
                except OSError as error:
                    action.state, action.reason, there = UNREADABLE, why(error), True
                if there:
                    yield action


KINDS = (CommandKind(), CommandMissingKind())
