"""What lies in the trash of accounts and came from the product's places.

On Linux by The FreeDesktop.org Trash specification 1.0; on Windows the bins of all drives, see `workstation/windows/recycle_bin.py`.
"""

from collections.abc import Collection, Iterator
from typing import Annotated
from urllib.parse import unquote

from msgspec import Meta

from kleff.errors import LinkOnTheWay
from kleff.objects.base.action import ABSENT, UNREADABLE, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind, Words
from kleff.objects.base.staging import Stage
from kleff.objects.base.unreadable import why
from kleff.objects.paths.several import closed_to_us, plan_several, set_aside_several
from kleff.procedure.globs import fold, parts_match
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.procedure.model import AccountStep, Step, Texts
from kleff.procedure.texts import Problem, path_problems
from kleff.workstation.identity import path_id
from kleff.workstation.paths import WPath
from kleff.workstation.things import Account
from kleff.workstation.windows.recycle_bin import thrown_away

INFO = ".trashinfo"
SHOWN = 5  # things that a preview names


class TrashDelete(AccountStep, kw_only=True, frozen=True):
    """Take out of each account's trash what came from these places, and nothing else."""

    trash_of: Annotated[Texts, Meta(description="the places it came from; what lay below them too")]

    @property
    def written_paths(self) -> list[str]:
        return self.trash_of

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from path_problems("trash_of", self.trash_of, places)


class TrashKind(Kind):
    """`trash_of`."""

    names = ("trash_of",)
    models: dict[str, type[Step]] = {"delete": TrashDelete}

    def stage(self, step: StepOf[TrashDelete], stage: Stage) -> None:
        model = step.model
        for account in stage.here.resolver.accounts(model.accounts):
            for text in model.trash_of:
                for was in stage.named(text)[:1]:
                    stage.add("thrown", account=account.id, was=was)

    def words(self, phase: str) -> Words:
        return Words("Set aside", ("item", "items"), sized=True, total="aside", frees=True)

    def plan(self, step: StepOf[TrashDelete], here: Here) -> Iterator[Action]:
        model = step.model
        any_there = False
        for account in here.resolver.accounts(model.accounts):
            action = here.action(step, "set aside", "what came from there to the trash", account=account.name)
            try:
                found = list(_from_bins(here, model, account) if here.workstation.system == "windows" else _found(here, model, account))
            except (OSError, LinkOnTheWay) as error:
                action.state, action.reason, any_there = UNREADABLE, why(error), True
                yield action
                continue
            if found:
                any_there = True
                yield self._planned(action, here, account, found)
        if not any_there:
            yield here.action(step, "set aside", "what came from there to the trash", state=ABSENT, reason="nothing in any trash")

    def _planned(self, action: Action, here: Here, account: Account, found: list[tuple[WPath, WPath, str]]) -> Action:
        action.shows = [f"from {text}" for _, _, text in found[:SHOWN]] + (["and more"] if len(found) > SHOWN else [])
        owner = None if here.workstation.system == "windows" else account  # a bin lies on its drive, not in the account's home
        going = plan_several(action, here, [path for thing, info, _ in found for path in (thing, info)], owner)
        action.about = [path_id(path) for path in going]
        return action

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        return set_aside_several(action, work)

    def needs_rights(self, action: Action, here: Here) -> bool:
        return closed_to_us(action, here)


def _found(here: Here, model: TrashDelete, account: Account) -> Iterator[tuple[WPath, WPath, str]]:
    """(what was thrown away, the note on it, where it came from) of an account's own trash."""
    files, top = here.workstation.files, here.workstation.accounts.folder(account, "user.local")
    wanted = [e for text in model.trash_of for e in here.resolver.expand(text) if not e.absent]
    if top is None:
        return
    trash = top.child("Trash")
    for name in files.names(trash.child("info")):
        if not name.endswith(INFO):
            continue
        info, thing = trash.child("info", name), trash.child("files", name.removesuffix(INFO))
        lines = files.read(info).decode("utf-8", "surrogateescape").splitlines()
        text = next((unquote(line[5:], errors="surrogateescape") for line in lines if line.startswith("Path=")), "")
        came = files.path(text) if text.startswith("/") else None
        if came is None or files.look(thing) is None:
            continue
        if any(e.volume == came.volume and _holds(e.pattern, came) for e in wanted):
            yield thing, info, text


def _from_bins(here: Here, model: TrashDelete, account: Account) -> Iterator[tuple[WPath, WPath, str]]:
    """The same of an account's bins."""
    files = here.workstation.files
    wanted = [e for text in model.trash_of for e in here.resolver.expand(text) if not e.absent]
    for thrown in thrown_away(files):
        came = files.path(thrown.was) if fold(thrown.account) == fold(account.id) else None
        if came is not None and any(e.volume == came.volume and _holds(e.pattern, came) for e in wanted):
            yield thrown.thing, thrown.told, thrown.was


def _holds(pattern: tuple[str, ...], path: WPath) -> bool:
    """Whether a path is what a pattern means, or lies below it."""
    depths = range(1, len(path.parts) + 1)
    return any(parts_match(pattern, path.parts[:n], path.style.folded) for n in depths)


KINDS = (TrashKind(),)
