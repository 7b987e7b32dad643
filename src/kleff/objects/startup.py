"""What starts with a session and would start the product again: registry values, and files of the freedesktop autostart folders."""

from collections.abc import Iterator
from typing import Annotated

from msgspec import Meta, Struct

from kleff.case.guard.guard import Target
from kleff.objects.base.action import ABSENT, REFUSED, TO_DO, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind
from kleff.objects.base.own import AT_MOST, AtMost, pattern_objection, refuse_own, width_objection
from kleff.objects.keys.meaning import meant_keys
from kleff.objects.tasks import path_of, program_of
from kleff.procedure.globs import fold, name_matches
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import AccountStep, Text
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef
from kleff.workstation.identity import key_id, path_id
from kleff.workstation.paths import WPath
from kleff.workstation.things import Account

RUN = ("HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Run", "HKCU\\Software\\Microsoft\\Windows\\CurrentVersion\\Run")
SESSION = "/etc/xdg/autostart"  # Desktop Application Autostart Specification; and `autostart` in an account's own settings


class StartupStop(AccountStep, kw_only=True, frozen=True):
    """Take away what starts with the session."""

    startup: Annotated[Text, Meta(description="name of the entry, or of the program it starts; * and ? are wildcards")]
    at_most: AtMost = AT_MOST


class AutostartFile(Struct, kw_only=True):
    """A file of an autostart folder, its raw path as hex, and the id of the account whose it is."""

    file: str
    account: str


class StartupKind(Kind):
    """`startup`."""

    names = ("startup",)
    models = {"stop": StartupStop}

    def plan(self, step: LoadedStep, here: Here) -> Iterator[Action]:
        actions = list(self._actions(step, here))
        assert isinstance(step.model, StartupStop)
        of_one = max((sum(a.account == b.account for b in actions if b.state != ABSENT) for a in actions), default=0)
        wide = width_objection(step.model.startup, of_one, step.model.at_most)
        if wide:
            yield here.action(step, "take away", f"start of {step.model.startup}", state=REFUSED, reason=wide)
            return
        yield from actions

    def _judge(self, model: StartupStop, here: Here, action: Action, name: str, command: str) -> None:
        if action.state != TO_DO:
            return
        refuse_own(action, here, "startup", [name])
        by_name = name_matches(model.startup, name, here.workstation.style.folded)
        if action.state == TO_DO and not by_name and here.own.lacks(here.workstation.files.path(path_of(command))):
            action.keep(f"it starts another's program of the same name: {command}")

    def always_refused(self, step: LoadedStep, here: Here) -> Iterator[str]:
        if isinstance(step.model, StartupStop):
            own = here.guard.check_name("startup", step.model.startup)
            if why := pattern_objection(step.model.startup) or own.reason:
                yield f"startup {step.model.startup}: {why}; name the product's own entry, or the program it starts"

    def _actions(self, step: LoadedStep, here: Here) -> Iterator[Action]:
        assert isinstance(step.model, StartupStop)
        found = False
        for key, account, name, command in self._values(step, here):
            found = True
            action = here.action(step, "take away", f"start of {name}", account=account, items=1, undo="written back")
            action.about, action.shows = [key_id(key, name)], [f"starts: {command}"]
            verdict = here.guard.check_value(key, name)
            if not verdict.ok:
                action.judged(verdict.word, verdict.reason, verdict.remedy)
            self._judge(step.model, here, action, name, command)
            yield action
        for path, owner, command in self._files(step, here):
            found = True
            who = owner.name if owner else ""
            action = here.action(step, "take away", f"start of {path.name}", account=who, items=1, undo="moved back")
            action.about, action.shows = [path_id(path)], [f"starts: {command}"]
            action.set_details(AutostartFile(file=path.raw.hex(), account=owner.id if owner else ""))
            verdict = here.guard.check(self._target(path, owner))
            if not verdict.ok:
                action.judged(verdict.word, verdict.reason, verdict.remedy)
            self._judge(step.model, here, action, path.name.removesuffix(".desktop"), command)
            yield action
        if not found:
            yield here.action(step, "take away", f"start of {step.model.startup}", state=ABSENT, reason="nothing of that name starts")

    def _wanted(self, step: LoadedStep, here: Here, name: str, command: str) -> bool:
        assert isinstance(step.model, StartupStop)
        return any(name_matches(step.model.startup, text, here.workstation.style.folded) for text in (name, program_of(command)))

    def _values(self, step: LoadedStep, here: Here) -> Iterator[tuple[KeyRef, str, str, str]]:
        assert isinstance(step.model, StartupStop)
        registry = here.workstation.registry
        for text in RUN if registry is not None else ():
            for key, account in meant_keys(here, text, None, step.model.accounts):
                for value in registry.values(key) if registry else []:
                    if self._wanted(step, here, value.name, value.text):
                        yield key, account, value.name, value.text

    def _files(self, step: LoadedStep, here: Here) -> Iterator[tuple[WPath, Account | None, str]]:
        assert isinstance(step.model, StartupStop)
        files, accounts = here.workstation.files, here.resolver.accounts(step.model.accounts)
        session = files.path(SESSION)
        if session is None:  # a system without these folders
            return
        folders = [(session, None), *((here.workstation.accounts.folder(a, "user.roaming"), a) for a in accounts)]
        for folder, account in folders:
            if folder is None:
                continue
            top = folder.child("autostart") if account else folder
            for name in files.names(top):
                path = top.child(name)
                look = files.look(path)
                if name.endswith(".desktop") and look is not None and look.is_file:
                    lines = files.read(path).decode("utf-8", "replace").splitlines()
                    command = next((line[5:] for line in lines if line.startswith("Exec=")), "")
                    if self._wanted(step, here, name.removesuffix(".desktop"), command.split(" ")[0]):
                        yield path, account, command

    def _target(self, path: WPath, account: Account | None) -> Target:
        return Target(path, len(path.parts), 9, account, account.home if account else None)

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        from kleff.case.effects.key_removed import remove_value
        from kleff.case.effects.moved import set_aside

        files = work.here.workstation.files
        if "file" in action.details:
            told = action.details_as(AutostartFile)
            path = files.from_raw(bytes.fromhex(told.file))
            if files.look(path) is None:
                return Outcome(note="already gone")
            owner = work.here.resolver.account(told.account)
            set_aside(work.hands, [(action.number, self._target(path, owner))], lambda number, move: None)
            return Outcome(items=1)
        key, named = action.key()
        name = named or ""
        value = work.here.workstation.registry.value(key, name) if work.here.workstation.registry else None
        if value is None:
            return Outcome(note="already gone")
        remove_value(work.hands, action.number, key, RegKey(key.parts[-1], {fold(value.name): value}))
        return Outcome(items=1)
