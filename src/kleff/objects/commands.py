"""Programs of the product that export its data, and commands that must no longer be found."""

from collections.abc import Collection, Iterator
from pathlib import Path
from typing import Annotated

from msgspec import Meta, field

from kleff.errors import ActionFailed
from kleff.objects.base import ABSENT, MANUAL, Action, Offers, Outcome, Scene, Work
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import AfterStop, DataKind, Problem, Step, Text, Texts, duration_problem
from kleff.procedure.variables import BadTemplate, parse_template
from kleff.procedure.versions import parse_duration
from kleff.texts import plain, plural
from kleff.workstation.facets import Workstation


class CommandBackup(Step, kw_only=True, frozen=True):
    """Save what a program exports on its standard output."""

    command: Annotated[Texts, Meta(description="program and arguments; no shell")]
    saves_as: Annotated[Text, Meta(description="name of the file in the bag")]
    lists: Annotated[list[Text], Meta(description="program and arguments that list what there is; no output: nothing to save")] = field(
        default_factory=list
    )
    patience: str = "10m"
    kind: DataKind = None
    stopped: AfterStop = False

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from duration_problem("patience", self.patience)
        for key, words in (("command", self.command), ("lists", self.lists)):
            for index, word in enumerate(words):
                if index == 0 or word.startswith("{"):
                    try:
                        parse_template(word, places)
                    except BadTemplate as error:
                        yield (key, index), str(error)
        if "/" in self.saves_as or "\\" in self.saves_as:
            yield ("saves_as",), "is a file name, without folders"


class CommandVerify(Step, kw_only=True, frozen=True):
    """A command that must no longer be found."""

    command_missing: Text


def _argv(words: list[str], scene: Scene) -> list[str] | None:
    """The words with variables put in; None if the program is not there."""
    program = scene.resolver.first_path(words[0])
    if program is None:
        return None
    rest = [str(scene.resolver.first_path(w) or w) if w.startswith("{") else w for w in words[1:]]
    return [str(program), *rest]


def _run(workstation: Workstation, argv: list[str], output: Path, patience: float) -> None:
    commands = workstation.commands
    program = workstation.files.path(argv[0])
    objection = commands.objection(program) if commands and program else "no programs are run here"
    if objection or commands is None:
        raise ActionFailed(str(objection), remedy="export by hand, then resume with --skip")
    running = commands.start(argv, output)
    if not commands.wait(running, patience):
        raise ActionFailed(f"{argv[0]} has not ended in time", remedy="export by hand, then resume with --skip")
    if running.code != 0:
        raise ActionFailed(f"{argv[0]} ended with exit code {running.code}", remedy=f"read {output}; then resume")


class CommandKind(Offers):
    """`command`."""

    models = {"backup": CommandBackup}

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        model = step.model
        assert isinstance(model, CommandBackup)
        action = scene.action(step, "export", plain(model.saves_as), undo="stays in the bag", items=1)
        argv = _argv(model.command, scene)
        commands = scene.workstation.commands
        if argv is None or commands is None:
            action.state, action.reason = ABSENT, f"{plain(model.command[0])} is not there"
            yield action
            return
        action.shows = [plain("runs: " + " ".join(argv))]
        program = scene.workstation.files.path(argv[0])
        objection = commands.objection(program) if program else "no such program"
        if objection:
            action.state, action.reason = MANUAL, f"{plain(objection)}; export by hand"
        elif model.lists:
            self._list(model, scene, action)
        yield action

    def _list(self, model: CommandBackup, scene: Scene, action: Action) -> None:
        argv = _argv(model.lists, scene)
        if argv is None:
            return
        import tempfile

        with tempfile.TemporaryDirectory(prefix="kleff-") as folder:
            output = Path(folder) / "list.txt"
            try:
                _run(scene.workstation, argv, output, parse_duration(model.patience))
            except ActionFailed as error:
                action.shows.append(f"could not be listed: {error.what}")
                return
            lines = [line for line in output.read_text("utf-8", "replace").splitlines() if line.strip()]
        if not lines:
            action.state, action.reason = ABSENT, "nothing in it"
            return
        action.shows.append(f"holds {plural(len(lines), 'thing')}: {plain(', '.join(lines[:4]))}{' ...' if len(lines) > 4 else ''}")

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        model = step.model
        assert isinstance(model, CommandBackup)
        argv = _argv(model.command, work.scene)
        if argv is None:
            raise ActionFailed(f"{model.command[0]} was there at the preview and is gone", remedy="export by hand, then resume with --skip")
        work.progress.start(f"exporting {model.saves_as}")
        output = work.hands.case.folder / "output" / f"export-{action.number:04d}"
        output.unlink(missing_ok=True)
        _run(work.scene.workstation, argv, output, parse_duration(model.patience))
        if not output.stat().st_size:
            raise ActionFailed(f"{argv[0]} exported nothing", remedy="export by hand, then resume with --skip")
        name, size = work.bag.add_output(action.number, model.label or "export", model.saves_as, output)
        output.unlink()
        return Outcome(note=f"in bag/data/{name}", items=1, size=size)


class CommandMissingKind(Offers):
    """`command_missing`."""

    models = {"verify": CommandVerify}

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        assert isinstance(step.model, CommandVerify)
        name = step.model.command_missing
        found = scene.workstation.commands.find(name) if scene.workstation.commands else None
        action = scene.action(step, "look for", f"command {plain(name)}")
        if found is None:
            action.state, action.reason = ABSENT, "not found"
        else:
            action.target = plain(f"command {name}, found as {found}")
        yield action
