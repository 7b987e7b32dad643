"""Programs of the product that export its data and take it in again, and commands that must no longer be found."""

import os
import tempfile
from collections.abc import Collection, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from msgspec import Meta, field

from kleff.case.effect_names import COMMAND
from kleff.errors import ActionFailed, Refused
from kleff.objects.base import ABSENT, MANUAL, Action, Offers, Outcome, Scene, Work
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import Problem, SavingStep, Step, Text, Texts, duration_problem
from kleff.procedure.variables import BadTemplate, parse_template
from kleff.procedure.versions import parse_duration
from kleff.texts import plain, plural
from kleff.workstation.facets import Given

if TYPE_CHECKING:
    from kleff.case.record.journal import Effect

ITEM, SAVED = "{item}", "{saved}"
BY_INPUT = "standard input"


class CommandBackup(SavingStep, kw_only=True, frozen=True):
    """Save what a program exports on its standard output."""

    command: Annotated[Texts, Meta(description="program and arguments, no shell; with {item} one export for each thing that `lists` tells")]
    saves_as: Annotated[Text, Meta(description="name of the file in the bag; with {item} where the command has it")]
    lists: Annotated[list[Text], Meta(description="program and arguments that list what there is; no output: nothing to save")] = field(
        default_factory=list
    )
    restore: Annotated[
        list[Text], Meta(description="program and arguments that take it in again: from standard input, or from the file {saved}")
    ] = field(default_factory=list)
    secret: Annotated[str, Meta(description="what it needs to be told, e.g. database password; asked for, never stored")] = ""
    secret_as: Annotated[str, Meta(description='the environment variable it is handed on by, or "standard input"')] = BY_INPUT
    patience: Annotated[str, Meta(description="how long it may take")] = "10m"

    @property
    def need(self) -> tuple[str, str]:
        """(name of the secret, how it is handed on); empty if none is needed."""
        return (self.secret, self.secret_as) if self.secret else ("", "")

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from super().problems(places)
        yield from duration_problem("patience", self.patience)
        for key, words in (("command", self.command), ("lists", self.lists), ("restore", self.restore)):
            for index, word in enumerate(words):
                if index == 0 or (word.startswith("{") and not word.startswith((ITEM, SAVED))):
                    try:
                        parse_template(word, places)
                    except BadTemplate as error:
                        yield (key, index), str(error)
        if "/" in self.saves_as or "\\" in self.saves_as:
            yield ("saves_as",), "is a file name, without folders"
        each = any(ITEM in word for word in self.command)
        if each and not self.lists:
            yield ("command",), f"{ITEM} needs  lists  to tell what there is"
        if each != (ITEM in self.saves_as):
            yield ("saves_as",), f"{ITEM} stands in both command and saves_as, or in neither"
        if self.secret and self.secret_as == BY_INPUT and self.restore and not any(SAVED in word for word in self.restore):
            yield ("secret_as",), f"standard input is needed for the data; name an environment variable, or use {SAVED} in restore"


class CommandStop(Step, kw_only=True, frozen=True):
    """Run a command of the product: its own quit, its sign-out, the release of a licence seat."""

    command: Annotated[Texts, Meta(description="program and arguments, no shell")]
    without_return: Annotated[bool, Meta(description="what it does cannot be taken back: marked so, and before anything is removed")] = (
        False
    )
    secret: Annotated[str, Meta(description="what it needs to be told; asked for, never stored")] = ""
    secret_as: Annotated[str, Meta(description='the environment variable it is handed on by, or "standard input"')] = BY_INPUT
    patience: Annotated[str, Meta(description="how long it may take")] = "2m"

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from duration_problem("patience", self.patience)
        try:
            parse_template(self.command[0], places)
        except BadTemplate as error:
            yield ("command", 0), str(error)

    @property
    def need(self) -> tuple[str, str]:
        """(name of the secret, how it is handed on); empty if none is needed."""
        return (self.secret, self.secret_as) if self.secret else ("", "")


class CommandVerify(Step, kw_only=True, frozen=True):
    """A command that must no longer be found."""

    command_missing: Text


def arguments(words: list[str], scene: Scene, item: str = "", saved: str = "") -> list[str] | None:
    """The words with variables put in; None if the program is not there."""
    program = scene.resolver.first_path(words[0])
    if program is None:
        return None
    rest = []
    for word in words[1:]:
        if word.startswith("{") and not word.startswith((ITEM, SAVED)):
            rest.append(str(scene.resolver.first_path(word) or word))
        else:
            rest.append(word.replace(ITEM, item).replace(SAVED, saved))
    return [str(program), *rest]


def objection_to(argv: list[str], scene: Scene) -> str:
    """Why a command must not be run, or ""."""
    commands, program = scene.workstation.commands, scene.workstation.files.path(argv[0])
    if commands is None or program is None:
        return "no programs are run here"
    return commands.objection(program) or ""


def run_program(
    scene: Scene, argv: list[str], output: Path, patience: float, stdin: Path | None = None, errors: Path | None = None,
    secret: tuple[str, str] = ("", ""),
) -> None:  # fmt: skip
    """Run a program to its end.

    Args:
        secret: (name, how it is handed on).

    Raises:
        ActionFailed: it must not be run, does not end in time, or ends badly.
    """
    objection, commands = objection_to(argv, scene), scene.workstation.commands
    if objection or commands is None:
        raise ActionFailed(objection, remedy="do it by hand, then resume with --skip")
    name, how = secret
    value = scene.secrets.get(name) if name else ""
    given = Given(
        stdin=stdin, text=value + "\n" if name and how == BY_INPUT else "", environment={how: value} if name and how != BY_INPUT else {},
        hide=scene.secrets.known(), errors=errors,
    )  # fmt: skip
    running = commands.start(argv, output, given)
    if not commands.wait(running, patience):
        raise ActionFailed(f"{argv[0]} has not ended in time", remedy="do it by hand, then resume with --skip")
    if running.code != 0:
        said = _last_words(errors or output)
        raise ActionFailed(f"{argv[0]} ended with exit code {running.code}{said}", remedy=f"read {errors or output}; then resume")


def _last_words(file: Path) -> str:
    lines = [line for line in file.read_text("utf-8", "replace").splitlines() if line.strip()] if file.exists() else []
    return f": {plain(lines[-1][:200])}" if lines else ""


def output_of(scene: Scene, argv: list[str], patience: float, secret: tuple[str, str] = ("", "")) -> str:
    """What a program says on its standard output; it never lies on a disk.

    Raises:
        ActionFailed: as `run_program`.
    """
    asked = (secret[0], *argv)
    said = scene.heard.get(asked)
    if said is None:
        try:
            said = _said(scene, argv, patience, secret)
        except ActionFailed as error:
            said = error
        scene.told[asked] = said
    if isinstance(said, ActionFailed):
        raise said
    return said


def _said(scene: Scene, argv: list[str], patience: float, secret: tuple[str, str]) -> str:
    memory = Path("/dev/shm")
    with tempfile.TemporaryDirectory(prefix="kleff-", dir=memory if os.access(memory, os.W_OK) else None) as folder:
        output = Path(folder) / "said.txt"
        try:
            run_program(scene, argv, output, patience, errors=Path(folder) / "errors.txt", secret=secret)
        except ActionFailed as error:
            raise ActionFailed(error.what, remedy="run it by hand and see; then resume") from None
        return output.read_text("utf-8", "replace")


def list_of(model: CommandBackup, scene: Scene) -> list[str]:
    """What there is, as the program itself tells.

    Raises:
        ActionFailed: it cannot be told.
    """
    argv = arguments(model.lists, scene)
    text = output_of(scene, argv, parse_duration(model.patience), model.need) if argv else ""
    return [line.strip() for line in text.splitlines() if line.strip()]


@contextmanager
def taken_down(what: str, action: Action, work: Work) -> "Iterator[Effect]":
    """The effect of a command that runs within: journaled before, and how it ended after.

    One that ends badly may be run again; of one that was cut off nobody knows how far it came.
    """
    effect = work.hands.intend(action.number, COMMAND, {"what": what})
    try:
        yield effect
    except ActionFailed:
        work.hands.case.journal.amend(effect, failed=True)
        raise
    work.hands.case.journal.amend(effect, code=0)
    work.hands.done(effect)


def earlier(action: Action, work: Work) -> str:
    """How an earlier try to run the command of an action went: `ended`, `cut off`, or ""."""
    tries = [e.data for e in work.hands.case.journal.effects(action.number) if e.kind == COMMAND]
    if any(data.get("code") == 0 for data in tries):
        return "ended"
    return "cut off" if any(not data.get("failed") for data in tries) else ""


class CommandKind(Offers):
    """`command`."""

    models = {"backup": CommandBackup, "stop": CommandStop}

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        model = step.model
        if isinstance(model, CommandStop):
            yield self._plan_stop(step, model, scene)
            return
        assert isinstance(model, CommandBackup)
        action = scene.action(step, "export", plain(model.saves_as), undo="stays in the bag", items=1)
        argv = arguments(model.command, scene)
        if argv is None or scene.workstation.commands is None:
            action.state, action.reason = ABSENT, f"{plain(model.command[0])} is not there"
            yield action
            return
        action.shows = [plain("runs: " + " ".join(argv))]
        objection = objection_to(argv, scene)
        if objection:
            action.state, action.reason = MANUAL, f"{plain(objection)}; export by hand"
            yield action
        elif model.lists:
            yield from self._listed(step, model, scene, action)
        else:
            yield action

    def _plan_stop(self, step: LoadedStep, model: CommandStop, scene: Scene) -> Action:
        argv = arguments(list(model.command), scene)
        action = scene.action(step, "run", plain(" ".join(argv or model.command)), items=1, final=model.without_return)
        action.undo = "cannot be taken back" if model.without_return else "nothing to take back"
        if argv is None:
            action.state, action.reason, action.final = ABSENT, f"{plain(model.command[0])} is not there", False
        elif why := objection_to(argv, scene):
            action.state, action.reason = MANUAL, f"{plain(why)}; do it by hand"
        return action

    def _stop(self, action: Action, model: CommandStop, work: Work) -> Outcome:
        argv = arguments(list(model.command), work.scene)
        if argv is None:
            return Outcome(note="is not there any more")
        if model.without_return and earlier(action, work):
            return Outcome(items=1, note="was run before the run was cut off")
        what = f"what {plain(' '.join(argv))} has done" if model.without_return else ""
        with taken_down(what, action, work) as effect:
            run_program(work.scene, argv, work.hands.case.output(effect.id), parse_duration(model.patience), secret=model.need)
        return Outcome(items=1)

    def _listed(self, step: LoadedStep, model: CommandBackup, scene: Scene, action: Action) -> Iterator[Action]:
        try:
            names = list_of(model, scene)
        except (ActionFailed, Refused) as error:
            action.shows.append(f"could not be listed: {plain(error.what)}")
            yield action
            return
        action.details = {"listed": names}
        if not names:
            action.state, action.reason = ABSENT, "nothing in it"
        elif ITEM in model.saves_as:
            for name in names:
                argv = arguments(model.command, scene, name) or []
                each = scene.action(
                    step, "export", plain(model.saves_as.replace(ITEM, name)), undo="stays in the bag", items=1,
                    details={"listed": [name], "item": name}, shows=[plain("runs: " + " ".join(argv))],
                )  # fmt: skip
                if name.startswith("-"):
                    each.state, each.reason = MANUAL, "the program could take its name for an option; export by hand"
                yield each
            return
        else:
            action.shows.append(f"holds {plural(len(names), 'thing')}: {plain(', '.join(names[:4]))}{' ...' if len(names) > 4 else ''}")
        yield action

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        model, item = step.model, str(action.details.get("item", ""))
        if isinstance(model, CommandStop):
            return self._stop(action, model, work)
        assert isinstance(model, CommandBackup)
        argv = arguments(model.command, work.scene, item)
        if argv is None:
            raise ActionFailed(f"{model.command[0]} was there at the preview and is gone", remedy="export by hand, then resume with --skip")
        name = model.saves_as.replace(ITEM, item)
        work.progress.start(f"exporting {name}")
        folder = work.hands.case.folder / "output"
        errors = folder / f"export-{action.number:04d}.txt"
        with work.bag.receiving(action.number, folder) as received:
            run_program(work.scene, argv, received.path, parse_duration(model.patience), errors=errors, secret=model.need)
        size = received.size
        if not size:
            raise ActionFailed(f"{argv[0]} exported nothing", remedy="export by hand, then resume with --skip")
        settings = {"item": item} if item else {}
        saved = work.item(action, "command", name=name, listed=list(action.details.get("listed", [])), settings=settings)
        saved = work.bag.add_output(action.number, saved, received.file)
        received.file.unlink()
        if not errors.stat().st_size:
            errors.unlink()
        return Outcome(note=f"in bag/data/{saved.file}", items=1, size=size)


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
