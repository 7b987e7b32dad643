"""What lies in the trash of accounts and came from the product's places.

On Linux by The FreeDesktop.org Trash specification 1.0; on Windows the bins of all drives, see `workstation/windows/recycle_bin.py`.
"""

import stat
from collections.abc import Collection, Iterator
from pathlib import Path
from typing import Annotated
from urllib.parse import unquote

from msgspec import Meta

from kleff.errors import LinkOnTheWay, NotTold
from kleff.objects.base.action import ABSENT, UNREADABLE, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind, Words
from kleff.objects.base.staging import Stage
from kleff.objects.base.unreadable import why
from kleff.objects.paths.several import closed_to_us, plan_several, set_aside_several
from kleff.procedure.globs import parts_match
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.procedure.model import AccountStep, Step, Texts
from kleff.procedure.texts import Problem, path_problems
from kleff.workstation.files.folders import inside, real_folder
from kleff.workstation.identity import path_id
from kleff.workstation.paths import WPath
from kleff.workstation.things import Account
from kleff.workstation.windows.recycle_bin import thrown_away

INFO = ".trashinfo"
OF_ALL = ".Trash"  # in the topmost folder of a volume; with the number of an account behind it, that account's alone
MADE_ANEW = ("proc", "sys", "dev", "run")
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
            except (OSError, LinkOnTheWay, NotTold) as error:
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
    """(what was thrown away, the note on it, where it came from) of an account's own trash, on every volume."""
    files = here.workstation.files
    wanted = [e for text in model.trash_of for e in here.resolver.expand(text) if not e.absent]
    for trash, base in _trashes(here, account):
        for info in inside(files, trash.child("info")):
            if not info.name.endswith(INFO):
                continue
            thing = trash.child("files", info.name.removesuffix(INFO))
            came = _came_from(here, info, base)
            if came is None or files.look(thing) is None:
                continue
            if any(e.volume == came.volume and _holds(e.pattern, came) for e in wanted):
                yield thing, info, str(came)


def _trashes(here: Here, account: Account) -> Iterator[tuple[WPath, WPath | None]]:
    """An account's own trashes that are there, and the folder to which a place that is not whole is relative; in its home all are whole.

    In its home, and in the topmost folder of every volume, where an administrator has made one for all (sticky, no link) or it has one of
    its own. What another account has made under such a name is not its trash.
    """
    files = here.workstation.files
    top = here.workstation.accounts.folder(account, "user.local")
    if top is not None:
        yield real_folder(files, top.child("Trash")), None
    for volume in _volumes(here):
        of_all = files.look(volume.child(OF_ALL))
        shared = of_all is not None and of_all.is_folder and bool(of_all.mode & stat.S_ISVTX)
        for trash in ([volume.child(OF_ALL, account.id)] if shared else []) + [volume.child(f"{OF_ALL}-{account.id}")]:
            look = files.look(trash)
            if look is not None and look.is_folder and look.uid == account.uid:
                yield trash, volume


def _volumes(here: Here) -> Iterator[WPath]:
    """The topmost folders of the workstation's volumes, without those that the system makes anew at every start."""
    top = WPath(here.workstation.style, "", ())
    yield top
    for text in dict.fromkeys(here.workstation.files.mounts_in(top)):
        names = Path(text).relative_to(here.workstation.ground).parts if Path(text).is_relative_to(here.workstation.ground) else ()
        if names and names[0] not in MADE_ANEW:
            yield top.child(*names)


def _came_from(here: Here, info: WPath, base: WPath | None) -> WPath | None:
    """Where a thing lay before; None if that is not told."""
    lines = here.workstation.files.read(info).decode("utf-8", "surrogateescape").splitlines()
    text = next((unquote(line[5:], errors="surrogateescape") for line in lines if line.startswith("Path=")), "")
    if text and not text.startswith("/") and base is not None:
        text = f"{base}/{text}"
    return here.workstation.files.path(text) if text else None


def _from_bins(here: Here, model: TrashDelete, account: Account) -> Iterator[tuple[WPath, WPath, str]]:
    """The same of an account's bins."""
    files = here.workstation.files
    wanted = [e for text in model.trash_of for e in here.resolver.expand(text) if not e.absent]
    for thrown in thrown_away(files, account.id):
        came = files.path(thrown.was)
        if came is not None and any(e.volume == came.volume and _holds(e.pattern, came) for e in wanted):
            yield thrown.thing, thrown.told, thrown.was


def _holds(pattern: tuple[str, ...], path: WPath) -> bool:
    """Whether a path is what a pattern means, or lies below it."""
    depths = range(1, len(path.parts) + 1)
    return any(parts_match(pattern, path.parts[:n], path.style.folded) for n in depths)


KINDS = (TrashKind(),)
