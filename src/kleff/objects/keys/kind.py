"""Registry keys and single values: looked at, saved, deleted."""

import contextlib
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Literal

from kleff.case.guard.verdict import Verdict
from kleff.errors import ActionFailed
from kleff.objects.base.action import ABSENT, KEPT, NOT_EMPTY, REFUSED, UNREADABLE, Action, Outcome, Sighting
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Claimed, Kind, Words
from kleff.objects.base.noting import note_values
from kleff.objects.base.restoring import Nowhere
from kleff.objects.base.staging import Stage
from kleff.objects.base.unreadable import seems_there, why
from kleff.procedure.globs import fold
from kleff.procedure.load import LoadedStep
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef
from kleff.texts import plural
from kleff.workstation.identity import key_id
from kleff.workstation.paths import WPath

if TYPE_CHECKING:
    from kleff.case.bag.index import SavedItem
    from kleff.case.record.beforehand import Beforehand
    from kleff.objects.base.restoring import Restoring

from kleff.objects.keys.meaning import for_people, meant_keys
from kleff.objects.keys.restoring import keys_here
from kleff.objects.keys.steps import (
    KeyBackup,
    KeyDelete,
    KeyEvidence,
    KeyStep,
    KeyVerify,
    ValueBackup,
    ValueDelete,
    ValueEvidence,
    ValueStep,
    ValueVerify,
)
from kleff.procedure.variables import literal_key

BACK = "written back from the export"


class KeyKind(Kind):
    """`key`."""

    names: tuple[str, ...] = ("key",)
    systems = ("windows",)
    condition = "A key that must, or must not, be there."
    models = {"evidence": KeyEvidence, "backup": KeyBackup, "delete": KeyDelete, "verify": KeyVerify}
    noun: Literal["key", "value"] = "key"

    def stage(self, step: LoadedStep, stage: Stage) -> None:
        model = step.model
        if isinstance(model, KeyStep | KeyBackup):
            stage.key(literal_key(model.key), {"Sample": "x"})

    def words(self, phase: str) -> Words:
        many = ("key", "keys") if self.noun == "key" else ("value", "values")
        if phase == "delete":
            return Words("Deleted in the registry", many, total="keys" if self.noun == "key" else "values")
        if phase == "restore":
            return Words("Put back", ("key or value", "keys and values") if self.noun == "key" else many)
        return Words("Saved in the bag", many, total="saved" if phase == "backup" else "")

    def _value(self, step: LoadedStep) -> str | None:
        """The value a step names; None if it means the key."""
        return None

    def _meant(self, step: LoadedStep, here: Here) -> Iterator[tuple[KeyRef, str]]:
        assert isinstance(step.model, KeyStep | KeyBackup)
        return meant_keys(here, step.model.key, step.model.view, step.model.accounts)

    def _named(self, step: LoadedStep) -> str:
        assert isinstance(step.model, KeyStep | KeyBackup)
        return step.model.key

    def _found(self, step: LoadedStep, here: Here, key: KeyRef) -> RegKey | None:
        """What is there of it, as a tree; None if nothing."""
        assert here.workstation.registry is not None
        return here.workstation.registry.tree(key)

    def _text(self, step: LoadedStep, key: KeyRef) -> str:
        return for_people(key)

    def look(self, step: LoadedStep, here: Here) -> Iterator[Sighting]:
        for key, account in self._meant(step, here):
            about, text = key_id(key, self._value(step)), self._text(step, key)
            try:
                there = self._found(step, here, key) is not None
            except OSError as error:
                told = f"{text} ({why(error)})"
                yield Sighting(kind=self.noun, what=told, about=about, account=account, line=step.line, unreadable=True)
                continue
            if there:
                yield Sighting(kind=self.noun, what=text, about=about, account=account, line=step.line)

    def plan(self, step: LoadedStep, here: Here) -> Iterator[Action]:
        verb = {"backup": "save", "delete": f"delete {self.noun}", "verify": "look for"}[step.phase]
        meant = list(self._meant(step, here))
        if not meant:
            reason = "the workstation has no registry" if here.workstation.registry is None else "no hive is meant here"
            yield here.action(step, verb, self._named(step), state=ABSENT, reason=reason)
        for key, account in meant:
            about = [key_id(key, self._value(step))]
            action = here.action(step, verb, self._text(step, key), account=account, about=about)
            try:
                tree = self._found(step, here, key)
            except OSError as error:
                action.state, action.reason = UNREADABLE, why(error)
                yield action
                continue
            if tree is None:
                action.state, action.reason = ABSENT, "not there"
            else:
                self._planned(step, here, key, tree, action)
            yield action

    def _planned(self, step: LoadedStep, here: Here, key: KeyRef, tree: RegKey, action: Action) -> None:
        keys, values = tree.count()
        action.items = keys if self.noun == "key" else values
        if step.phase == "backup":
            action.undo = "stays in the bag"
        elif step.phase == "delete":
            action.undo = BACK
            verdict = self._verdict(step, here, key)
            if not verdict.ok:
                action.judged(verdict.word, verdict.reason, verdict.remedy)
            elif _only_if_empty(step) and (tree.values or tree.keys):
                action.state, action.reason, action.later = KEPT, NOT_EMPTY, True

    def _verdict(self, step: LoadedStep, here: Here, key: KeyRef) -> Verdict:
        name = self._value(step)
        return here.guard.check_key(key) if name is None else here.guard.check_value(key, name)

    def always_refused(self, step: LoadedStep, here: Here) -> Iterator[str]:
        if step.phase == "delete":
            why = next((v.reason for key, _ in self._meant(step, here) if not (v := self._verdict(step, here, key)).ok), "")
            if why:
                yield f"{self.noun} {self._value(step) or self._named(step)}: {why}; name the product's own key, or single values of it"

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        key, _ = action.key()
        tree = self._found(step, work.here, key)
        if tree is None:
            return Outcome(note="already gone")
        if step.phase == "backup":
            return self._save(action, key, tree, work)
        if _only_if_empty(step) and (tree.values or tree.keys):
            return Outcome(state=KEPT, note="not empty")
        keys, values = tree.count()
        self._remove(action, key, tree, work)
        work.progress.step(keys)
        return Outcome(items=keys if self.noun == "key" else values)

    def _save(self, action: Action, key: KeyRef, tree: RegKey, work: Work) -> Outcome:
        sid = key.parts[0] if key.hive == "HKU" else ""
        item = work.bag.add_keys(action.number, work.item(action, self.noun, account_id=sid), [(key, tree)])
        return Outcome(note=f"in bag/data/{item.exports[0]}.reg", items=tree.count()[0])

    def _remove(self, action: Action, key: KeyRef, tree: RegKey, work: Work) -> None:
        from kleff.case.effects.key_removed import remove_key

        remove_key(work.hands, action.number, key, tree)

    def claims(self, step: LoadedStep, here: Here) -> Claimed:
        if not isinstance(step.model, KeyDelete | KeyVerify):
            return Claimed()
        return Claimed(keys=[key for key, _ in self._meant(step, here)])

    def users(self, step: LoadedStep, here: Here) -> set[str]:
        registry = here.workstation.registry
        if registry is None or not isinstance(step.model, KeyDelete):
            return set()
        return {account for key, account in self._meant(step, here) if account and seems_there(registry, key)}

    def note(self, step: LoadedStep, here: Here, noted: "Beforehand") -> None:
        """What values that will be gone name of paths that are there."""
        for key, _ in self._meant(step, here):
            with contextlib.suppress(OSError):  # its action says that it cannot be looked at
                if tree := self._found(step, here, key):
                    note_values(f"{key.hive}\\{key.path}", tree, here, noted)

    # -- restoring --------------------------------------------------------------------------------------------

    def plan_restore(self, item: "SavedItem", stem: str, restoring: "Restoring") -> Iterator[Action]:
        from kleff.case.effects.key_written import would_write

        undo = "what was written is deleted again"
        action = restoring.action(item, stem, "write", item.label or item.object, account=item.account, undo=undo)
        registry, differ = restoring.here.workstation.registry, []
        try:
            account = restoring.account(item)
            action.account = account.name if account else ""
            for key, tree in keys_here(item, restoring):
                action.target = for_people(key)
                action.about.append(key_id(key))
                action.shows.append(_written(key, tree))
                assert registry is not None
                _, difference = would_write(registry, key, tree, restoring.replace)
                action.items += difference.keys + difference.values
                differ += difference.differ
                stays = "exported first, then replaced" if restoring.replace else "stays"
                action.shows += [f"{stays}: {text} is set otherwise" for text in difference.differ[:8]]
            if not action.items:
                action.state, action.reason = (KEPT, "set otherwise by now") if differ else (ABSENT, "the same is there already")
        except Nowhere as error:
            action.state, action.reason = REFUSED, str(error)
        yield action

    def restore(self, action: Action, item: "SavedItem", restoring: "Restoring", work: Work) -> Outcome:
        from kleff.case.effects.key_written import write_key

        count = 0
        try:
            for key, tree in keys_here(item, restoring):
                difference = write_key(work.hands, action.number, key, tree, restoring.replace)
                count += difference.keys + difference.values
        except Nowhere as error:
            raise ActionFailed(str(error), remedy="look at it; then resume") from None
        return Outcome(items=count)

    def missing(self, item: "SavedItem", stem: str, restoring: "Restoring", placed: Sequence[WPath]) -> list[str]:
        from kleff.case.effects.key_written import compare

        assert restoring.here.workstation.registry is not None
        try:
            found = [(key, compare(restoring.here.workstation.registry, key, tree)) for key, tree in keys_here(item, restoring)]
        except Nowhere as error:
            return [f"{item.label}: {error}"]
        return [f"{for_people(key)}: not all of it is there" for key, difference in found if difference.anything]


def _written(key: KeyRef, tree: RegKey) -> str:
    """What a restore writes of a key, named as far as a line goes."""
    names = ", ".join(v.name or "(default)" for v in list(tree.values.values())[:6])
    below = f", and {plural(tree.count()[0] - 1, 'key')} below" if tree.keys else ""
    return f"{for_people(key)}: {names or 'no value of its own'}{' ...' if len(tree.values) > 6 else ''}{below}"


def _only_if_empty(step: LoadedStep) -> bool:
    return isinstance(step.model, KeyDelete) and step.model.only_if_empty


class ValueKind(KeyKind):
    """`value`."""

    names = ("value",)
    condition = ""
    models = {"evidence": ValueEvidence, "backup": ValueBackup, "delete": ValueDelete, "verify": ValueVerify}
    noun: Literal["key", "value"] = "value"

    def stage(self, step: LoadedStep, stage: Stage) -> None:
        model = step.model
        if isinstance(model, ValueStep | ValueBackup):
            stage.key(literal_key(model.in_key), {self._value(step) or "": "x"})

    def _value(self, step: LoadedStep) -> str | None:
        assert isinstance(step.model, ValueStep | ValueBackup)
        return step.model.value

    def _named(self, step: LoadedStep) -> str:
        assert isinstance(step.model, ValueStep | ValueBackup)
        return step.model.in_key

    def claims(self, step: LoadedStep, here: Here) -> Claimed:
        if not isinstance(step.model, ValueDelete):
            return Claimed()
        return Claimed(values=[(key, step.model.value) for key, _ in self._meant(step, here)])

    def users(self, step: LoadedStep, here: Here) -> set[str]:
        return set()

    def _meant(self, step: LoadedStep, here: Here) -> Iterator[tuple[KeyRef, str]]:
        assert isinstance(step.model, ValueStep | ValueBackup)
        return meant_keys(here, step.model.in_key, step.model.view, step.model.accounts)

    def _found(self, step: LoadedStep, here: Here, key: KeyRef) -> RegKey | None:
        assert isinstance(step.model, ValueStep | ValueBackup)
        assert here.workstation.registry is not None
        value = here.workstation.registry.value(key, step.model.value)
        if value is None:
            return None
        return RegKey(key.parts[-1], {fold(value.name): value})

    def _text(self, step: LoadedStep, key: KeyRef) -> str:
        assert isinstance(step.model, ValueStep | ValueBackup)
        return f"{for_people(key)}: {step.model.value or '(default)'}"

    def _remove(self, action: Action, key: KeyRef, tree: RegKey, work: Work) -> None:
        from kleff.case.effects.key_removed import remove_value

        remove_value(work.hands, action.number, key, tree)
