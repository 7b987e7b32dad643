"""Keys in trees: what every registry of our own does, wherever its hives are kept."""

from __future__ import annotations

import errno

from kleff.procedure.globs import fold
from kleff.registry.regfile import RegKey
from kleff.registry.registry import LINK_VALUE
from kleff.registry.values import REG_LINK, RegValue

MAX_LINKS = 16
ROOTS = {"MACHINE": "HKLM", "USER": "HKU"}  # as the system's object manager names them, below "\\Registry"


class TreeRegistry:
    """Keys by hive and physical path, for a `RegistryApi`; who keeps the hives says where they are. A link is followed where it stands on
    the way to a key, never as the last name.
    """

    def load(self, hive: str, path: str) -> RegKey | None:
        """The tree in which a path lies, its hive the first name in it; None if there is no such hive."""
        raise NotImplementedError

    def change(self, hive: str, path: str) -> RegKey:
        """The same, to be changed.

        Raises:
            FileNotFoundError: there is no such hive.
        """
        raise NotImplementedError

    def release(self) -> list[str]:
        return []

    def _find(self, hive: str, path: str) -> RegKey | None:
        return self._reached(hive, path)[2]

    def _followed(self, hive: str, path: str) -> tuple[str, str]:
        """Where a path leads when the links on the way are followed."""
        return self._reached(hive, path)[:2]

    def _reached(self, hive: str, path: str) -> tuple[str, str, RegKey | None]:
        """Where a path leads when the links on the way are followed, and the key there, if there is one."""
        for _ in range(MAX_LINKS):
            root, parts = self.load(hive, path), [p for p in path.split("\\") if p]
            key = root.keys.get(fold(hive)) if root else None
            for index, part in enumerate(parts):
                link = _link_of(key) if index else None  # of the key above, which stands on the way
                if link is not None:
                    hive, path = _target_of(link, parts[index:])
                    break
                key = key.keys.get(fold(part)) if key else None
            else:
                return hive, path, key
        return hive, "\0", None  # links in a ring lead nowhere

    def link(self, hive: str, path: str) -> RegValue | None:
        return _link_of(self._find(hive, path))

    def make_link(self, hive: str, path: str, target: RegValue) -> None:
        if self._find(hive, path) is None:
            hive, path = self._followed(hive, path)
            self.change(hive, path).make([hive, *path.split("\\")]).set(target)

    def subkeys(self, hive: str, path: str) -> list[str] | None:
        key = self._find(hive, path)
        return None if key is None else [key.keys[k].name for k in sorted(key.keys)]

    def values(self, hive: str, path: str) -> list[RegValue] | None:
        key = self._find(hive, path)
        return None if key is None else list(key.values.values())

    def contents(self, hive: str, path: str) -> tuple[list[str], list[RegValue]] | None:
        names, values = self.subkeys(hive, path), self.values(hive, path)
        return None if names is None or values is None else (names, values)

    def create(self, hive: str, path: str) -> None:
        hive, path = self._followed(hive, path)
        if self._find(hive, path) is None:
            self.change(hive, path).make([hive, *path.split("\\")])

    def set(self, hive: str, path: str, value: RegValue) -> None:
        hive, path = self._followed(hive, path)
        self.change(hive, path).make([hive, *path.split("\\")]).set(value)

    def delete_value(self, hive: str, path: str, name: str) -> None:
        hive, path = self._followed(hive, path)
        if self._find(hive, path) is not None:
            key = self.change(hive, path).find([hive, *path.split("\\")])
            if key is not None:
                key.values.pop(fold(name), None)

    def delete_key(self, hive: str, path: str) -> None:
        hive, path = self._followed(hive, path)
        root = self.change(hive, path)
        *above, name = [hive, *path.split("\\")]
        parent = root.find(above)
        key = parent.keys.get(fold(name)) if parent else None
        if parent is None or key is None:
            return
        if key.keys:
            raise PermissionError(errno.EACCES, "the key has subkeys", path)
        del parent.keys[fold(name)]


def _link_of(key: RegKey | None) -> RegValue | None:
    found = key.values.get(LINK_VALUE) if key is not None else None
    return found if found is not None and found.type == REG_LINK else None


def _target_of(link: RegValue, below: list[str]) -> tuple[str, str]:
    names = [p for p in link.raw.decode("utf-16-le", "replace").split("\\") if p]
    if len(names) < 2 or fold(names[0]) != "REGISTRY" or fold(names[1]) not in ROOTS:
        return "HKLM", "\0"
    return ROOTS[fold(names[1])], "\\".join([*names[2:], *below])
