"""The registry over its lowest layer: views, canonical keys, export and removal of trees.

The lowest layer (`RegistryApi`) is the system's own on a real Windows and `.reg` text on a lab.
"""

from __future__ import annotations

import errno
from base64 import b64decode, b64encode
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from kleff.procedure.globs import fold
from kleff.procedure.variables import KEY_ROOTS
from kleff.registry.regfile import RegKey
from kleff.registry.shared import CLASSES, SEPARATE, is_shared
from kleff.registry.values import REG_LINK, RegValue

NODE = "Wow6432Node"
NAMED = {"HKLM": r"\Registry\Machine", "HKU": r"\Registry\User"}  # how a link names a hive
LINK_VALUE = fold("SymbolicLinkValue")  # of a key that is a link


@dataclass(frozen=True)
class KeyRef:
    """A key by its canonical physical place.

    Attributes:
        hive: `HKLM` or `HKU`.
        path: below the hive, without `Wow6432Node`; for `HKU` it begins with the SID.
        view: 64 or 32 where the views differ, else 0.
    """

    hive: str
    path: str
    view: int = 0

    def __str__(self) -> str:
        shown = f"{self.hive}\\{self.path}"
        return f"{shown} ({self.view}-bit view)" if self.view else shown

    @property
    def packed(self) -> dict[str, object]:
        """For a journal: exact, whatever the key is called."""
        return {"hive": self.hive, "path": b64encode(self.path.encode("utf-16-le", "surrogatepass")).decode(), "view": self.view}

    @property
    def parts(self) -> list[str]:
        return self.path.split("\\")

    @property
    def key(self) -> tuple[str, str, int]:
        """What two spellings of one key share."""
        return self.hive, fold(self.path), self.view

    def child(self, name: str) -> KeyRef:
        return KeyRef(self.hive, f"{self.path}\\{name}", self.view)

    @property
    def physical(self) -> str:
        """The path below the hive as stored, with `Wow6432Node` where the 32-bit view is meant."""
        if self.view != 32:
            return self.path
        parts = self.parts
        at = _split_point(self.hive, parts) or 1
        return "\\".join([*parts[:at], NODE, *parts[at:]])


def unpack_key(data: dict[str, Any]) -> KeyRef:
    """The inverse of `KeyRef.packed`."""
    return KeyRef(data["hive"], b64decode(data["path"]).decode("utf-16-le", "surrogatepass"), data["view"])


class RegistryApi(Protocol):
    """The lowest layer: keys by hive and physical path. Every call reports a missing key as None or KeyError."""

    def subkeys(self, hive: str, path: str) -> list[str] | None: ...

    def values(self, hive: str, path: str) -> list[RegValue] | None: ...

    def contents(self, hive: str, path: str) -> tuple[list[str], list[RegValue]] | None:
        """Both at once, subkeys and values."""

    def create(self, hive: str, path: str) -> None: ...

    def set(self, hive: str, path: str, value: RegValue) -> None: ...

    def delete_value(self, hive: str, path: str, name: str) -> None: ...

    def delete_key(self, hive: str, path: str) -> None:
        """Delete a key that has no subkeys; of a link the link itself, never what it leads to."""

    def link(self, hive: str, path: str) -> RegValue | None:
        """Where a key that is a link leads (its value `SymbolicLinkValue`, of type REG_LINK); None if it is none, or not there."""

    def make_link(self, hive: str, path: str, target: RegValue) -> None:
        """Make a key that is a link (REG_OPTION_CREATE_LINK), if nothing is there."""

    def hives(self) -> list[str]:
        """The SIDs whose hives can be reached."""

    def flush(self) -> None:
        """Bring what was changed to disk (RegFlushKey)."""

    def release(self) -> list[str]:
        """Let go of the hives of accounts that were loaded only to be looked at or changed; the SIDs of those that stay loaded.

        Meanwhile nobody can sign in as such an account without getting a profile that is thrown away. They are loaded again when needed.
        """


def _split_point(hive: str, parts: Sequence[str]) -> int | None:
    """After how many names `Wow6432Node` stands for the 32-bit view; None where both views are one."""
    upper = tuple(fold(p) for p in parts)
    if hive == "HKU":
        upper, offset = upper[1:], 1
    else:
        offset = 0
    if upper[:1] != ("SOFTWARE",) or len(upper) < 2:
        return None
    if upper[:2] == CLASSES:
        return offset + 2 if len(upper) > 2 and upper[2] in SEPARATE else None
    if hive == "HKU" or is_shared(upper):
        return None
    return offset + 1


class NoHive(OSError):
    """Settings that must be there are not: nothing that stands in them can be said not to be there."""

    def __init__(self, what: str, where: object) -> None:
        super().__init__(errno.ENODATA, f"{what} are not where they have to be", str(where))


class Registry:
    """The registry of a workstation.

    Args:
        api: the lowest layer.
        bits: 64 or 32; a 32-bit system has one view only.
    """

    def __init__(self, api: RegistryApi, bits: int = 64) -> None:
        self.api = api
        self.bits = bits
        self._no_links: set[str] = set()  # physical places of the 32-bit view

    # -- names ------------------------------------------------------------------------------------------------

    def canonical(self, text: str, sid: str = "", view: int | None = None) -> list[KeyRef]:
        """The keys a text means: one, or one per view where views differ.

        Args:
            text: `HKLM\\...`, `HKCU\\...` (of the account `sid`) or `HKCR\\...`.
            view: only this view.
        """
        root, _, rest = text.partition("\\")
        parts = [p for p in rest.split("\\") if p]
        hive = KEY_ROOTS[root.upper()]
        if hive == "HKCR":
            hive, parts = ("HKU", [sid, "Software", "Classes", *parts]) if sid else ("HKLM", ["Software", "Classes", *parts])
        elif hive == "HKCU":
            hive, parts = "HKU", [sid, *parts]
        return self._views(hive, parts, view)

    def _views(self, hive: str, parts: list[str], view: int | None) -> list[KeyRef]:
        node = next((i for i, p in enumerate(parts) if fold(p) == fold(NODE)), None)
        if node is not None:
            parts = parts[:node] + parts[node + 1 :]
            view = 32
        if hive == "HKLM":
            parts = self._control_set(parts)
        path = "\\".join(parts)
        if self.bits == 32:
            return [KeyRef(hive, path)] if node is None else []
        split = _split_point(hive, parts)
        if split is None or self._is_linked(hive, parts, split):
            return [KeyRef(hive, path)]
        return [KeyRef(hive, path, v) for v in (64, 32) if view in (None, v)]

    def _is_linked(self, hive: str, parts: list[str], split: int) -> bool:
        """Whether both views share a key here, whatever the table says: its 32-bit name, or one above, is a link to the 64-bit key."""
        for depth in range(split + 1, len(parts) + 1):
            path = "\\".join(parts[:depth])
            twin = KeyRef(hive, path, 32).physical
            if twin in self._no_links:
                continue
            try:
                link = self.api.link(hive, twin)
            except OSError:  # who looks at that view is told why it cannot be looked at; the other is none the worse
                return False
            if link is not None and fold(link.raw.decode("utf-16-le", "replace")) == fold(f"{NAMED[hive]}\\{path}"):
                return True
            self._no_links.add(twin)
        return False

    def _control_set(self, parts: list[str]) -> list[str]:
        if len(parts) < 2 or [fold(p) for p in parts[:2]] != ["SYSTEM", "CURRENTCONTROLSET"]:
            return parts
        current = self.value(KeyRef("HKLM", "SYSTEM\\Select"), "Current")
        number = current.number if current else None
        return ["SYSTEM", f"ControlSet{number or 1:03d}", *parts[2:]]

    # -- reading ----------------------------------------------------------------------------------------------

    def exists(self, key: KeyRef) -> bool:
        return self.api.values(key.hive, key.physical) is not None or self.link(key) is not None

    def link(self, key: KeyRef) -> RegValue | None:
        """Where a link leads; None if the key is none."""
        return self.api.link(key.hive, key.physical)

    def subkeys(self, key: KeyRef) -> list[str]:
        """Names of the subkeys; empty if the key is not there. The other view's node is not a subkey."""
        return [n for n in self.api.subkeys(key.hive, key.physical) or [] if fold(n) != fold(NODE)]

    def values(self, key: KeyRef) -> list[RegValue]:
        return self.api.values(key.hive, key.physical) or []

    def value(self, key: KeyRef, name: str) -> RegValue | None:
        wanted = fold(name)
        return next((v for v in self.values(key) if fold(v.name) == wanted), None)

    def text(self, key: KeyRef, name: str) -> str:
        """A value as text, or ""."""
        found = self.value(key, name)
        return found.text if found else ""

    def spelled(self, key: KeyRef) -> KeyRef:
        """The same key in the letters in which it stands there, as far as it is there."""
        found = [part for part in key.parts if key.hive == "HKU"][:1]
        for part in key.parts[len(found) :]:
            above = KeyRef(key.hive, "\\".join(found), key.view)
            names = self.subkeys(above) if found else self.api.subkeys(key.hive, "") or []
            found.append(next((name for name in names if fold(name) == fold(part)), part))
        return KeyRef(key.hive, "\\".join(found), key.view)

    def tree(self, key: KeyRef) -> RegKey | None:
        """A key with all below it, or None; of a link what it says, nothing of what it leads to."""
        contents = self.api.contents(key.hive, key.physical)
        if contents is None:
            return None
        names, values = contents
        found = RegKey(key.parts[-1])
        for value in values:
            found.set(value)
        if any(value.type == REG_LINK and fold(value.name) == LINK_VALUE for value in values):
            return found
        for name in names:
            below = self.tree(key.child(name)) if fold(name) != fold(NODE) else None
            if below is not None:
                found.keys[fold(name)] = RegKey(name, below.values, below.keys)
        return found

    # -- changing ---------------------------------------------------------------------------------------------

    def delete_tree(self, key: KeyRef) -> None:
        """Delete a key and all below it, children first; what is already gone is no error."""
        for name in self.subkeys(key) if self.link(key) is None else ():
            self.delete_tree(key.child(name))
        if self.exists(key):
            self.api.delete_key(key.hive, key.physical)

    def write_tree(self, key: KeyRef, tree: RegKey) -> list[str]:
        """Put a tree back, values and empty keys too; what is there and differs is left.

        Returns:
            What was left as it is, for the technician.
        """
        left = []
        link, now_link = next((v for v in tree.values.values() if v.type == REG_LINK), None), self.link(key)
        if link is not None or now_link is not None:
            if not self.exists(key) and link is not None:
                self.api.make_link(key.hive, key.physical, link)
            elif now_link != link:
                left.append(f"{key} leads elsewhere by now, or is no link any more")
            return left
        self.api.create(key.hive, key.physical)
        present = {fold(v.name): v for v in self.values(key)}
        for value in tree.values.values():
            now = present.get(fold(value.name))
            if now is None:
                self.api.set(key.hive, key.physical, value)
            elif (now.type, now.raw) != (value.type, value.raw):
                left.append(f"{key}: value {value.name or '(default)'} has been set since")
        for below in tree.keys.values():
            left += self.write_tree(key.child(below.name), below)
        return left
