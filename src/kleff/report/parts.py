"""What several of the JSON documents hold."""

from __future__ import annotations

from typing import Literal

import msgspec


class WorkstationInfo(msgspec.Struct, kw_only=True):
    """The workstation: as named on the command line, its own name, its system."""

    spec: str
    name: str
    system: str
    description: str
    bits: int
    admin: bool


class ProductInfo(msgspec.Struct, kw_only=True):
    """The product of a procedure."""

    id: str
    name: str
    vendor: str
    versions: str
    procedure: str


class ThingInfo(msgspec.Struct, kw_only=True):
    """What something is, exactly. `text` is for people, `exact_b64` the very name or path: a path in the workstation's own bytes, a
    name or key in UTF-8 (what is no text in it by bytes or as WTF-8). `scope` is the account or folder a name counts in, `value`
    the name of a registry value, `view` 32 or 64."""

    sort: Literal["path", "key", "name"]
    text: str
    exact_b64: str
    kind: str = ""
    scope: str = ""
    view: int = 0
    value_b64: str | None = None


class SightingInfo(msgspec.Struct, kw_only=True):
    """A piece of evidence that was found (or could not be looked at)."""

    kind: str
    what: str
    about: ThingInfo | None
    version: str
    where: str
    facts: str
    account: str
    line: int
    in_range: bool
    unreadable: bool


class FindingInfo(msgspec.Struct, kw_only=True):
    """One thing that is still there. `state`: `left`; `kept` (on purpose); `unreadable` (could not be looked at, so not proven gone)."""

    state: str
    kind: str
    target: str
    about: list[ThingInfo]
    reason: str
    line: int
    phase: str
    account: str


class ActionInfo(msgspec.Struct, kw_only=True):
    """An action of a plan. `path_b64` is there for paths: the exact bytes, base64."""

    number: int
    phase: str
    line: int
    kind: str
    label: str
    verb: str
    target: str
    path_b64: str
    about: list[ThingInfo]
    account: str
    state: str
    reason: str
    because: str
    undo: str
    final: bool
    items: int
    size: int
    optional: bool
    after_restart: bool
    kept_inside: list[str]
    shows: list[str]
