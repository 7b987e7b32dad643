"""Lines that a product has written into files which others use too: aliases, names of machines, search paths, timetables."""

from collections.abc import Collection, Iterator
from typing import Annotated, Generic, NamedTuple, TypeVar

from msgspec import Meta

from kleff.case.aside.area import names_aside
from kleff.case.guard.guard import Target
from kleff.errors import ActionFailed, LinkOnTheWay
from kleff.objects.base.action import ABSENT, REFUSED, UNKNOWN, UNREADABLE, Action, Outcome, Sighting
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind, Words
from kleff.objects.base.own import refuse
from kleff.objects.base.resolve import Expanded
from kleff.objects.base.staging import Stage
from kleff.objects.base.unreadable import why
from kleff.objects.paths.details import Removing, links_on_way, removing_target
from kleff.objects.paths.several import closed_to_us
from kleff.objects.paths.steps import found_paths
from kleff.objects.texts.doubts import continued, doubtful, otherwise_encoded, tokens
from kleff.procedure.loaded import StepOf
from kleff.procedure.model import AccountStep, Text, Texts
from kleff.procedure.texts import Problem, path_problem
from kleff.texts import plural
from kleff.workstation.files.folders import behind
from kleff.workstation.files.lines import Edit, decode, read_text, read_whole, taking_out
from kleff.workstation.identity import Identity, NameId, packed, path_id
from kleff.workstation.paths import WPath

LETTERS = 4  # of a text that means lines; fewer would mean too many
SHOWN = 5  # lines that a preview shows of one file
LINES = Annotated[Text | Texts, Meta(description="text, or texts, that a line holds: a name, a path; not as part of a longer name")]
IN_FILE = Annotated[Text, Meta(description="the file; * and ? are wildcards for several of a kind")]


class InFile(AccountStep, kw_only=True, frozen=True):
    """A step that changes text files."""

    @property
    def file(self) -> str:
        """Which files, as it is written."""
        raise NotImplementedError

    @property
    def bound(self) -> int:
        """How many lines of one file it may change."""
        return 0

    @property
    def meant(self) -> list[str]:
        """Each thing as it is written."""
        raise NotImplementedError

    def doubts(self, lines: list[str], made: list[Edit], folded: bool) -> list[str]:
        """The lines that may mean it too, in other words, and are not changed."""
        raise NotImplementedError

    def edits(self, lines: list[str], folded: bool) -> list[Edit]:
        """What is done to the lines of a file. Args: folded: letter case does not count."""
        raise NotImplementedError

    def sure(self, lines: list[str], folded: bool) -> list[Edit]:
        """The same, without lines that are part of longer ones: what else those say would go too, or be joined to another."""
        return [edit for edit in self.edits(lines, folded) if folded or not continued(lines, edit.at)]


T = TypeVar("T", bound=InFile)


class _Lines(InFile, kw_only=True, frozen=True):
    lines: LINES
    in_file: IN_FILE

    @property
    def texts(self) -> list[str]:
        return [self.lines] if isinstance(self.lines, str) else self.lines

    @property
    def meant(self) -> list[str]:
        return self.texts

    def doubts(self, lines: list[str], made: list[Edit], folded: bool) -> list[str]:
        return doubtful(lines, made, [tokens(text) for text in self.texts], folded)

    @property
    def file(self) -> str:
        return self.in_file

    @property
    def written_paths(self) -> list[str]:
        return [self.in_file]

    def edits(self, lines: list[str], folded: bool) -> list[Edit]:
        return taking_out(lines, self.texts, folded=folded)

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        wrong = path_problem(self.in_file, places)
        if wrong:
            yield ("in_file",), wrong
        for text in self.texts:
            if sum(c.isalnum() for c in text) < LETTERS:
                yield ("lines",), f"{text!r} means too many lines; write at least {LETTERS} letters or digits"
            elif "\n" in text or "\r" in text:
                yield ("lines",), "is more than one line; write each by itself, in a list"


class LinesEvidence(_Lines, kw_only=True, frozen=True):
    """A line that is there only with the product."""


class LinesDelete(_Lines, kw_only=True, frozen=True):
    """Take lines out of a file that others use too; the rest of it stays as it is."""

    in_list: Annotated[
        str, Meta(description='what parts the entries of a list, ":" or ","; then only the entry goes that holds the text, not its line')
    ] = ""
    at_most: Annotated[int, Meta(ge=1, description="how many lines of one file")] = 10

    @property
    def bound(self) -> int:
        return self.at_most

    def edits(self, lines: list[str], folded: bool) -> list[Edit]:
        return taking_out(lines, self.texts, self.in_list, folded)


class LinesVerify(_Lines, kw_only=True, frozen=True):
    """Lines that must be gone."""


class Looked(NamedTuple):
    """What would be done to the lines of a file, and what in it may be meant too, as a person is told of it."""

    edits: list[Edit]
    doubts: list[str]


class TextKind(Kind, Generic[T]):
    """The life of what stands in text files; the kinds say what a step means."""

    thing = "line"

    def look(self, step: StepOf[T], here: Here) -> Iterator[Sighting]:
        for path, account, made in self._found(step, here):
            if isinstance(made, str):
                yield Sighting(kind="lines", what=f"{path} ({made})", account=account, line=step.line, unreadable=True)
                continue
            for edit in made.edits:
                shown = edit.old.strip()
                about = NameId("lines", edit.old.rstrip("\r\n"), str(path))
                yield Sighting(kind="lines", what=shown, about=about, where=f"in {path}", account=account, line=step.line)
            if made.doubts and not made.edits:
                told = f"{path} (it could not be told whether it is meant: {made.doubts[0]})"
                yield Sighting(kind="lines", what=told, account=account, line=step.line, unreadable=True)

    def _found(self, step: StepOf[T], here: Here) -> Iterator[tuple[WPath | str, str, Looked | str]]:
        """(file, account, what would be done to its lines, or why it could not be looked at)."""
        model = step.model
        for expanded in here.resolver.meanings(model.file, model.accounts):
            account = expanded.account.name if expanded.account else ""
            try:
                for path in found_paths(expanded, here):
                    yield path, account, looked_into(self.settled(model, here, account), here, path)
            except (OSError, LinkOnTheWay, ActionFailed) as error:
                yield expanded.text, account, error.what if isinstance(error, ActionFailed) else why(error)

    def plan(self, step: StepOf[T], here: Here) -> Iterator[Action]:
        model = step.model
        verb = "take out of" if step.phase == "delete" else "look for in"
        any_there = False
        for expanded in here.resolver.meanings(model.file, model.accounts):
            account = expanded.account.name if expanded.account else ""
            base = here.action(step, verb, expanded.text, account=account)
            if step.phase == "delete" and (why_not := _never(expanded, here)):
                any_there = True
                yield refuse(base, why_not)
                continue
            try:
                paths = found_paths(expanded, here)
                looked = [(path, looked_into(self.settled(model, here, account), here, path)) for path in paths]
            except (OSError, LinkOnTheWay, ActionFailed) as error:
                base.state, base.reason = UNREADABLE, error.what if isinstance(error, ActionFailed) else why(error)
                any_there = True
                yield base
                continue
            found = [(path, one) for path, one in looked if one.edits or one.doubts]
            for path, one in found:
                any_there = True
                yield from self._of_file(step, here, expanded, path, one, verb, account)
            if not found and not expanded.is_glob:
                base.state, base.reason = ABSENT, expanded.absent or (f"no such {self.thing}" if paths else "no such file")
                base.nowhere, any_there = bool(expanded.absent), True
                yield base
        if not any_there:
            yield here.action(step, verb, model.file, state=ABSENT, reason=f"no such {self.thing} in any")

    def _of_file(
        self, step: StepOf[T], here: Here, expanded: Expanded, path: WPath, looked: Looked, verb: str, account: str
    ) -> Iterator[Action]:
        """What would be done to one file, and what in it is left since nobody can be sure of it."""
        about: list[Identity] = [path_id(path)]
        if looked.edits:
            action = here.action(step, verb, str(path), account=account, about=about, items=len(looked.edits))
            action.shows += [*links_on_way(here, expanded), *self.shown(looked.edits)]
            if step.phase == "delete":
                self._judge(step.model, here, here.resolver.target(expanded, path), looked.edits, action)
            yield action
        if looked.doubts:
            action = here.action(step, "leave", f"{self.thing} in {path}", account=account, about=about, state=UNKNOWN)
            action.reason, action.shows = "it could not be told whether it is meant", looked.doubts[:SHOWN]
            yield action

    def settled(self, model: T, here: Here, account: str) -> T:
        """What a step says, for one account of a workstation."""
        return model

    def shown(self, made: list[Edit]) -> list[str]:
        """What a preview shows of the edits of one file."""
        shown = [f"{edit.old.strip()}" + (f"  ->  {edit.new.strip()}" if edit.new is not None else "") for edit in made[:SHOWN]]
        return shown + ([f"and {plural(len(made) - SHOWN, 'line')} more"] if len(made) > SHOWN else [])

    def _judge(self, model: T, here: Here, target: Target, made: list[Edit], action: Action) -> None:
        action.undo = "written back"
        action.set_details(Removing(
            fixed=target.literal_names, literal=target.literal, account=target.account.id if target.account else "",
            base=packed(target.base) if target.base else "",
        ))  # fmt: skip
        verdict, stays = here.guard.check_lines(target), here.guard.stays(target.path)
        if not verdict.ok:
            action.judged(verdict.word, verdict.reason, verdict.remedy)
        elif stays:
            action.keep(stays)
        elif len(made) > model.bound:
            action.state, action.reason = REFUSED, f"{plural(len(made), 'line')} of it, more than at_most = {model.bound}"

    def do(self, action: Action, step: StepOf[T], work: Work) -> Outcome:
        from kleff.case.effects.lines_changed import change_lines

        model, target = step.model, removing_target(action, work.here)
        if work.here.workstation.files.look(target.path) is None:
            return Outcome(note="the file is gone")
        folded = work.here.workstation.style.folded

        def change(lines: list[str]) -> list[Edit]:
            made = self.settled(model, work.here, action.account).sure(lines, folded)
            if len(made) > max(model.bound, action.items):
                raise ActionFailed(f"{plural(len(made), 'line')} of {target.path} by now", remedy="look at it; then resume")
            return made

        count = change_lines(work.hands, action.number, target, change)
        return Outcome(items=count, note="" if count else "already gone")

    def always_refused(self, step: StepOf[T], here: Here) -> Iterator[str]:
        model = step.model
        if step.phase != "delete":
            return
        for expanded in here.resolver.meanings(model.file):
            if reason := _never(expanded, here):
                yield f"{model.file}: {reason}; no step takes lines out of it"
                return

    def needs_rights(self, action: Action, here: Here) -> bool:
        return closed_to_us(action, here)


class LinesKind(TextKind[_Lines]):
    """`lines`."""

    names = ("lines",)
    condition = "A line that must, or must not, be there."
    models = {"evidence": LinesEvidence, "delete": LinesDelete, "verify": LinesVerify}

    def stage(self, step: StepOf[_Lines], stage: Stage) -> None:
        model = step.model
        between = model.in_list if isinstance(model, LinesDelete) else ""
        for path in stage.named(model.in_file, model.accounts):
            for text in model.texts:
                stage.file(path, f"first line\r\nLIST=one{between}{text}{between}two\r\n" if between else f"first line\r\n{text}\r\n")

    def words(self, phase: str) -> Words:
        return Words("Lines taken out" if phase == "delete" else "Looked for", ("line", "lines"), within=True)


def looked_into(model: InFile, here: Here, path: WPath) -> Looked:
    """What a step makes of a file.

    Raises:
        ActionFailed: it is no file whose lines can be worked on.
    """
    files = here.workstation.files
    try:
        data = read_whole(files, path, lambda look: names_aside(files, path)[look.identity])[1]
    except ActionFailed:
        if not _says_nothing(model, here, path):
            raise
        return Looked([], [])
    return _looked(model, here, data)


def _says_nothing(model: InFile, here: Here, path: WPath) -> bool:
    """Whether there is nothing of the thing in a file whose lines are not touched, such as one behind a link."""
    files = here.workstation.files
    real = behind(files, path)
    look = files.look(real)
    return look is None or (look.is_file and not any(_looked(model, here, read_text(files, real, look))))


def _looked(model: InFile, here: Here, data: bytes) -> Looked:
    folded = here.workstation.style.folded
    codec, lines = decode(data)
    made = model.sure(lines, folded)
    other = otherwise_encoded(codec, lines, made, model.meant)
    return Looked(made, model.doubts(lines, made, folded) + ([other] if other else []))


def _never(expanded: Expanded, here: Here) -> str:
    """Why lines of a file are never taken out, whether it is there or not; "" if they may be."""
    if not expanded.pattern:
        return ""
    path = WPath(here.workstation.style, expanded.volume, expanded.pattern)
    verdict = here.guard.check_lines(here.resolver.target(expanded, path))
    return verdict.reason if verdict.word == "refused" else ""


KINDS = (LinesKind(),)
