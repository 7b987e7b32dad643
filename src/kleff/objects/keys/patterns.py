"""Registry keys by a pattern of their names, and by what a value in them says."""

from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta

from kleff.objects.base.action import ABSENT, REFUSED, Action
from kleff.objects.base.here import Here
from kleff.objects.base.kind import Claimed
from kleff.objects.base.own import AT_MOST, AtMost, width_objection
from kleff.objects.base.staging import Stage, shown_as
from kleff.objects.keys.life import KeyLife
from kleff.objects.keys.meaning import meant_keys
from kleff.objects.keys.steps import View
from kleff.procedure.globs import is_glob, name_matches
from kleff.procedure.loaded import StepOf
from kleff.procedure.model import AccountStep, Section, Text
from kleff.procedure.texts import Problem, key_problem
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef

LETTERS = 4  # of a name with a wildcard, where no value says more


class ValueContains(Section, kw_only=True, frozen=True):
    """What a value of the key must hold."""

    name: Annotated[str, Meta(description="name of the value; empty for the default value")]
    text: Annotated[str, Meta(min_length=4, description="what stands in it, letter case does not count")]


class _KeyGlob(AccountStep, kw_only=True, frozen=True):
    key_glob: Annotated[Text, Meta(description="a key, of which the last names may hold * and ?: each of them for one name")]
    value_contains: Annotated[ValueContains | None, Meta(description="only keys in which a value says so")] = None
    view: View = None

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        fixed, names = split(self.key_glob)
        if wrong := key_problem(fixed):
            yield ("key_glob",), wrong
        elif not names:
            yield ("key_glob",), "has no wildcard; write  key = ..."
        for name in names if self.value_contains is None else ():
            if is_glob(name) and sum(c.isalnum() for c in name) < LETTERS:
                yield ("key_glob",), f"{name!r} means too much; write at least {LETTERS} letters or digits, or say  value_contains"
        if self.value_contains is not None:
            yield from ((("value_contains", *where), text) for where, text in self.value_contains.problems(places))


class KeyGlobDelete(_KeyGlob, kw_only=True, frozen=True):
    """Delete keys by a pattern, or by what a value in them says, with all below them."""

    at_most: AtMost = AT_MOST


class KeyGlobVerify(_KeyGlob, kw_only=True, frozen=True):
    """Keys that must be gone."""


def split(text: str) -> tuple[str, list[str]]:
    """(the key up to the first name with a wildcard, that name and all after it)."""
    names = text.split("\\")
    at = next((n for n, name in enumerate(names) if n and is_glob(name)), len(names))
    return "\\".join(names[:at]), names[at:]


class KeyGlobKind(KeyLife[_KeyGlob]):
    """`key_glob`."""

    names = ("key_glob",)
    models = {"delete": KeyGlobDelete, "verify": KeyGlobVerify}

    def stage(self, step: StepOf[_KeyGlob], stage: Stage) -> None:
        model = step.model
        wanted = {model.value_contains.name: model.value_contains.text} if model.value_contains else {"Sample": "x"}
        stage.key("\\".join(shown_as(name) for name in model.key_glob.split("\\")), wanted)

    def _named(self, step: StepOf[_KeyGlob]) -> str:
        return step.model.key_glob

    def _meant(self, step: StepOf[_KeyGlob], here: Here) -> Iterator[tuple[KeyRef, str]]:
        """Those that are there."""
        model, registry = step.model, here.workstation.registry
        fixed, names = split(model.key_glob)
        for top, account in meant_keys(here, fixed, model.view, model.accounts) if registry is not None else ():
            for key in self._below(here, top, names):
                if self._says(here, key, model.value_contains):
                    yield key, account

    def _found(self, step: StepOf[_KeyGlob], here: Here, key: KeyRef) -> RegKey | None:
        """Only as long as its value says so: at the act it is looked at again."""
        return super()._found(step, here, key) if self._says(here, key, step.model.value_contains) else None

    def _below(self, here: Here, key: KeyRef, names: list[str]) -> Iterator[KeyRef]:
        if not names:
            yield key
            return
        registry = here.workstation.registry
        assert registry is not None
        for name in registry.subkeys(key):
            if name_matches(names[0], name, True) and registry.link(key.child(name)) is None:
                yield from self._below(here, key.child(name), names[1:])

    def _says(self, here: Here, key: KeyRef, wanted: ValueContains | None) -> bool:
        registry = here.workstation.registry
        value = registry.value(key, wanted.name) if registry is not None and wanted is not None else None
        if wanted is None:
            return registry is not None and registry.exists(key)
        return value is not None and any(wanted.text.casefold() in text.casefold() for text in value.texts or [value.text])

    def plan(self, step: StepOf[_KeyGlob], here: Here) -> Iterator[Action]:
        model, found = step.model, list(self._meant(step, here))
        of_one = max((sum(account == other for _, other in found) for _, account in found), default=0)
        wide = width_objection(model.key_glob, of_one, model.at_most) if isinstance(model, KeyGlobDelete) else ""
        if not found or wide:
            state, reason = (REFUSED, wide) if wide else (ABSENT, "no such key")
            yield here.action(step, "delete key" if step.phase == "delete" else "look for", model.key_glob, state=state, reason=reason)
            return
        yield from super().plan(step, here)

    def claims(self, step: StepOf[_KeyGlob], here: Here) -> Claimed:
        return Claimed(keys=[key for key, _ in self._meant(step, here)])

    def users(self, step: StepOf[_KeyGlob], here: Here) -> set[str]:
        return {account for _, account in self._meant(step, here) if account and step.phase == "delete"}

    def always_refused(self, step: StepOf[_KeyGlob], here: Here) -> Iterator[str]:
        """Told by a key of that name, where the pattern is taken for one."""
        model = step.model
        if not isinstance(model, KeyGlobDelete):
            return
        fixed, names = split(model.key_glob)
        for top, _ in meant_keys(here, fixed, model.view, model.accounts):
            key = top
            for name in names:
                key = key.child(name.replace("*", "xxxx").replace("?", "x"))
            verdict = here.guard.check_key(key)
            if not verdict.ok:
                yield f"key_glob {model.key_glob}: {verdict.reason}; name the product's own keys"
                return


KINDS = (KeyGlobKind(),)
