"""What a thing on a workstation is: its exact name, path or key, and where that counts. Data, never a text for the eye.

Made once, where the workstation was looked at; compared by parts, in the letter case of the workstation. `shown` is for pages alone.
"""

from __future__ import annotations

from base64 import b64encode
from collections.abc import Hashable
from typing import Literal

import msgspec

from kleff.procedure.globs import PathStyle, fold
from kleff.registry.registry import KeyRef
from kleff.workstation.paths import WPath, from_raw


class PathId(msgspec.Struct, frozen=True, tag="path", tag_field="is", omit_defaults=True):
    """A path: the bytes of `WPath.raw`, in the workstation's file tree or on the machine Kleff runs on."""

    path: bytes
    tree: Literal["workstation", "host"] = "workstation"


class KeyId(msgspec.Struct, frozen=True, tag="key", tag_field="is", omit_defaults=True):
    """A registry key, or one value of it (`value`; "" is the default value). `view` is 32, 64, or 0 where there is one only."""

    hive: str
    path: str
    view: int = 0
    value: str | None = None

    @property
    def key(self) -> KeyRef:
        return KeyRef(self.hive, self.path, self.view)


class NameId(msgspec.Struct, frozen=True, tag="name", tag_field="is", omit_defaults=True):
    """Anything that has a name of its kind: a service, a package, a task ...; `scope` is the account or folder it counts in."""

    kind: str
    name: str
    scope: str = ""


Identity = PathId | KeyId | NameId


def path_id(path: WPath) -> PathId:
    return PathId(path.raw)


def key_id(key: KeyRef, value: str | None = None) -> KeyId:
    return KeyId(key.hive, key.path, key.view, value)


def path_of(identity: Identity, style: PathStyle) -> WPath | None:
    """The path it is, or None."""
    return from_raw(style, identity.path) if isinstance(identity, PathId) else None


def sameness(identity: Identity, style: PathStyle) -> Hashable:
    """What two identities of one thing share, in the letter case of the workstation."""
    if isinstance(identity, PathId):
        return "path", identity.tree, from_raw(style, identity.path).key
    if isinstance(identity, KeyId):
        return "key", identity.key.key, None if identity.value is None else fold(identity.value)
    folded = fold(identity.name) if style.folded else identity.name
    return "name", identity.kind, folded, identity.scope


def covers(outer: Identity, inner: Identity, style: PathStyle) -> bool:
    """Whether what is said of `outer` is said of `inner` too: the same thing, or one that lies in it."""
    if sameness(outer, style) == sameness(inner, style):
        return True
    if isinstance(outer, PathId) and isinstance(inner, PathId):
        return outer.tree == inner.tree and from_raw(style, outer.path).holds(from_raw(style, inner.path))
    if isinstance(outer, KeyId) and isinstance(inner, KeyId) and outer.value is None:
        mine, theirs = outer.key.key, inner.key.key
        parts = [fold(p) for p in outer.key.parts]
        return mine[0] == theirs[0] and outer.view == inner.view and [fold(p) for p in inner.key.parts][: len(parts)] == parts
    return False


def shown(identity: Identity, style: PathStyle) -> str:
    """For people, not yet escaped."""
    if isinstance(identity, PathId):
        return str(from_raw(style, identity.path))
    if isinstance(identity, KeyId):
        value = "" if identity.value is None else f": {identity.value or '(default)'}"
        return f"{identity.key}{value}"
    return identity.name


def exact_base64(identity: Identity, style: PathStyle) -> str:
    """The bytes of a path in the workstation's own form, base64; "" for anything else."""
    return from_raw(style, identity.path).b64 if isinstance(identity, PathId) else ""


def packed(path: WPath) -> str:
    """A path as JSON keeps it: the bytes of `WPath.raw` in base64."""
    return b64encode(path.raw).decode()
