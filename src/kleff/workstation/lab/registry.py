"""The lowest layer of a lab's registry: hives kept as `.reg` text, one file for the machine and one per account."""

from __future__ import annotations

import errno
import os
from pathlib import Path

from kleff.procedure.globs import fold
from kleff.registry.regfile import RegKey, decode, encode, format_hive, parse
from kleff.registry.values import REG_LINK, RegValue
from kleff.workstation.lab.lab import Lab
from kleff.workstation.this_machine import host

MAX_LINKS = 16
ROOTS = {"MACHINE": "HKLM", "USER": "HKU"}  # as the system's object manager names them, below "\\Registry"


class LabRegistry:
    """Implements `RegistryApi`. Changes hold the lab's lock until `flush`, which commits them."""

    def __init__(self, lab: Lab) -> None:
        self._lab = lab
        self._folder = lab.folder / "registry"
        self._cache: dict[Path, tuple[tuple[int, int, int], RegKey]] = {}
        self._dirty: dict[Path, str] = {}

    def hives(self) -> list[str]:
        return sorted(p.stem for p in (self._folder / "users").glob("*.reg"))

    def _file(self, hive: str, path: str) -> Path:
        if hive == "HKLM":
            return self._folder / "HKLM.reg"
        sid = path.split("\\")[0]
        known = {fold(s): s for s in self.hives()}
        return self._folder / "users" / f"{known.get(fold(sid), '-')}.reg"

    def _load(self, hive: str, path: str) -> RegKey | None:
        file = self._file(hive, path)
        if file in self._dirty:
            return self._cache[file][1]
        try:
            status = os.stat(file)
        except FileNotFoundError:
            return None
        stamp = (status.st_mtime_ns, status.st_ino, status.st_size)
        cached = self._cache.get(file)
        if cached is None or cached[0] != stamp:
            cached = (stamp, parse(decode(file.read_bytes(), str(file)), str(file)))
            self._cache[file] = cached
        return cached[1]

    def _find(self, hive: str, path: str, last: bool = True) -> RegKey | None:
        hive, path = self._followed(hive, path, last)
        root = self._load(hive, path)
        return root.find([hive, *(p for p in path.split("\\") if p)]) if root else None

    def _followed(self, hive: str, path: str, last: bool = True) -> tuple[str, str]:
        """Where a path leads when the links in it are followed; the last name only if it is to be."""
        for _ in range(MAX_LINKS):
            key, parts = self._load(hive, path), [p for p in path.split("\\") if p]
            key = key.find([hive]) if key else None
            for index, part in enumerate(parts):
                key = key.keys.get(fold(part)) if key else None
                link = _link_of(key) if last or index < len(parts) - 1 else None
                if link is not None:
                    hive, path = _target_of(link, parts[index + 1 :])
                    break
            else:
                return hive, path
        return hive, "\0"  # links in a ring lead nowhere

    def link(self, hive: str, path: str) -> RegValue | None:
        return _link_of(self._find(hive, path, last=False))

    def make_link(self, hive: str, path: str, target: RegValue) -> None:
        if self._find(hive, path, last=False) is None:
            hive, path = self._followed(hive, path, last=False)
            self._change(hive, path).make([hive, *path.split("\\")]).set(target)

    def _change(self, hive: str, path: str) -> RegKey:
        file = self._file(hive, path)
        if file not in self._dirty:
            if not self._dirty:
                self._lab.acquire()
            if self._load(hive, path) is None:
                if not self._dirty:
                    self._lab.release()
                raise FileNotFoundError(errno.ENOENT, "no such hive", path)
            self._dirty[file] = hive
        root = self._load(hive, path)
        assert root is not None
        return root

    def subkeys(self, hive: str, path: str) -> list[str] | None:
        key = self._find(hive, path)
        return None if key is None else [key.keys[k].name for k in sorted(key.keys)]

    def values(self, hive: str, path: str) -> list[RegValue] | None:
        key = self._find(hive, path)
        return None if key is None else list(key.values.values())

    def create(self, hive: str, path: str) -> None:
        hive, path = self._followed(hive, path)
        if self._find(hive, path) is None:
            self._change(hive, path).make([hive, *path.split("\\")])

    def set(self, hive: str, path: str, value: RegValue) -> None:
        hive, path = self._followed(hive, path)
        self._change(hive, path).make([hive, *path.split("\\")]).set(value)

    def delete_value(self, hive: str, path: str, name: str) -> None:
        hive, path = self._followed(hive, path)
        if self._find(hive, path) is not None:
            key = self._change(hive, path).find([hive, *path.split("\\")])
            if key is not None:
                key.values.pop(fold(name), None)

    def delete_key(self, hive: str, path: str) -> None:
        hive, path = self._followed(hive, path, last=False)
        root = self._change(hive, path)
        *above, name = [hive, *path.split("\\")]
        parent = root.find(above)
        key = parent.keys.get(fold(name)) if parent else None
        if parent is None or key is None:
            return
        if key.keys:
            raise PermissionError(errno.EACCES, "the key has subkeys", path)
        del parent.keys[fold(name)]

    def flush(self) -> None:
        if not self._dirty:
            return
        try:
            for file, hive in self._dirty.items():
                top = self._cache[file][1].find([hive])
                host().write_atomic(file, encode(format_hive(hive, top or RegKey(hive))), 0o644)
                del self._cache[file]
        finally:
            self._dirty.clear()
            self._lab.release()


def _link_of(key: RegKey | None) -> RegValue | None:
    found = key.values.get(fold("SymbolicLinkValue")) if key else None
    return found if found is not None and found.type == REG_LINK else None


def _target_of(link: RegValue, below: list[str]) -> tuple[str, str]:
    names = [p for p in link.raw.decode("utf-16-le", "replace").split("\\") if p]
    if len(names) < 2 or fold(names[0]) != "REGISTRY" or fold(names[1]) not in ROOTS:
        return "HKLM", "\0"
    return ROOTS[fold(names[1])], "\\".join([*names[2:], *below])
