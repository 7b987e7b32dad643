"""Registry keys and single values."""

from collections.abc import Collection, Iterator
from typing import Annotated, Literal

from msgspec import Meta

from kleff.objects.base import ABSENT, KEPT, NOT_EMPTY, Action, Offers, Outcome, Scene, Sighting, Work
from kleff.procedure.globs import fold
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import AccountStep, Problem, SavingAccountStep, Text, key_problem
from kleff.procedure.variables import unescape_literal
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef, unpack_key
from kleff.texts import plain

BACK = "written back from the export"
View = Annotated[Literal[32, 64] | None, Meta(description="only this view; both if left out")]

KeyText = Annotated[Text, Meta(description="HKLM\\..., HKCU\\... (every account) or HKCR\\...; literal, no wildcards")]
ValueText = Annotated[str, Meta(description="name of the value; empty for the default value")]


def _problems(name: str, text: str) -> Iterator[Problem]:
    wrong = key_problem(text)
    if wrong:
        yield (name,), wrong


class _Key(AccountStep, kw_only=True, frozen=True):
    key: KeyText
    view: View = None

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from _problems("key", self.key)


class KeyEvidence(_Key, kw_only=True, frozen=True):
    """A key that is there only with the product."""


class KeyBackup(SavingAccountStep, kw_only=True, frozen=True):
    """Save a key with all below it."""

    key: KeyText
    view: View = None

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from super().problems(places)
        yield from _problems("key", self.key)


class KeyDelete(_Key, kw_only=True, frozen=True):
    """Delete a key with all below it."""

    only_if_empty: Annotated[bool, Meta(description="only a key without values and subkeys")] = False


class KeyVerify(_Key, kw_only=True, frozen=True):
    """A key that must be gone."""


class _Value(AccountStep, kw_only=True, frozen=True):
    value: ValueText
    in_key: Text
    view: View = None

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from _problems("in_key", self.in_key)


class ValueEvidence(_Value, kw_only=True, frozen=True):
    """A value that is there only with the product."""


class ValueBackup(SavingAccountStep, kw_only=True, frozen=True):
    """Save one value."""

    value: ValueText
    in_key: Text
    view: View = None

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from super().problems(places)
        yield from _problems("in_key", self.in_key)


class ValueDelete(_Value, kw_only=True, frozen=True):
    """Delete one value."""


class ValueVerify(_Value, kw_only=True, frozen=True):
    """A value that must be gone."""


def meant_keys(scene: Scene, text: str, view: int | None, accounts: list[str]) -> Iterator[tuple[KeyRef, str]]:
    """The physical keys a text means here, with the account of each."""
    registry = scene.workstation.registry
    if registry is None:
        return
    text = unescape_literal(text)
    root = text.partition("\\")[0].upper()
    if root not in ("HKCU", "HKEY_CURRENT_USER"):
        for key in registry.canonical(text, view=view):
            yield key, ""
    if root not in ("HKLM", "HKEY_LOCAL_MACHINE"):
        hives = set(registry.api.hives())
        for account in scene.resolver.accounts(accounts):
            if account.id in hives:
                for key in registry.canonical(text, account.id, view):
                    yield key, account.name


def for_people(key: KeyRef) -> str:
    """A key as it is written in a procedure; whose hive it is stands beside it as the account."""
    if key.hive == "HKU":
        return str(KeyRef("HKCU", "\\".join(key.parts[1:]), key.view))
    return str(key)


class KeyKind(Offers):
    """`key`."""

    models = {"evidence": KeyEvidence, "backup": KeyBackup, "delete": KeyDelete, "verify": KeyVerify}
    noun: Literal["key", "value"] = "key"

    def _meant(self, step: LoadedStep, scene: Scene) -> Iterator[tuple[KeyRef, str]]:
        assert isinstance(step.model, _Key | KeyBackup)
        return meant_keys(scene, step.model.key, step.model.view, step.model.accounts)

    def _found(self, step: LoadedStep, scene: Scene, key: KeyRef) -> RegKey | None:
        """What is there of it, as a tree; None if nothing."""
        assert scene.workstation.registry is not None
        return scene.workstation.registry.tree(key)

    def _text(self, step: LoadedStep, key: KeyRef) -> str:
        return plain(for_people(key))

    def look(self, step: LoadedStep, scene: Scene) -> Iterator[Sighting]:
        for key, account in self._meant(step, scene):
            if self._found(step, scene, key) is not None:
                yield Sighting(kind=self.noun, what=self._text(step, key), account=account, line=step.line)

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        verb = {"backup": "save", "delete": f"delete {self.noun}", "verify": "look for"}[step.phase]
        meant = list(self._meant(step, scene))
        if not meant:
            text = getattr(step.model, "key", "") or getattr(step.model, "in_key", "")
            reason = "the workstation has no registry" if scene.workstation.registry is None else "no hive is meant here"
            yield scene.action(step, verb, plain(text), state=ABSENT, reason=reason)
        for key, account in meant:
            action = scene.action(step, verb, self._text(step, key), account=account)
            tree = self._found(step, scene, key)
            if tree is None:
                action.state, action.reason = ABSENT, "not there"
            else:
                self._planned(step, scene, key, tree, action)
            yield action

    def _planned(self, step: LoadedStep, scene: Scene, key: KeyRef, tree: RegKey, action: Action) -> None:
        keys, values = tree.count()
        action.items = keys if self.noun == "key" else values
        action.details = key.packed
        if step.phase == "backup":
            action.undo = "stays in the bag"
        elif step.phase == "delete":
            action.undo = BACK
            verdict = scene.guard.check_key(key, value=self.noun == "value")
            if not verdict.ok:
                action.state, action.reason = verdict.word, verdict.reason
            elif getattr(step.model, "only_if_empty", False) and (tree.values or tree.keys):
                action.state, action.reason = KEPT, NOT_EMPTY
                action.details["again"] = True

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        key = unpack_key(action.details)
        tree = self._found(step, work.scene, key)
        if tree is None:
            return Outcome(note="already gone")
        if step.phase == "backup":
            return self._save(action, key, tree, work)
        if getattr(step.model, "only_if_empty", False) and (tree.values or tree.keys):
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
        from kleff.case.effects import remove_key

        remove_key(work.hands, action.number, key, tree)


class ValueKind(KeyKind):
    """`value`."""

    models = {"evidence": ValueEvidence, "backup": ValueBackup, "delete": ValueDelete, "verify": ValueVerify}
    noun: Literal["key", "value"] = "value"

    def _meant(self, step: LoadedStep, scene: Scene) -> Iterator[tuple[KeyRef, str]]:
        assert isinstance(step.model, _Value | ValueBackup)
        return meant_keys(scene, step.model.in_key, step.model.view, step.model.accounts)

    def _found(self, step: LoadedStep, scene: Scene, key: KeyRef) -> RegKey | None:
        assert isinstance(step.model, _Value | ValueBackup)
        assert scene.workstation.registry is not None
        value = scene.workstation.registry.value(key, step.model.value)
        if value is None:
            return None
        return RegKey(key.parts[-1], {fold(value.name): value})

    def _text(self, step: LoadedStep, key: KeyRef) -> str:
        assert isinstance(step.model, _Value | ValueBackup)
        return plain(f"{for_people(key)}: {step.model.value or '(default)'}")

    def _remove(self, action: Action, key: KeyRef, tree: RegKey, work: Work) -> None:
        from kleff.case.effects import remove_value

        remove_value(work.hands, action.number, key, tree)
