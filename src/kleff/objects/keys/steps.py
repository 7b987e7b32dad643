"""The steps about registry keys and values."""

from collections.abc import Collection, Iterator
from typing import Annotated, Literal

from msgspec import Meta

from kleff.procedure.model import AccountStep, SavingAccountStep, Text
from kleff.procedure.texts import Problem, key_problem

View = Annotated[Literal[32, 64] | None, Meta(description="only this view; both if left out")]

KeyText = Annotated[Text, Meta(description="HKLM\\..., HKCU\\... (every account) or HKCR\\...; named in full; [*] for a star in a name")]
ValueText = Annotated[str, Meta(description="name of the value; empty for the default value")]


def _problems(name: str, text: str) -> Iterator[Problem]:
    wrong = key_problem(text)
    if wrong:
        yield (name,), wrong


class KeyStep(AccountStep, kw_only=True, frozen=True):
    key: KeyText
    view: View = None

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from _problems("key", self.key)


class KeyEvidence(KeyStep, kw_only=True, frozen=True):
    """A key that is there only with the product."""


class KeyBackup(SavingAccountStep, kw_only=True, frozen=True):
    """Save a key with all below it."""

    key: KeyText
    view: View = None

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from super().problems(places)
        yield from _problems("key", self.key)


class KeyDelete(KeyStep, kw_only=True, frozen=True):
    """Delete a key with all below it."""

    only_if_empty: Annotated[bool, Meta(description="only a key without values and subkeys")] = False


class KeyVerify(KeyStep, kw_only=True, frozen=True):
    """A key that must be gone."""


class ValueStep(AccountStep, kw_only=True, frozen=True):
    value: ValueText
    in_key: Text
    view: View = None

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from _problems("in_key", self.in_key)


class ValueEvidence(ValueStep, kw_only=True, frozen=True):
    """A value that is there only with the product."""


class ValueBackup(SavingAccountStep, kw_only=True, frozen=True):
    """Save one value."""

    value: ValueText
    in_key: Text
    view: View = None

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from super().problems(places)
        yield from _problems("in_key", self.in_key)


class ValueDelete(ValueStep, kw_only=True, frozen=True):
    """Delete one value."""


class ValueVerify(ValueStep, kw_only=True, frozen=True):
    """A value that must be gone."""
