"""Registry keys and single values: looked at, saved, deleted."""

import contextlib
from abc import abstractmethod
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Generic, Literal, TypeVar

from kleff.case.guard.verdict import Verdict
from kleff.errors import ActionFailed
from kleff.objects.base.action import ABSENT, KEPT, NOT_EMPTY, REFUSED, UNREADABLE, Action, Outcome, Sighting
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind, Words
from kleff.objects.base.noting import note_values
from kleff.objects.base.restoring import Nowhere
from kleff.objects.base.unreadable import why
from kleff.procedure.loaded import StepOf
from kleff.procedure.model import Step
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef
from kleff.texts import plural
from kleff.workstation.identity import key_id
from kleff.workstation.paths import WPath

if TYPE_CHECKING:
    from kleff.case.bag.index import SavedItem
    from kleff.case.record.beforehand import Beforehand
    from kleff.objects.base.restoring import Restoring

from kleff.objects.keys.meaning import for_people
from kleff.objects.keys.restoring import keys_here
from kleff.objects.keys.steps import (
    KeyDelete,
)

BACK = "written back from the export"


K = TypeVar("K", bound=Step)


class KeyLife(Kind, Generic[K]):
    """The life of keys, of which the kinds say which keys, or which value of them, a step means."""

    systems = ("windows",)
    noun: Literal["key", "value"] = "key"

    def words(self, phase: str) -> Words:
        many = ("key", "keys") if self.noun == "key" else ("value", "values")
        if phase == "delete":
            return Words("Deleted in the registry", many, total="keys" if self.noun == "key" else "values")
        if phase == "restore":
            return Words("Put back", ("key or value", "keys and values") if self.noun == "key" else many)
        return Words("Saved in the bag", many, total="saved" if phase == "backup" else "")

    def _value(self, step: StepOf[K]) -> str | None:
        """The value a step names; None if it means the key."""
        return None

    @abstractmethod
    def _meant(self, step: StepOf[K], here: Here) -> Iterator[tuple[KeyRef, str]]:
        """The keys, and whose they are."""

    @abstractmethod
    def _named(self, step: StepOf[K]) -> str:
        """As the step writes it."""

    def _found(self, step: StepOf[K], here: Here, key: KeyRef) -> RegKey | None:
        """What is there of it, as a tree; None if nothing."""
        assert here.workstation.registry is not None
        return here.workstation.registry.tree(key)

    def _text(self, step: StepOf[K], key: KeyRef) -> str:
        return for_people(key)

    def look(self, step: StepOf[K], here: Here) -> Iterator[Sighting]:
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

    def plan(self, step: StepOf[K], here: Here) -> Iterator[Action]:
        verb = {"backup": "save", "delete": f"delete {self.noun}", "verify": "look for"}[step.phase]
        meant = list(self._meant(step, here))
        if not meant:
            reason = "the workstation has no registry" if here.workstation.registry is None else "no hive is meant here"
            yield here.action(step, verb, self._named(step), state=ABSENT, reason=reason, nowhere=True)
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

    def _planned(self, step: StepOf[K], here: Here, key: KeyRef, tree: RegKey, action: Action) -> None:
        keys, values = tree.count()
        action.items = keys if self.noun == "key" else values
        if step.phase == "backup":
            action.undo = "stays in the bag"
        elif step.phase == "delete":
            action.undo = BACK
            verdict = self._verdict(step, here, key)
            if not verdict.ok:
                action.judged(verdict.word, verdict.reason, verdict.remedy)
            elif _only_if_empty(step.model) and (tree.values or tree.keys):
                action.state, action.reason, action.later = KEPT, NOT_EMPTY, True

    def _verdict(self, step: StepOf[K], here: Here, key: KeyRef) -> Verdict:
        name = self._value(step)
        return here.guard.check_key(key) if name is None else here.guard.check_value(key, name)

    def always_refused(self, step: StepOf[K], here: Here) -> Iterator[str]:
        if step.phase == "delete":
            why = next((v.reason for key, _ in self._meant(step, here) if not (v := self._verdict(step, here, key)).ok), "")
            if why:
                yield f"{self.noun} {self._value(step) or self._named(step)}: {why}; name the product's own key, or single values of it"

    def do(self, action: Action, step: StepOf[K], work: Work) -> Outcome:
        key, _ = action.key()
        tree = self._found(step, work.here, key)
        if tree is None:
            return Outcome(note="already gone")
        if step.phase == "backup":
            return self._save(action, key, tree, work)
        if _only_if_empty(step.model) and (tree.values or tree.keys):
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

    def note(self, step: StepOf[K], here: Here, noted: "Beforehand") -> None:
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
                for text in difference.differ[:8]:
                    if restoring.replace:
                        action.shows.append(f"exported first, then replaced: {text} is set otherwise")
                    else:
                        action.stands(f"stays: {text} is set otherwise")
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


def _only_if_empty(model: Step) -> bool:
    return isinstance(model, KeyDelete) and model.only_if_empty
