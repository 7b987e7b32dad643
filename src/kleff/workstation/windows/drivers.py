"""The drivers of a Windows, by what lies in its folders and its registry.

`INF\\oemN.inf` is the copy of a package's settings under the name the system has given it ("INF Files", Windows driver documentation);
`System32\\DriverStore\\FileRepository\\NAME.inf_PLATFORM_NUMBER` holds the package itself, under the name its maker has given it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

from kleff.procedure.globs import fold
from kleff.registry.registry import KeyRef, Registry
from kleff.workstation.driver_facet import Device, DriverControl, DriverPackage
from kleff.workstation.files.lines import decode
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath

CLASSES = r"HKLM\SYSTEM\CurrentControlSet\Control\Class"
DEVICES = r"HKLM\SYSTEM\CurrentControlSet\Enum"
OWN = re.compile(r"oem\d+\.inf", re.IGNORECASE)
STORED = re.compile(r"(?P<name>.+\.inf)_[^_]+_[0-9a-f]+", re.IGNORECASE)
MOST = 4 << 20  # bytes of a settings file
SECTION, SETS = re.compile(r"\s*\[([^\]]+)\]"), re.compile(r"\s*([^=;\s][^=;]*?)\s*=\s*(.*)")


def read_inf(data: bytes) -> dict[str, str]:
    """What `[Version]` of a settings file says, by names in small letters, with the texts of `[Strings]` put in."""
    sections: dict[str, dict[str, str]] = {}
    here: dict[str, str] = {}
    for line in decode(data)[1]:
        if head := SECTION.match(line):
            here = sections.setdefault(head[1].strip().lower(), {})
        elif sets := SETS.match(line):
            here[sets[1].lower()] = _bare(sets[2])
    texts = sections.get("strings", {})
    return {
        name: re.sub(r"%([^%]+)%", lambda m: texts.get(m[1].lower(), m[0]), value) for name, value in sections.get("version", {}).items()
    }


class WindowsDrivers:
    """Implements `Drivers`.

    Args:
        windows: the system's folder.
    """

    def __init__(self, registry: Registry, files: FileTree, windows: WPath, control: DriverControl) -> None:
        self._registry, self._files, self._windows = registry, files, windows
        self.control = control

    def all(self) -> list[DriverPackage]:
        return [self._package(name) for name in sorted(self._files.names(self._windows.child("INF"))) if OWN.fullmatch(name)]

    def neighbours(self, package: DriverPackage) -> list[str]:
        found = [
            f"{title or name} ({inf})"
            for title, inf, name, _ in self._set_up()
            if fold(name) == fold(package.class_id) and fold(inf) != fold(package.inf)
        ]
        return sorted(set(found))

    def _package(self, name: str) -> DriverPackage:
        file = self._windows.child("INF", name)
        data = self._files.read(file, MOST)
        told = read_inf(data)
        folder, original = self._stored(data)
        catalog = folder.child(told["catalogfile"]) if folder is not None and told.get("catalogfile") else None
        return DriverPackage(
            inf=name, original=original, provider=told.get("provider", ""), version=told.get("driverver", "").rpartition(",")[2].strip(),
            class_=told.get("class", ""), class_id=told.get("classguid", ""), file=file, folder=folder, devices=tuple(self._devices(name)),
            catalog=catalog if catalog is not None and self._files.look(catalog) is not None else None,
        )  # fmt: skip

    def _stored(self, data: bytes) -> tuple[WPath | None, str]:
        """The folder of the store in which the very settings lie, and their maker's name for them."""
        store = self._windows.child("System32", "DriverStore", "FileRepository")
        for name in sorted(self._files.names(store)):
            found = STORED.fullmatch(name)
            file = store.child(name, found["name"]) if found else None
            look = self._files.look(file) if file is not None else None
            if found and file is not None and look is not None and look.size == len(data) and self._files.read(file, MOST) == data:
                return store.child(name), found["name"]
        return None, ""

    def _set_up(self) -> Iterator[tuple[str, str, str, KeyRef]]:
        """(title, settings file, class, key) of every driver that is set up for a device."""
        for top in self._registry.canonical(CLASSES):
            for class_ in self._registry.subkeys(top):
                for number in self._registry.subkeys(top.child(class_)):
                    key = top.child(class_).child(number)
                    if inf := self._registry.text(key, "InfPath"):
                        yield self._registry.text(key, "DriverDesc"), inf, class_, key

    def _devices(self, inf: str) -> Iterator[Device]:
        set_up = {fold(f"{class_}\\{key.parts[-1]}"): (title, key) for title, of, class_, key in self._set_up() if fold(of) == fold(inf)}
        if not set_up:
            return
        for key, instance in self._known():
            driver = fold(self._registry.text(key, "Driver"))
            if driver in set_up:
                title, of = set_up[driver]
                name = self._registry.text(key, "FriendlyName") or self._registry.text(key, "DeviceDesc").rpartition(";")[2] or title
                yield Device(instance, name, (key, of))

    def _known(self) -> Iterator[tuple[KeyRef, str]]:
        """Every device that the system has ever known: bus, model, copy."""
        for top in self._registry.canonical(DEVICES):
            for bus in self._registry.subkeys(top):
                for model in self._registry.subkeys(top.child(bus)):
                    for copy in self._registry.subkeys(top.child(bus).child(model)):
                        yield top.child(bus).child(model).child(copy), f"{bus}\\{model}\\{copy}"


class SimulatedDrivers:
    """Implements `DriverControl` on files and a registry that belong to nobody else.

    Args:
        connected: the devices that are plugged in now: what they use goes only with the restart.
    """

    knows_devices = False

    def __init__(self, registry: Registry, files: FileTree, windows: WPath, connected: Callable[[], list[str]] = list) -> None:
        self._registry, self._files, self._windows, self._connected = registry, files, windows, connected

    def remove_device(self, instance: str) -> bool:
        for key in self._registry.canonical(f"{DEVICES}\\{instance}"):
            driver = self._registry.text(key, "Driver")
            for of in self._registry.canonical(f"{CLASSES}\\{driver}") if driver else []:
                self._registry.delete_tree(of)
            self._registry.delete_tree(key)
        self._registry.api.flush()
        return fold(instance) in map(fold, self._connected())

    def remove_package(self, inf: str) -> bool:
        drivers = WindowsDrivers(self._registry, self._files, self._windows, self)
        for package in (p for p in drivers.all() if fold(p.inf) == fold(inf)):
            for path in (package.folder, package.file, package.file.parent.child(inf[:-4] + ".PNF")):
                if path is not None and self._files.look(path) is not None:
                    with self._files.parent(path) as (folder, name):
                        folder.delete_tree(name, lambda items: None)
        return False

    def add_package(self, file: str) -> bool:
        return False  # its files and keys are back, and nothing else knows of it


def _bare(text: str) -> str:
    """A value without the remark behind it, and without its quotes."""
    quoted = re.match(r'"([^"]*)"', text.strip())
    return quoted[1] if quoted else text.partition(";")[0].strip()
