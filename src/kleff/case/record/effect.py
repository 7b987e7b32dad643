"""What the journal records of one change: a struct for each kind of effect, and the table of all kinds.

A kind that ships with Kleff stands in a table and is loaded when a journal names it; another is known from the moment its class is
defined. The journal writes and reads these structs alone, so that what cannot be read back cannot be written.
"""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from importlib import import_module
from typing import Annotated, Any, ClassVar, Self, TypeVar

import msgspec
from msgspec import Meta

from kleff.case.record.effect_table import EFFECTS
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath

Base64 = Annotated[str, Meta(pattern=r"^(?:[A-Za-z0-9+/]{4})*(?:[A-Za-z0-9+/]{2}==|[A-Za-z0-9+/]{3}=)?$")]
Sha256 = Annotated[str, Meta(pattern=r"^[0-9a-f]{64}$")]
Stem = Annotated[str, Meta(pattern=r"^[0-9]{4,}(-[a-z0-9]+)*$")]
Count = Annotated[int, Meta(ge=0, lt=1 << 62)]
Time = int  # ns since 1970, as wide as file systems are
Hex = Annotated[str, Meta(pattern=r"^(?:[0-9a-f]{2})*$")]
Number = Annotated[int, Meta(ge=0)]
Pid = Annotated[int, Meta(ge=0, lt=1 << 31)]

# done: it happened; void: it never did; stays: it could not be taken back; noted: it has no inverse, and was told; kept:
# taken back, it is another of the same place that stands there, and this one stays set aside.
STATES = ("intended", "done", "undone", "void", "stays", "noted", "kept", "discarded")
ASIDE = ("done", "stays", "kept")  # in which what was set aside is so still
T = TypeVar("T")

_kinds: dict[str, type[Recorded]] = {}


class Recorded(msgspec.Struct, kw_only=True, frozen=True, omit_defaults=True):
    """The fields of one kind of effect; `kind` is its name in journals."""

    kind: ClassVar[str] = ""

    def __init_subclass__(cls, **options: Any) -> None:
        super().__init_subclass__(**options)
        if cls.kind:
            _kinds[cls.kind] = cls

    def areas(self, place: bytes, files: FileTree) -> list[WPath]:
        """The set-aside areas it has used."""
        return []


@dataclass(frozen=True)
class Journaled:
    """One change to the workstation, as it stands in the journal.

    Attributes:
        action: the number of the action it belongs to.
        place: the path it is about, raw bytes; empty where it is about none.
        state: one of `STATES`.
    """

    id: int
    action: int
    effect: Recorded
    place: bytes = b""
    state: str = "intended"
    note: str = ""
    at: str = ""

    @property
    def kind(self) -> str:
        return self.effect.name if isinstance(self.effect, Foreign) else self.effect.kind

    def changed(self, **fields: Any) -> Self:
        """The same with more known of it."""
        return replace(self, effect=msgspec.structs.replace(self.effect, **fields))


class Foreign(Recorded, kw_only=True, frozen=True):
    """An effect of a kind that this Kleff has not: what the journal holds of it, as it stands there."""

    name: str
    data: str


def kind_of(name: str) -> type[Recorded] | None:
    """The struct of a kind, or None if there is no such kind."""
    if name not in _kinds and name in EFFECTS:
        import_module(f"kleff.case.effects.{EFFECTS[name]}")
    return _kinds.get(name)


def dump(value: object) -> str:
    """A struct as JSON; a name that is not text (half a surrogate pair) as an escape that `load` understands."""
    try:
        return msgspec.json.encode(value).decode()
    except UnicodeEncodeError:
        return json.dumps(msgspec.to_builtins(value))


def load(text: str | bytes, type: type[T]) -> T:
    """The inverse of `dump`.

    Raises:
        msgspec.ValidationError, msgspec.DecodeError, ValueError: it is not one.
    """
    try:
        return msgspec.json.decode(text, type=type)
    except msgspec.ValidationError:
        raise
    except msgspec.DecodeError:
        try:
            return msgspec.convert(json.loads(text), type)
        except RecursionError:
            raise ValueError("it is nested too deep") from None
