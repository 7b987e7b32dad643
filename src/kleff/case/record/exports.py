"""Registry keys as files: `.reg` for people and the system's own tools, JSON with raw bytes, types and view for Kleff."""

from __future__ import annotations

import hashlib
import json
from base64 import b64decode, b64encode
from pathlib import Path

import msgspec

from kleff.errors import DamagedCase, cannot_read
from kleff.procedure.globs import fold
from kleff.registry.regfile import RegKey, encode, format_tree
from kleff.registry.registry import KeyRef
from kleff.registry.values import RegValue
from kleff.workstation.this_machine import host


class SavedValue(msgspec.Struct):
    """A value: raw bytes in base64."""

    name: str
    type: int
    raw: str


class SavedKey(msgspec.Struct):
    """A key below the exported one (`path` is "" for itself)."""

    path: str
    values: list[SavedValue]


class SavedTree(msgspec.Struct):
    """A key with all below it, with its hive and view: the text form alone loses the view."""

    hive: str
    path: str
    view: int
    keys: list[SavedKey]


def pack(key: KeyRef, tree: RegKey) -> bytes:
    """The JSON form."""
    saved: list[SavedKey] = []
    _collect("", tree, saved)
    # The standard library's writer: a registry name may hold half a surrogate pair, which it escapes.
    return json.dumps(msgspec.to_builtins(SavedTree(key.hive, key.path, key.view, saved)), indent=1).encode("ascii")


def _collect(path: str, tree: RegKey, saved: list[SavedKey]) -> None:
    values = [SavedValue(v.name, v.type, b64encode(v.raw).decode()) for v in tree.values.values()]
    saved.append(SavedKey(path, values))
    for below in tree.keys.values():
        _collect(f"{path}\\{below.name}" if path else below.name, below, saved)


def unpack(data: bytes, where: str) -> tuple[KeyRef, RegKey]:
    """The inverse of `pack`.

    Raises:
        DamagedCase: not such a file.
    """
    try:
        saved = msgspec.convert(json.loads(data), SavedTree)
        root = RegKey(saved.path.rpartition("\\")[2])
        for entry in saved.keys:
            key = root.make([p for p in entry.path.split("\\") if p])
            for value in entry.values:
                key.values[fold(value.name)] = RegValue(value.name, value.type, b64decode(value.raw))
    except (msgspec.MsgspecError, ValueError, RecursionError) as error:
        raise DamagedCase(f"cannot be read: {error}", where=where, remedy="restore the case folder from a copy") from None
    return KeyRef(saved.hive, saved.path, saved.view), root


def write_new(file: Path, data: bytes) -> str:
    """Write a file that must not be there yet, flushed to disk; returns its SHA-256."""
    return host().write_new(file, data)


def export(folder: Path, stem: str, key: KeyRef, tree: RegKey) -> str:
    """Write both forms into a case; returns the SHA-256 of the JSON form."""
    write_new(folder / f"{stem}.reg", encode(format_tree(f"{key.hive}\\{key.path}", tree)))
    return write_new(folder / f"{stem}.json", pack(key, tree))


def read_export(folder: Path, stem: str, sha256: str) -> tuple[KeyRef, RegKey]:
    """Read an export back.

    Raises:
        DamagedCase: it is missing or has changed.
    """
    file = folder / f"{stem}.json"
    return unpack(read_checked(file, sha256), str(file))


def read_checked(file: Path, sha256: str) -> bytes:
    """A file of the case, as it was written.

    Raises:
        DamagedCase: it is missing or has changed.
        CannotRead: the system does not let it be read now.
    """
    try:
        data = file.read_bytes()
    except FileNotFoundError:
        raise DamagedCase("is missing in the case", where=str(file), remedy="restore the case folder from a copy") from None
    except OSError as error:
        raise cannot_read(error, str(file)) from None
    if hashlib.sha256(data).hexdigest() != sha256:
        raise DamagedCase("has changed since it was written", where=str(file), remedy="restore the case folder from a copy")
    return data
