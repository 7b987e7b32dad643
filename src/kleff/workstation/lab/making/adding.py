"""Putting what a description says on a lab: looked at first, so that a mistake adds nothing."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from struct import pack
from typing import Any
from xml.sax.saxutils import escape

import msgspec

from kleff.errors import DamagedCase, ProcedureError
from kleff.procedure.globs import WINDOWS, fold
from kleff.registry.regfile import RegKey, decode, parse
from kleff.registry.registry import KeyRef, Registry
from kleff.registry.values import RegValue, list_value, number_value, text_value
from kleff.workstation.lab.build import toml_value
from kleff.workstation.lab.described import LabPackage, LabProcess, LabProgram
from kleff.workstation.lab.lab import Lab, add_process
from kleff.workstation.lab.making.drivers import add_driver
from kleff.workstation.lab.making.plain import CURRENT, START
from kleff.workstation.lab.making.shortcuts import shortcut_to
from kleff.workstation.lab.making.spec import LabSpec, Setting, SpecProduct
from kleff.workstation.lab.registry import LabRegistry
from kleff.workstation.lab.tasks import FOLDER, LabTaskControl
from kleff.workstation.lab.workstation import open_lab
from kleff.workstation.this_machine import host

RULES = r"HKLM\SYSTEM\CurrentControlSet\Services\SharedAccess\Parameters\FirewallPolicy\FirewallRules"
TASK = "<Task><Actions><Exec><Command>{program}</Command></Exec></Actions></Task>"


class Adding:
    """What is put on one lab.

    Args:
        beside: the folder in which the description's own files lie.
    """

    def __init__(self, folder: Path, beside: Path) -> None:
        self.lab = Lab(folder)
        self._registry = Registry(LabRegistry(self.lab), self.lab.file.bits)
        self._beside = beside
        self._files: dict[str, bytes | None] = {}
        self._keys: list[tuple[str, dict[str, Setting]]] = []
        self._trees: list[RegKey] = []
        self._tables: list[tuple[str, dict[str, Any]]] = []
        self._services: list[str] = []
        self._processes: list[LabProcess] = []
        self._tasks: dict[str, str] = {}
        self._made: list[str] = []
        self._more: set[str] = set()
        self._attributes: dict[str, list[str]] = {}

    def add(self, spec: LabSpec) -> None:
        """Put all of it on.

        Raises:
            ProcedureError: something stands there already, or a file of the description cannot be read; nothing was added.
        """
        self._collect(spec)
        places = {path: self._host(path) for path in (*self._files, *(f"{FOLDER}\\{name}" for name in self._tasks))}
        there = [path for path, place in places.items() if path not in self._more and place.exists()]
        if there:
            raise ProcedureError([f"{there[0]} is on the lab already"], remedy="take it out of the description; nothing was changed")
        self._write()

    def _collect(self, spec: LabSpec) -> None:
        for product in spec.product:
            self._product(product)
        for file in spec.file:
            place = self._host(file.path)
            before = place.read_bytes() if file.more and place.is_file() else b""
            self._files[file.path] = before + file.content.encode()
            self._more |= {file.path} if file.more else set()
            self._attributes |= {file.path: list(file.attributes)} if file.attributes else {}
        self._files |= {folder.path: None for folder in spec.folder}
        self._keys += [(key.path, key.values) for key in spec.key]
        self._trees = [self._exported(name) for name in spec.keys_from]
        for service in spec.service:
            path = rf"HKLM\SYSTEM\CurrentControlSet\Services\{service.name}"
            self._keys.append((path, {"ImagePath": service.program, "Start": 2, "DisplayName": service.title or service.name, "Type": 16}))
            self._services.append(service.name)
        for number, driver in enumerate(spec.driver, 10):
            file_of: Callable[[str, bytes], None] = self._files.__setitem__
            add_driver(file_of, self._add_key, driver.number or number, driver.name, driver.provider, driver.title)
        self._files |= {link.path: shortcut_to(link.target) for link in spec.shortcut}
        self._tasks = {task.name: TASK.format(program=escape(task.program)) for task in spec.task}
        rules = {r.name: f"v2.30|Action=Allow|Active=TRUE|Dir=In|App={r.program}|Name={r.name}|" for r in spec.firewall}
        self._keys += [(RULES, dict(rules))] if rules else []
        for number, thrown in enumerate(spec.thrown):
            bin_, name = rf"C:\$Recycle.Bin\{thrown.account}", f"{number:06X}"
            self._files[rf"{bin_}\$R{name}"] = b"thrown away"
            was = f"{thrown.was}\0"
            self._files[rf"{bin_}\$I{name}"] = pack("<QQQI", 2, 11, 0, len(was)) + was.encode("utf-16-le")
        for package in spec.package:
            self._files[package.path] = f"the package of {package.subject}".encode()
        for kind, described in (("program", spec.program), ("package", spec.package)):
            self._tables += [(kind, _said(one)) for one in described]
        self._processes = spec.process
        self._tables += [("process", _said(one)) for one in spec.process]
        self._made = spec.made_accounts

    def _add_key(self, path: str, values: dict[str, str]) -> None:
        self._keys.append((path, dict(values)))

    def _product(self, one: SpecProduct) -> None:
        folder = one.folder or rf"C:\Program Files\{one.publisher}\{one.name}"
        for name in one.files:
            self._files[rf"{folder}\{name}"] = f"{name} of {one.name}".encode()
        if one.hidden:
            return
        uninstall = rf"{CURRENT}\Uninstall\{one.key or one.product_code or one.name}"
        if one.view == 32:
            uninstall = uninstall.replace("SOFTWARE", r"SOFTWARE\WOW6432Node")
        values: dict[str, Setting] = {
            "DisplayName": one.title or f"{one.publisher} {one.name}", "DisplayVersion": one.version, "Publisher": one.publisher,
            "InstallLocation": folder, "EstimatedSize": one.size,
        }  # fmt: skip
        if one.product_code:
            values |= {"UninstallString": f"MsiExec.exe /I{one.product_code}", "WindowsInstaller": 1}
        elif one.registered is not None:
            values["UninstallString"] = one.registered
        elif one.files:
            self._files[rf"{folder}\un.exe"] = one.uninstaller.encode()
            values |= {"UninstallString": rf'"{folder}\un.exe"'} | (
                {} if one.loud else {"QuietUninstallString": rf'"{folder}\un.exe" /quiet'}
            )
        self._keys.append((uninstall, values))
        if one.behaves is not None:
            which = {"product_code": one.product_code} if one.product_code else {"path": rf"{folder}\un.exe"}
            said = {**which, "deletes": [folder], "deletes_keys": [uninstall], **one.behaves}
            self._tables.append(("program", said))

    def _exported(self, name: str) -> RegKey:
        file = self._beside / name
        try:
            return parse(decode(file.read_bytes(), str(file)), str(file))
        except OSError as error:
            raise ProcedureError([f"{file}: {error.strerror}"], remedy="name a file beside the description; nothing was changed") from None
        except DamagedCase as error:
            raise ProcedureError([str(error).splitlines()[0]], remedy="export it again; nothing was changed") from None

    # -- writing --------------------------------------------------------------------------------------------------

    def _host(self, path: str) -> Path:
        """Where a file of the lab lies on this machine, below the lab's folder and reached by no link; its names as they stand there.

        Raises:
            ProcedureError: it would lie elsewhere.
        """
        split = WINDOWS.split(path)
        if split is None or not split[1]:
            raise ProcedureError([f"{path} is no path of a lab"], remedy="write a whole one, without . and ..; nothing was changed")
        place = self.lab.folder / "files" / split[0][0]
        for part in split[1]:
            names = os.listdir(place) if place.is_dir() else []
            place /= next((name for name in names if fold(name) == fold(part)), part)
            if place.is_symlink():
                raise ProcedureError([f"{path} is reached by a link on the lab"], remedy="name another place; nothing was changed")
        return place

    def _write(self) -> None:
        for path, content in self._files.items():
            place = self._host(path)
            if content is None:
                place.mkdir(parents=True, exist_ok=True)
                continue
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_bytes(content)
            _mark(place, self._attributes.get(path, []))
            os.utime(place, (START, START))  # some steps ask how old a thing is
        for text, values in self._keys:
            self._set(text, values)
        for tree in self._trees:
            for root in tree.keys.values():
                self._put(root.name, "", root)
        self._registry.api.flush()
        scheduler = LabTaskControl(self.lab, open_lab(self.lab.folder).files, self._registry)
        for name, definition in self._tasks.items():
            scheduler.register(name, definition)
        file = self.lab.folder / "lab.toml"
        if self._made:
            names = [*self.lab.file.made_accounts, *self._made]
            lines = [line for line in file.read_text("utf-8").splitlines() if not line.startswith("made_accounts = ")]
            at = next(n for n, line in enumerate(lines) if line.startswith("format = "))
            host().write_atomic(file, "\n".join([*lines[: at + 1], f"made_accounts = {toml_value(names)}", *lines[at + 1 :], ""]).encode())
        with file.open("a", encoding="utf-8") as out:
            for kind, table in self._tables:
                out.write(f"\n[[{kind}]]\n" + "\n".join(f"{k} = {toml_value(v)}" for k, v in table.items()) + "\n")
        self.lab = Lab(self.lab.folder)
        with self.lab.locked():
            state = self.lab.state()
            state.running_services += self._services
            for process in self._processes:
                add_process(state, process)
            self.lab.save(state)

    def _set(self, text: str, values: dict[str, Setting]) -> None:
        if text.upper().startswith("HKU\\"):
            self._set_all(KeyRef("HKU", text[4:]), values)
            return
        sids = self._registry.api.hives() if text.upper().startswith(("HKCU\\", "HKEY_CURRENT_USER\\")) else [""]
        for sid in (s for s in sids if s != "HKLM"):
            self._set_all(self._registry.canonical(text, sid, 64)[0], values)

    def _set_all(self, key: KeyRef, values: dict[str, Setting]) -> None:
        self._registry.api.create(key.hive, key.physical)
        for name, value in values.items():
            self._registry.api.set(key.hive, key.physical, _value(name, value))

    def _put(self, hive: str, path: str, key: RegKey) -> None:
        if path:
            self._registry.api.create(hive, path)
        for value in key.values.values():
            self._registry.api.set(hive, path, value)
        for below in key.keys.values():
            self._put(hive, f"{path}\\{below.name}".lstrip("\\"), below)


def _mark(place: Path, attributes: list[str]) -> None:
    """Read-only by its mode, the others as a value beside the file, where the machine's own file system keeps any."""
    others = [name for name in attributes if name != "read-only"]
    if others and sys.platform != "win32":
        with suppress(OSError):
            os.setxattr(place, "user.attributes", ",".join(others).encode())
    if "read-only" in attributes:
        place.chmod(0o444)


def _value(name: str, value: Setting) -> RegValue:
    if isinstance(value, int):
        return number_value(name, value)
    return list_value(name, value) if isinstance(value, list) else text_value(name, value, expand="%" in value)


def _said(one: LabProgram | LabProcess | LabPackage) -> dict[str, Any]:
    """What a description says of it, without what it leaves as it usually is."""
    whole, usual = msgspec.to_builtins(one), {f.name: f.default for f in msgspec.structs.fields(one)}
    return {k: v for k, v in whole.items() if v not in ("", [], {}) and v != usual.get(k)}
