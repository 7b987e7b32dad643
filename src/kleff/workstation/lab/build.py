"""Building a lab's folder: files with fixed times, hives as `.reg` text, `lab.toml`."""

from __future__ import annotations

import json
import os
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from kleff.errors import Refused
from kleff.procedure.globs import fold
from kleff.registry.regfile import RegKey, encode, format_hive
from kleff.registry.values import RegValue, number_value, text_value
from kleff.workstation.lab.lab import Lab

Setting = str | int | RegValue


class LabBuilder:
    """Writes a new lab.

    Args:
        folder: must not exist, or be empty.
        start: modification time of the first file, seconds; each later one is a little later.

    Raises:
        Refused: something stands there already.
    """

    def __init__(self, folder: Path, start: int) -> None:
        if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
            raise Refused("something stands there already", where=str(folder), remedy="name a folder that does not exist yet")
        self.folder = folder
        self._time = start
        self._root = RegKey("")
        self._programs: list[dict[str, Any]] = []
        self._processes: list[dict[str, Any]] = []
        self._packages: list[dict[str, Any]] = []

    def file(self, path: str, content: str | bytes) -> None:
        """A file by its path on the lab, e.g. `C:\\Windows\\win.ini`."""
        host = self.folder.joinpath("files", path[0], *path[3:].split("\\"))
        host.parent.mkdir(parents=True, exist_ok=True)
        host.write_bytes(content if isinstance(content, bytes) else content.encode())
        self._time += 61
        os.utime(host, (self._time, self._time))

    def key(self, path: str, **values: Setting) -> None:
        """A key by its physical path (`HKLM\\...` or `HKU\\SID\\...`) with values; `default_` is the default value."""
        self.values(path, {("" if n == "default_" else n): v for n, v in values.items()})

    def texts(self, path: str, values: dict[str, str]) -> None:
        """A key with texts alone."""
        self.values(path, dict(values))

    def values(self, path: str, values: dict[str, Setting]) -> None:
        """The same, for value names that are no Python names."""
        key = self._root.make(path.split("\\"))
        for name, value in values.items():
            if isinstance(value, int):
                value = number_value(name, value)
            elif isinstance(value, str):
                value = text_value(name, value, expand="%" in value)
            key.set(value)

    def program(self, **behaviour: Any) -> None:
        """How a program behaves when it is run; the fields of `LabProgram`."""
        self._programs.append(behaviour)

    def process(self, **process: Any) -> None:
        """A process that runs; the fields of `LabProcess`."""
        self._processes.append(process)

    def package(self, **package: Any) -> None:
        """A package in the installer's cache; the fields of `LabPackage`. Its file is made."""
        self.file(package["path"], f"the package of {package['subject']}")
        self._packages.append(package)

    def finish(self, name: str, identity: str, description: str, services: Sequence[str]) -> Lab:
        """Write hives and `lab.toml`, settle folder times, start the lab."""
        for hive in (self._root.keys[fold("HKLM")], *self._root.keys[fold("HKU")].keys.values()):
            machine = hive.name == "HKLM"
            target = self.folder / "registry" / ("HKLM.reg" if machine else f"users/{hive.name}.reg")
            target.parent.mkdir(parents=True, exist_ok=True)
            tree = hive if machine else RegKey("HKU", {}, {fold(hive.name): hive})
            target.write_bytes(encode(format_hive("HKLM" if machine else "HKU", tree)))
        lines = [
            "# A simulated workstation. Kleff never changes this file; what runs stands in state/state.json.",
            f"format = 1\nname = {toml_value(name)}\nid = {toml_value(identity)}\ndescription = {toml_value(description)}",
        ]
        for kind, tables in (("process", self._processes), ("program", self._programs), ("package", self._packages)):
            for table in tables:
                lines.append(f"\n[[{kind}]]\n" + "\n".join(f"{k} = {toml_value(v)}" for k, v in table.items()))
        (self.folder / "lab.toml").write_text("\n".join(lines) + "\n", "utf-8")
        self._settle_times()
        lab = Lab(self.folder)
        lab.start(list(services), all_processes=True)
        return lab

    def _settle_times(self) -> None:
        for top, _, names in os.walk(self.folder / "files", topdown=False):
            newest = max((int(os.stat(os.path.join(top, n)).st_mtime) for n in names), default=self._time)
            os.utime(top, (newest, newest))


def toml_value(value: Any) -> str:
    """A TOML value (https://toml.io/en/v1.0.0); JSON texts are TOML basic strings."""
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{json.dumps(k)} = {toml_value(v)}" for k, v in value.items()) + " }"
    if isinstance(value, list):
        return "[" + ", ".join(toml_value(v) for v in value) + "]"
    return json.dumps(value, ensure_ascii=False)
