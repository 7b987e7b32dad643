"""What starts with a session and would start the product again: registry values, and files of start-up folders.

On Windows with the switch that the system keeps beside each; on Linux by the Desktop Application Autostart Specification.
"""

from collections.abc import Iterator
from typing import Annotated

from msgspec import Meta, Struct

from kleff.case.guard.guard import Target
from kleff.errors import LinkOnTheWay, NotTold
from kleff.objects.base.action import ABSENT, REFUSED, TO_DO, UNREADABLE, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind
from kleff.objects.base.own import AT_MOST, AtMost, pattern_objection, refuse_own, width_objection
from kleff.objects.base.staging import Stage, shown_as
from kleff.objects.base.unreadable import why
from kleff.objects.keys.meaning import meant_keys
from kleff.objects.tasks import path_of, program_of
from kleff.procedure.globs import fold, name_matches
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.procedure.model import AccountStep, Text
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef
from kleff.workstation.files.folders import inside
from kleff.workstation.identity import KeyId, key_id, path_id
from kleff.workstation.paths import WPath
from kleff.workstation.things import Account
from kleff.workstation.windows.shortcuts import read_shortcut
from kleff.workstation.windows.switches import OF_FILES, OF_VALUES, OF_VALUES_32, is_off, same_start, switch_of, switches

RUN = ("HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Run", "HKCU\\Software\\Microsoft\\Windows\\CurrentVersion\\Run")
# What else starts with a session and has no switch: once, and by policy ("Run and RunOnce Registry Keys", Windows documentation).
ALSO = tuple(f"{key}{more}" for key in RUN for more in ("Once",)) + tuple(
    f"{root}\\Software\\Microsoft\\Windows\\CurrentVersion\\Policies\\Explorer\\Run" for root in ("HKLM", "HKCU")
)
LOAD = "HKCU\\Software\\Microsoft\\Windows NT\\CurrentVersion\\Windows"  # its values `Load` and `Run` name programs
SESSION = "/etc/xdg/autostart"  # Desktop Application Autostart Specification; and `autostart` in an account's own settings
SHORTCUT, READ = ".lnk", 1 << 20  # bytes of a file of a session


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

    def stage(self, step: StepOf[StartupStop], stage: Stage) -> None:
        model = step.model
        name = shown_as(model.startup)
        program = rf'"{stage.home}\{name if name.endswith(".exe") else f"{name}.exe"}"'
        stage.key(RUN[1], {name.removesuffix(".exe"): program})

    def plan(self, step: StepOf[StartupStop], here: Here) -> Iterator[Action]:
        actions = list(self._actions(step, here))
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

    def _actions(self, step: StepOf[StartupStop], here: Here) -> Iterator[Action]:
        found = False
        for key, account, name, command in self._values(step, here):
            found = True
            action = here.action(step, "take away", f"start of {name}", account=account, items=1, undo="written back")
            action.about, action.shows = [key_id(key, name)], [f"starts: {command}"] if command else []
            sid = key.parts[0] if key.hive == "HKU" else ""
            self._with_switch(action, here, sid, OF_VALUES_32 if key.view == 32 else OF_VALUES, name)
            verdict = here.guard.check_value(key, name)
            if not verdict.ok:
                action.judged(verdict.word, verdict.reason, verdict.remedy)
            self._judge(step.model, here, action, name, command)
            yield action
        for owner in (None, *here.resolver.accounts(step.model.accounts)):
            for action in self._of_files(step, here, owner):
                found = True
                yield action
        for key, account, name in self._left_switches(step, here):
            found = True
            action = here.action(step, "take away", f"switch of {name}", account=account, items=1, undo="written back")
            action.about, action.shows = [key_id(key, name)], ["what it switched does not start any more"]
            yield refuse_own(action, here, "startup", [name])
        if not found:
            yield here.action(step, "take away", f"start of {step.model.startup}", state=ABSENT, reason="nothing of that name starts")

    def _of_files(self, step: StepOf[StartupStop], here: Here, owner: Account | None) -> Iterator[Action]:
        """What starts by a file, of everybody or of an account."""
        who = owner.name if owner else ""
        try:
            found = list(self._files(step, here, owner))
        except (OSError, LinkOnTheWay, NotTold) as error:
            yield here.action(step, "look at", "what starts with a session", account=who, state=UNREADABLE, reason=why(error))
            return
        for path, command in found:
            action = here.action(step, "take away", f"start of {path.name}", account=who, items=1, undo="moved back")
            action.about, action.shows = [path_id(path)], [f"starts: {command}"]
            action.set_details(AutostartFile(file=path.raw.hex(), account=owner.id if owner else ""))
            self._with_switch(action, here, owner.id if owner else "", OF_FILES, path.name)
            verdict = here.guard.check(self._target(path, owner))
            if not verdict.ok:
                action.judged(verdict.word, verdict.reason, verdict.remedy)
            self._judge(step.model, here, action, path.name.rpartition(".")[0], command)
            yield action

    def _with_switch(self, action: Action, here: Here, sid: str, of: str, name: str) -> None:
        """The switch that the system keeps beside a start goes with it."""
        registry = here.workstation.registry
        found = switch_of(registry, sid, of, name) if registry is not None else None
        if found is not None:
            action.about.append(key_id(found[0], found[1].name))
            action.shows.append("switched off" if is_off(found[1]) else "with its switch")

    def _wanted(self, step: StepOf[StartupStop], here: Here, name: str, command: str) -> bool:
        return any(name_matches(step.model.startup, text, here.workstation.style.folded) for text in (name, program_of(command)))

    def _values(self, step: StepOf[StartupStop], here: Here) -> Iterator[tuple[KeyRef, str, str, str]]:
        registry = here.workstation.registry
        for text in (*RUN, *ALSO, LOAD) if registry is not None else ():
            for key, account in meant_keys(here, text, None, step.model.accounts):
                for value in registry.values(key) if registry else []:
                    if text == LOAD and fold(value.name) not in (fold("Load"), fold("Run")):
                        continue
                    if self._wanted(step, here, "" if text == LOAD else value.name, value.text):
                        yield key, account, value.name, value.text

    def _left_switches(self, step: StepOf[StartupStop], here: Here) -> Iterator[tuple[KeyRef, str, str]]:
        """Switches by name of what does not start any more: an uninstaller took the start away and left them."""
        registry, machine = here.workstation.registry, not step.model.accounts
        if registry is None:
            return
        hives = set(registry.api.hives())
        owners = [a for a in here.resolver.accounts(step.model.accounts) if a.id in hives or a.ordinary]
        for account in ([None] if machine else []) + owners:
            for of, key, value in switches(registry, account.id if account else ""):
                name = value.name.removesuffix(SHORTCUT) if of == OF_FILES else value.name
                if name_matches(step.model.startup, name, True) and not self._starts(here, account, of, value.name):
                    yield key, account.name if account else "", value.name

    def _starts(self, here: Here, account: Account | None, of: str, name: str) -> bool:
        """Whether there is what a switch is of."""
        registry = here.workstation.registry
        if of == OF_FILES:
            try:
                return any(same_start(path.name, name) for path in _session_files(here, account))
            except (OSError, LinkOnTheWay, NotTold):
                return True  # that they cannot be looked at is told by itself; a switch may be of one of them
        view = None if account else 32 if of == OF_VALUES_32 else 64
        keys = registry.canonical(RUN[1 if account else 0], account.id if account else "", view) if registry else []
        return any(registry is not None and registry.value(key, name) is not None for key in keys)

    def _files(self, step: StepOf[StartupStop], here: Here, account: Account | None) -> Iterator[tuple[WPath, str]]:
        for path in _session_files(here, account):
            command = _command_of(here.workstation.files.read(path, READ), path.name)
            program = command.split(" ")[0] if path.name.endswith(".desktop") else command
            if self._wanted(step, here, path.name.rpartition(".")[0], program):
                yield path, command

    def _target(self, path: WPath, account: Account | None) -> Target:
        return Target(path, len(path.parts), 9, account, account.home if account else None)

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        from kleff.case.effects.moved import set_aside

        files = work.here.workstation.files
        if "file" in action.details:
            told = action.details_as(AutostartFile)
            path = files.from_raw(bytes.fromhex(told.file))
            there, owner = files.look(path) is not None, work.here.resolver.account(told.account)
            if there:
                set_aside(work.hands, [(action.number, self._target(path, owner))], lambda number, move: None)
            switch = self._remove_values(action, work)
            return Outcome(items=1) if there else switch
        return self._remove_values(action, work)

    def _remove_values(self, action: Action, work: Work) -> Outcome:
        """The value that starts it, and its switch, as far as they are there."""
        from kleff.case.effects.key_removed import remove_value

        registry, count = work.here.workstation.registry, 0
        for about in (about for about in action.about if isinstance(about, KeyId)):
            value = registry.value(about.key, about.value or "") if registry else None
            if value is not None:
                remove_value(work.hands, action.number, about.key, RegKey(about.key.parts[-1], {fold(value.name): value}))
                count += 1
        return Outcome(items=1) if count else Outcome(note="already gone")


def _session_files(here: Here, account: Account | None) -> Iterator[WPath]:
    """The files whose programs start with a session, of everybody (None) or of an account.

    Raises:
        OSError, LinkOnTheWay: they cannot be looked at.
    """
    files, variables = here.workstation.files, here.workstation.variables
    session = files.path(SESSION)
    if session is not None:
        own = here.workstation.accounts.folder(account, "user.roaming") if account else None
        folder, ending = (own.child("autostart") if own else None) if account else session, ".desktop"
    else:
        own = here.workstation.accounts.folder(account, "user.menu") if account else next(iter(variables.folders("program_menu")), None)
        folder, ending = own.child("Startup") if own else None, SHORTCUT
    for path in inside(files, folder) if folder is not None else ():
        look = files.look(path)
        if fold(path.name).endswith(fold(ending)) and look is not None and look.is_file:
            yield path


def _command_of(data: bytes, name: str) -> str:
    """What a file of a session starts."""
    if fold(name).endswith(fold(SHORTCUT)):
        shortcut = read_shortcut(data)
        return shortcut.target if shortcut is not None else ""
    lines = data.decode("utf-8", "replace").splitlines()
    return next((line[5:] for line in lines if line.startswith("Exec=")), "")


KINDS = (StartupKind(),)
