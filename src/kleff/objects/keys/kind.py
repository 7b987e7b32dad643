"""Keys and values of the registry, by name."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

from kleff.objects.base.action import Action
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Claimed
from kleff.objects.base.staging import Stage
from kleff.objects.base.unreadable import seems_there
from kleff.objects.keys.life import KeyLife
from kleff.objects.keys.meaning import for_people, meant_keys
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
from kleff.procedure.globs import fold
from kleff.procedure.loaded import StepOf
from kleff.procedure.variables import literal_key
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef


class KeyKind(KeyLife[KeyStep | KeyBackup]):
    """`key`."""

    names = ("key",)
    condition = "A key that must, or must not, be there."
    models = {"evidence": KeyEvidence, "backup": KeyBackup, "delete": KeyDelete, "verify": KeyVerify}

    def stage(self, step: StepOf[KeyStep | KeyBackup], stage: Stage) -> None:
        stage.key(literal_key(step.model.key), {"Sample": "x"})

    def _meant(self, step: StepOf[KeyStep | KeyBackup], here: Here) -> Iterator[tuple[KeyRef, str]]:
        return meant_keys(here, step.model.key, step.model.view, step.model.accounts)

    def _named(self, step: StepOf[KeyStep | KeyBackup]) -> str:
        return step.model.key

    def claims(self, step: StepOf[KeyStep | KeyBackup], here: Here) -> Claimed:
        if not isinstance(step.model, KeyDelete | KeyVerify):
            return Claimed()
        return Claimed(keys=[key for key, _ in self._meant(step, here)])

    def users(self, step: StepOf[KeyStep | KeyBackup], here: Here) -> set[str]:
        registry = here.workstation.registry
        if registry is None or not isinstance(step.model, KeyDelete):
            return set()
        return {account for key, account in self._meant(step, here) if account and seems_there(registry, key)}


class ValueKind(KeyLife[ValueStep | ValueBackup]):
    """`value`."""

    names = ("value",)
    models = {"evidence": ValueEvidence, "backup": ValueBackup, "delete": ValueDelete, "verify": ValueVerify}
    noun: Literal["key", "value"] = "value"

    def stage(self, step: StepOf[ValueStep | ValueBackup], stage: Stage) -> None:
        stage.key(literal_key(step.model.in_key), {self._value(step) or "": "x"})

    def _value(self, step: StepOf[ValueStep | ValueBackup]) -> str | None:
        return step.model.value

    def _named(self, step: StepOf[ValueStep | ValueBackup]) -> str:
        return step.model.in_key

    def claims(self, step: StepOf[ValueStep | ValueBackup], here: Here) -> Claimed:
        if not isinstance(step.model, ValueDelete):
            return Claimed()
        return Claimed(values=[(key, step.model.value) for key, _ in self._meant(step, here)])

    def _meant(self, step: StepOf[ValueStep | ValueBackup], here: Here) -> Iterator[tuple[KeyRef, str]]:
        return meant_keys(here, step.model.in_key, step.model.view, step.model.accounts)

    def _found(self, step: StepOf[ValueStep | ValueBackup], here: Here, key: KeyRef) -> RegKey | None:
        assert here.workstation.registry is not None
        value = here.workstation.registry.value(key, step.model.value)
        if value is None:
            return None
        return RegKey(key.parts[-1], {fold(value.name): value})

    def _text(self, step: StepOf[ValueStep | ValueBackup], key: KeyRef) -> str:
        return f"{for_people(key)}: {step.model.value or '(default)'}"

    def _remove(self, action: Action, key: KeyRef, tree: RegKey, work: Work) -> None:
        from kleff.case.effects.key_removed import remove_value

        remove_value(work.hands, action.number, key, tree)


KINDS = (KeyKind(), ValueKind())
