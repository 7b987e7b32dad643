"""What a product has left in the folders for temporary files: by pattern and age, everybody's and each account's."""

import time
from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta

from kleff.errors import LinkOnTheWay, NotTold
from kleff.objects.base.action import ABSENT, REFUSED, UNREADABLE, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind, Words
from kleff.objects.base.staging import Stage, shown_as
from kleff.objects.base.unreadable import why
from kleff.objects.paths.several import closed_to_us, plan_several, set_aside_several
from kleff.procedure.globs import check_glob, literal_count, name_matches
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.procedure.model import AccountStep, Step, Text
from kleff.procedure.texts import Problem
from kleff.procedure.versions import parse_duration
from kleff.texts import plural
from kleff.workstation.files.folders import inside
from kleff.workstation.identity import path_id
from kleff.workstation.paths import WPath
from kleff.workstation.things import Account

LETTERS = 4
SHOWN = 5  # of what is found, in a preview


class TemporaryDelete(AccountStep, kw_only=True, frozen=True):
    """Delete what lies in the folders for temporary files, by its name and its age."""

    temp: Annotated[Text, Meta(description='name, with * and ? as wildcards, e.g. "bwk-*.tmp"; of what lies directly in these folders')]
    older_than: Annotated[str, Meta(description="how long ago it must have been changed last, e.g. 2h or 14d")] = "1d"
    at_most: Annotated[int, Meta(ge=1, description="how many things in one folder")] = 200

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        wrong = "is a name, without folders" if "/" in self.temp or "\\" in self.temp else check_glob(self.temp)
        if not wrong and literal_count(self.temp) < LETTERS:
            wrong = f"means too much; write at least {LETTERS} letters or digits besides wildcards and ending"
        if wrong:
            yield ("temp",), wrong
        try:
            parse_duration(self.older_than)
        except ValueError as error:
            yield ("older_than",), str(error)


class TemporaryKind(Kind):
    """`temp`."""

    names = ("temp",)
    models: dict[str, type[Step]] = {"delete": TemporaryDelete}

    def stage(self, step: StepOf[TemporaryDelete], stage: Stage) -> None:
        model = step.model
        for folder, _ in _folders(model, stage.here):
            if isinstance(folder, WPath):
                stage.file(str(folder.child(shown_as(model.temp))))
        stage.file(rf"C:\Windows\Temp\{shown_as(model.temp)}")

    def words(self, phase: str) -> Words:
        return Words("Set aside", ("item", "items"), sized=True, total="aside", frees=True)

    def plan(self, step: StepOf[TemporaryDelete], here: Here) -> Iterator[Action]:
        model = step.model
        any_there = False
        for folder, account in _folders(model, here):
            action = here.action(step, "set aside", f"{model.temp} in {folder}", account=account.name if account else "")
            try:
                found, young = _found(model, folder, here)
            except (OSError, LinkOnTheWay, NotTold) as error:
                action.state, action.reason, any_there = UNREADABLE, why(error), True
                yield action
                continue
            if found:
                any_there = True
                yield self._planned(model, action, here, found, young, account)
            elif young:
                any_there = True
                action.keep(f"{plural(young, 'thing')} changed less than {model.older_than} ago")
                yield action
        if not any_there:
            yield here.action(step, "set aside", model.temp, state=ABSENT, reason="in no folder for temporary files")

    def _planned(
        self, model: TemporaryDelete, action: Action, here: Here, found: list[WPath], young: int, account: Account | None
    ) -> Action:
        if len(found) > model.at_most:
            action.state, action.reason = REFUSED, f"it matches {plural(len(found), 'thing')}, more than at_most = {model.at_most}"
            return action
        going = plan_several(action, here, found, account)
        action.about = [path_id(path) for path in going]
        action.shows = [path.name for path in going[:SHOWN]] + (["and more"] if len(going) > SHOWN else [])
        action.shows += [f"{plural(young, 'other')} changed less than {model.older_than} ago: kept"] if young else []
        return action

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        return set_aside_several(action, work)

    def needs_rights(self, action: Action, here: Here) -> bool:
        return closed_to_us(action, here)


def _folders(model: TemporaryDelete, here: Here) -> Iterator[tuple[WPath | NotTold, Account | None]]:
    """The folders that are there, each once, and whose they are; or why it cannot be told where an account's is."""
    everybody_s = [(folder, None) for folder in here.workstation.variables.folders("temp")] if not model.accounts else []
    own = [(here.resolver.folder_of(a, "user.temp"), a) for a in here.resolver.accounts(model.accounts)]
    seen: set[object] = set()
    for folder, account in (*everybody_s, *own):
        if isinstance(folder, NotTold):
            yield folder, account
        elif folder is not None and folder.key not in seen and here.workstation.files.look(folder) is not None:
            seen.add(folder.key)
            yield folder, account


def _found(model: TemporaryDelete, folder: WPath | NotTold, here: Here) -> tuple[list[WPath], int]:
    """What is old enough, and how many others of that name are not; a folder is as young as what was changed last in it."""
    if isinstance(folder, NotTold):
        raise folder
    files, latest = here.workstation.files, (time.time() - parse_duration(model.older_than)) * 10**9
    old, young = list[WPath](), 0
    for path in inside(files, folder):
        if not name_matches(model.temp, path.name, here.workstation.style.folded):
            continue
        if all(look.times[1] <= latest for _, look in files.walk(path)):
            old.append(path)
        else:
            young += 1
    return old, young


KINDS = (TemporaryKind(),)
