"""A registry in memory."""

from __future__ import annotations

import errno

from kleff.procedure.globs import fold
from kleff.registry.regfile import RegKey
from kleff.registry.trees import TreeRegistry
from kleff.registry.values import RegValue, number_value, text_value

Setting = str | int | RegValue


class MemoryRegistry(TreeRegistry):
    """Implements `RegistryApi`.

    Attributes:
        closed: keys, or hives of accounts as `HKU\\SID`, that nobody may open.
    """

    def __init__(self) -> None:
        self.closed: set[str] = set()
        self.root = RegKey("")
        self.root.make(["HKLM"])
        self.root.make(["HKU"])

    def add(self, path: str, **values: Setting) -> None:
        """A key by its physical path (`HKLM\\...` or `HKU\\SID\\...`) with values; `default_` is the default value."""
        key = self.root.make(path.split("\\"))
        for name, value in values.items():
            name = "" if name == "default_" else name
            if isinstance(value, int):
                value = number_value(name, value)
            key.set(text_value(name, value, expand="%" in value) if isinstance(value, str) else value)

    def hives(self) -> list[str]:
        return sorted(key.name for key in self.root.keys[fold("HKU")].keys.values())

    def load(self, hive: str, path: str) -> RegKey | None:
        whole = fold(f"{hive}\\{path}\\")
        if any(whole.startswith(fold(f"{closed}\\")) for closed in self.closed):
            raise OSError(errno.EBUSY, "Device or resource busy", f"{hive}\\{path}")
        return self.root

    def change(self, hive: str, path: str) -> RegKey:
        if hive == "HKU" and fold(path.split("\\")[0]) not in self.root.keys[fold("HKU")].keys:
            raise FileNotFoundError(errno.ENOENT, "no such hive", path)
        return self.root

    def flush(self) -> None: ...
