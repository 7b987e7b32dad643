"""Shortcuts that lead into the product, whatever they are called: found by their target, wherever a person meets shortcuts."""

from abc import abstractmethod
from collections.abc import Collection, Iterator
from typing import Annotated, Generic, TypeVar

from msgspec import Meta

from kleff.case.guard.guard import Target
from kleff.errors import LinkOnTheWay, NotTold
from kleff.objects.base.action import ABSENT, KEPT, UNREADABLE, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind, Words
from kleff.objects.base.staging import Stage
from kleff.objects.base.unreadable import why
from kleff.objects.registered.spelling import Spelling
from kleff.procedure.globs import fold, parts_match
from kleff.procedure.loaded import StepOf
from kleff.procedure.model import AccountStep, Text, Texts
from kleff.procedure.texts import Problem, path_problem
from kleff.texts import plural
from kleff.workstation.identity import path_id
from kleff.workstation.paths import WPath
from kleff.workstation.things import Account
from kleff.workstation.windows.shortcuts import Shortcut, read_shortcut

ENDING, READ = ".LNK", 1 << 20  # bytes of a shortcut; where it leads stands at its beginning
# Where shortcuts lie: of everybody by variables, of each account by a variable and what is below it.
EVERYBODY_S: tuple[tuple[str, tuple[str, ...]], ...] = (("program_menu", ()), ("public", ("Desktop",)))
PINNED = ("Microsoft", "Internet Explorer", "Quick Launch")  # and what is pinned to the task bar and the start menu below it
OWN: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("user.menu", ()), ("user.desktop", ()), ("user.roaming", PINNED), ("user.roaming", ("Microsoft", "Windows", "SendTo")),
)  # fmt: skip
DESKTOPS = ("DESKTOP",)  # folders on them are people's own, and are not gone through


class _LeadsTo(AccountStep, kw_only=True, frozen=True):
    @property
    def targets(self) -> list[str]:
        """What they lead to."""
        raise NotImplementedError


class _Shortcuts(_LeadsTo, kw_only=True, frozen=True):
    shortcuts_to: Annotated[Text | Texts, Meta(description="what they lead to, e.g. '{program}\\**'; whether that is there still or not")]

    @property
    def targets(self) -> list[str]:
        return [self.shortcuts_to] if isinstance(self.shortcuts_to, str) else self.shortcuts_to

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        for target in self.targets:
            if wrong := path_problem(target, places):
                yield ("shortcuts_to",), wrong


class ShortcutsDelete(_Shortcuts, kw_only=True, frozen=True):
    """Delete shortcuts by what they lead to: in start menus, on desktops, pinned to task bars, in "Send to"; of every account."""


class ShortcutsVerify(_Shortcuts, kw_only=True, frozen=True):
    """Shortcuts that must be gone."""


class _Recent(_LeadsTo, kw_only=True, frozen=True):
    recent: Annotated[Text | Texts, Meta(description="what they lead to, e.g. '{program}\\**' or '**\\*.bwl' below a folder")]

    @property
    def targets(self) -> list[str]:
        return [self.recent] if isinstance(self.recent, str) else self.recent

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        for target in self.targets:
            if wrong := path_problem(target, places):
                yield ("recent",), wrong


class RecentDelete(_Recent, kw_only=True, frozen=True):
    """Delete what the system remembers as used lately, by what it leads to; of every account."""


class RecentVerify(_Recent, kw_only=True, frozen=True):
    """What must be forgotten."""


T = TypeVar("T", bound=_LeadsTo)


class _Leading(Kind, Generic[T]):
    """Shortcuts by what they lead to; where they lie, the kind says."""

    lists_untold = True
    systems = ("windows",)

    def words(self, phase: str) -> Words:
        if phase == "delete":
            return Words("Set aside", ("shortcut", "shortcuts"), total="aside", frees=True)
        return Words("Looked for", ("shortcut", "shortcuts"))

    def plan(self, step: StepOf[T], here: Here) -> Iterator[Action]:
        model = step.model
        verb, untold, any_there = "set aside" if step.phase == "delete" else "look for", list[WPath](), False
        for account, folder in self.folders(step, here):
            try:
                found = list(_shortcuts(folder, here))
            except (OSError, LinkOnTheWay, NotTold) as error:
                any_there = True
                yield here.action(
                    step,
                    "look in",
                    str(folder) if isinstance(folder, WPath) else "folders",
                    account=_name(account),
                    state=UNREADABLE,
                    reason=why(error),
                )
                continue
            for path, shortcut in found:
                target = _target(shortcut, here, _name(account))
                if target is None:
                    untold += [path] if shortcut is not None else []
                elif _is_meant(model, target, here):
                    any_there = True
                    yield self._action(step, here, verb, path, account, target)
        if not any_there:
            action = here.action(step, verb, f"shortcuts to {', '.join(model.targets)}", state=ABSENT, reason="none leads there")
            yield action
        if untold and step.phase == "delete" and self.lists_untold:
            action = here.action(step, "leave", f"{plural(len(untold), 'shortcut')} of which it cannot be told where they lead")
            action.state, action.state_word, action.reason = KEPT, "unknown", "never touched"
            action.shows = [str(path) for path in untold[:10]]
            yield action

    @abstractmethod
    def folders(self, step: StepOf[T], here: Here) -> Iterator[tuple[Account | None, WPath | NotTold]]:
        """Where they lie, or why that cannot be told, and whose that is."""

    def _action(self, step: StepOf[T], here: Here, verb: str, path: WPath, account: Account | None, target: WPath) -> Action:
        action = here.action(step, verb, str(path), account=_name(account), about=[path_id(path)], items=1)
        there = here.workstation.files.look(target) is not None
        action.shows = [f"leads to {target}{'' if there else ', which is not there'}"]
        if step.phase == "delete":
            action.undo = "moved back from the set-aside area"
            verdict, stays = here.guard.check(_removing(path, account)), here.guard.stays(path)
            if not verdict.ok:
                action.judged(verdict.word, verdict.reason, verdict.remedy)
            elif stays:
                action.keep(stays)
        return action

    def do(self, action: Action, step: StepOf[T], work: Work) -> Outcome:
        from kleff.case.effects.moved import set_aside

        here, path = work.here, action.path(work.here.workstation.style)
        assert path is not None
        if here.workstation.files.look(path) is None:
            return Outcome(note="already gone")
        target = _target(read_shortcut(here.workstation.files.read(path, READ)), here, action.account)
        if target is None or not _is_meant(step.model, target, here):
            return Outcome(state=KEPT, note="it leads elsewhere by now")
        account = next((a for a in here.resolver.accounts([]) if a.name == action.account), None)
        set_aside(work.hands, [(action.number, _removing(path, account))], lambda number, move: None)
        return Outcome(items=1)

    def users(self, step: StepOf[T], here: Here) -> set[str]:
        return {action.account for action in self.plan(step, here) if action.account and action.state not in (ABSENT, UNREADABLE)}

    def needs_rights(self, action: Action, here: Here) -> bool:
        return True


class ShortcutsKind(_Leading[_Shortcuts]):
    """`shortcuts_to`."""

    names = ("shortcuts_to",)
    models = {"delete": ShortcutsDelete, "verify": ShortcutsVerify}

    def stage(self, step: StepOf[_Shortcuts], stage: Stage) -> None:
        for number, target in enumerate(path for text in step.model.targets for path in stage.named(text)):
            stage.add("shortcut", path=rf"C:\Users\Public\Desktop\Sample {number}.lnk", target=target)

    def folders(self, step: StepOf[_Shortcuts], here: Here) -> Iterator[tuple[Account | None, WPath | NotTold]]:
        return _folders(step.model, here)


class RecentKind(_Leading[_Recent]):
    """`recent`."""

    names = ("recent",)
    lists_untold = False  # most of what is remembered leads to people's own files
    models = {"delete": RecentDelete, "verify": RecentVerify}

    def stage(self, step: StepOf[_Recent], stage: Stage) -> None:
        for text in step.model.targets:
            for target in stage.named(text):
                for recent in stage.named(r"{user.roaming}\Microsoft\Windows\Recent\sample.lnk"):
                    stage.add("shortcut", path=recent, target=target)

    def folders(self, step: StepOf[_Recent], here: Here) -> Iterator[tuple[Account | None, WPath | NotTold]]:
        for account in here.resolver.accounts(step.model.accounts):
            folder = here.resolver.folder_of(account, "user.roaming")
            if folder is not None:
                yield account, folder.child("Microsoft", "Windows", "Recent") if isinstance(folder, WPath) else folder


def _folders(model: _Shortcuts, here: Here) -> Iterator[tuple[Account | None, WPath | NotTold]]:
    """Where shortcuts lie, whose that is, each place once."""
    seen: set[object] = set()
    folders = here.workstation.variables.folders
    common = ((None, folder, below) for name, below in EVERYBODY_S if not model.accounts for folder in folders(name))
    accounts = here.resolver.accounts(model.accounts)
    own = ((account, here.resolver.folder_of(account, name), below) for account in accounts for name, below in OWN)
    for account, top, below in (*common, *own):
        place = top.child(*below) if isinstance(top, WPath) else top
        one = place.key if isinstance(place, WPath) else (account, str(place))
        if place is not None and one not in seen:
            seen.add(one)
            yield account, place


def _shortcuts(folder: WPath | NotTold, here: Here) -> Iterator[tuple[WPath, Shortcut | None]]:
    """Every shortcut below a folder, on a desktop only directly; no link is followed."""
    if isinstance(folder, NotTold):
        raise folder
    files = here.workstation.files
    if files.look(folder) is None:
        return
    flat = fold(folder.name) in DESKTOPS
    listed = ((path, files.look(path)) for path in map(folder.child, files.names(folder))) if flat else files.walk(folder)
    for path, look in listed:
        if look is not None and look.is_file and fold(path.name).endswith(ENDING):
            yield path, read_shortcut(files.read(path, READ))


def _target(shortcut: Shortcut | None, here: Here, account: str) -> WPath | None:
    """The path it leads to; None if that cannot be told: to no file, by the installer, to another machine."""
    if shortcut is None or shortcut.product:
        return None
    spelling = Spelling(here, account)
    texts = (text for text in (shortcut.variables, shortcut.target) if "\\" in text)
    found = (path for text in texts for path in spelling.path(text))
    return next(found, None)


def _is_meant(model: _LeadsTo, target: WPath, here: Here) -> bool:
    meant = (e for text in model.targets for e in here.resolver.expand(text) if not e.absent)
    return any(e.volume == target.volume and parts_match(e.pattern, target.parts, True) for e in meant)


def _removing(path: WPath, account: Account | None) -> Target:
    """It was found by what it leads to: it alone is meant, by its whole name."""
    return Target(path, len(path.parts), len(path.name), account, account.home if account else None)


def _name(account: Account | None) -> str:
    return account.name if account else ""


KINDS = (ShortcutsKind(), RecentKind())
