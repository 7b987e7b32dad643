"""What would start the product again: scheduled tasks, entries that start with a session, units of an account's own session."""

import re
from collections.abc import Iterator
from typing import Annotated

from msgspec import Meta

from kleff.case.effect_names import TASK, UNIT
from kleff.case.guard.guard import Target
from kleff.objects.base import ABSENT, Action, Offers, Outcome, Scene, Work
from kleff.procedure.globs import fold, name_matches
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import AccountStep, Step, Text
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef
from kleff.texts import plain
from kleff.workstation.facets import Account, Task
from kleff.workstation.paths import WPath

RUN = ("HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Run", "HKCU\\Software\\Microsoft\\Windows\\CurrentVersion\\Run")
SESSION = "/etc/xdg/autostart"  # Desktop Application Autostart Specification; and `autostart` in an account's own settings


class TaskStop(Step, kw_only=True, frozen=True):
    """Switch a scheduled task off; undo switches it on again."""

    task: Annotated[Text, Meta(description="name of the task with its folders, or of the program it runs; * and ? are wildcards")]


class StartupStop(AccountStep, kw_only=True, frozen=True):
    """Take away what starts with the session."""

    startup: Annotated[Text, Meta(description="name of the entry, or of the program it starts; * and ? are wildcards")]


class UnitStop(AccountStep, kw_only=True, frozen=True):
    """Stop a unit of each account's own session."""

    unit: Text


class TaskKind(Offers):
    """`task`."""

    models = {"stop": TaskStop}

    def _found(self, step: LoadedStep, scene: Scene) -> list[Task]:
        assert isinstance(step.model, TaskStop)
        folded, pattern = scene.workstation.style.folded, step.model.task
        tasks = scene.workstation.tasks.all() if scene.workstation.tasks else []
        return [t for t in tasks if any(name_matches(pattern, text, folded) for text in (t.name, _program(t.command)))]

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        assert isinstance(step.model, TaskStop)
        found = self._found(step, scene)
        for task in found:
            action = scene.action(
                step, "switch off", plain(f"task {task.name}"), items=1, undo="switched on again", details={"task": task.name}
            )
            action.shows = [plain(f"runs: {task.command}")] if task.command else []
            if not task.enabled:
                action.state, action.reason = ABSENT, "off already"
            yield action
        if not found:
            reason = "no such task" if scene.workstation.tasks else "this workstation has no such tasks; use  unit"
            yield scene.action(step, "switch off", plain(f"task {step.model.task}"), state=ABSENT, reason=reason)

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        tasks, name = work.scene.workstation.tasks, str(action.details["task"])
        now = next((t for t in tasks.all() if t.name == name), None) if tasks else None
        if tasks is None or now is None or not now.enabled:
            return Outcome(note="off already")
        effect = work.hands.intend(action.number, TASK, {"name": name, "enabled": now.enabled})
        tasks.set_enabled(name, False)
        work.hands.done(effect)
        return Outcome(items=1)


def _program(command: str) -> str:
    """The file name of the program a command runs."""
    text = command.strip()
    path = text[1:].partition('"')[0] if text.startswith('"') else re.split(r" [/-]", text)[0]
    return path.replace("\\", "/").rpartition("/")[2]


class StartupKind(Offers):
    """`startup`."""

    models = {"stop": StartupStop}

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        assert isinstance(step.model, StartupStop)
        found = False
        for key, account, name, command in self._values(step, scene):
            found = True
            action = scene.action(step, "take away", plain(f"start of {name}"), account=account, items=1, undo="written back", details={})
            action.details, action.shows = {**key.packed, "name": name}, [plain(f"starts: {command}")]
            verdict = scene.guard.check_key(key, value=True)
            if not verdict.ok:
                action.state, action.reason = verdict.word, verdict.reason
            yield action
        for path, owner, command in self._files(step, scene):
            found = True
            who = owner.name if owner else ""
            action = scene.action(step, "take away", plain(f"start of {path.name}"), account=who, items=1, undo="moved back")
            action.details, action.shows = {"file": path.raw.hex(), "account": owner.id if owner else ""}, [plain(f"starts: {command}")]
            verdict = scene.guard.check(self._target(path, owner))
            if not verdict.ok:
                action.state, action.reason = verdict.word, verdict.reason
            yield action
        if not found:
            yield scene.action(
                step, "take away", plain(f"start of {step.model.startup}"), state=ABSENT, reason="nothing of that name starts"
            )

    def _wanted(self, step: LoadedStep, scene: Scene, name: str, command: str) -> bool:
        assert isinstance(step.model, StartupStop)
        return any(name_matches(step.model.startup, text, scene.workstation.style.folded) for text in (name, _program(command)))

    def _values(self, step: LoadedStep, scene: Scene) -> Iterator[tuple[KeyRef, str, str, str]]:
        from kleff.objects.keys import meant_keys

        assert isinstance(step.model, StartupStop)
        registry = scene.workstation.registry
        for text in RUN if registry is not None else ():
            for key, account in meant_keys(scene, text, None, step.model.accounts):
                for value in registry.values(key) if registry else []:
                    if self._wanted(step, scene, value.name, value.text):
                        yield key, account, value.name, value.text

    def _files(self, step: LoadedStep, scene: Scene) -> Iterator[tuple[WPath, Account | None, str]]:
        if scene.workstation.style.drives:
            return
        assert isinstance(step.model, StartupStop)
        files, accounts = scene.workstation.files, scene.resolver.accounts(step.model.accounts)
        folders = [(files.path(SESSION), None), *((scene.workstation.accounts.folder(a, "user.roaming"), a) for a in accounts)]
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
                    if self._wanted(step, scene, name.removesuffix(".desktop"), command.split(" ")[0]):
                        yield path, account, command

    def _target(self, path: WPath, account: Account | None) -> Target:
        return Target(path, len(path.parts), 9, account, account.home if account else None)

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        from kleff.case.effects import remove_value, set_aside
        from kleff.registry.registry import unpack_key

        files = work.scene.workstation.files
        if "file" in action.details:
            path = files.from_raw(bytes.fromhex(action.details["file"]))
            if files.look(path) is None:
                return Outcome(note="already gone")
            owner = work.scene.resolver.account(str(action.details["account"]))
            set_aside(work.hands, [(action.number, self._target(path, owner))], lambda number, moved: None)
            return Outcome(items=1)
        key, name = unpack_key(action.details), str(action.details["name"])
        value = work.scene.workstation.registry.value(key, name) if work.scene.workstation.registry else None
        if value is None:
            return Outcome(note="already gone")
        remove_value(work.hands, action.number, key, RegKey(key.parts[-1], {fold(value.name): value}))
        return Outcome(items=1)


class UnitKind(Offers):
    """`unit`."""

    models = {"stop": UnitStop}

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        assert isinstance(step.model, UnitStop)
        units = scene.workstation.units
        found = False
        for account in scene.resolver.accounts(step.model.accounts) if units else []:
            service = units.get(account, step.model.unit) if units else None
            if service is None:
                continue
            found = True
            action = scene.action(step, "stop", plain(f"unit {service.name}"), account=account.name, items=1, undo="started again")
            action.details = {"account": account.id}
            if not service.running:
                action.state, action.reason = ABSENT, "not running"
            yield action
        if not found:
            reason = "in no account's session" if units else "this workstation has no such sessions"
            yield scene.action(step, "stop", plain(f"unit {step.model.unit}"), state=ABSENT, reason=reason)

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        assert isinstance(step.model, UnitStop)
        units, account = work.scene.workstation.units, work.scene.resolver.account(str(action.details["account"]))
        service = units.get(account, step.model.unit) if units and account else None
        if units is None or account is None or service is None or not service.running:
            return Outcome(note="not running any more")
        data = {"name": service.name, "running": service.running, "start": service.start, "account": account.id}
        effect = work.hands.intend(action.number, UNIT, data)
        units.stop(account, service.name)
        work.hands.done(effect)
        return Outcome(items=1)
