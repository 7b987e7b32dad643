"""Noting, before a removal, which places have to do with a product: what services, programs and configuration lead to."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from kleff.errors import LinkOnTheWay
from kleff.objects.base.here import Here
from kleff.objects.base.unreadable import seems_there
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef
from kleff.workstation.paths import WPath
from kleff.workstation.things import Process

if TYPE_CHECKING:
    from kleff.case.record.beforehand import Beforehand, How

LARGEST = 1 << 18  # bytes of a configuration file that are read
# A path as it stands in a text: with a drive or from the root, up to what no path goes on with.
PATHS = {"windows": re.compile(r"[A-Za-z]:\\[^\"'<>|*?;,=\r\n\t]+"), "linux": re.compile(r"(?<![\w.:/])/[\w.+@-][^\s\"'<>|*?;,=:()]*")}
# A key as it stands in a text, and the short names of hives (Windows registry, "Predefined keys").
KEYS = re.compile(r"\b(HKLM|HKCU|HKU|HKCR|HKEY_[A-Z_]+)\\([^\"'<>|*?;,=\r\n\t]+)")
HIVES = {"HKEY_LOCAL_MACHINE": "HKLM", "HKEY_CURRENT_USER": "HKCU", "HKEY_USERS": "HKU", "HKEY_CLASSES_ROOT": "HKCR"}
# Folders of everybody: what lies there itself tells nothing of a product.
COMMON = ("/dev", "/proc", "/sys", "/run", "/usr/lib", "/usr/share/locale", "/lib")


def note_services(pattern: str, here: Here, noted: Beforehand) -> None:
    """The same for every service whose name matches a pattern."""
    facet = here.workstation.services
    for service in facet.like(pattern) if facet is not None else []:
        note_service(service.name, here, noted)


def note_service(name: str, here: Here, noted: Beforehand) -> None:
    """What defines a service, what it runs, its folders, and what it has open."""
    facet, processes, files = here.workstation.services, here.workstation.processes, here.workstation.files
    if facet is None or facet.get(name) is None:
        return
    parts = facet.parts(name)
    found: list[tuple[How, Sequence[str]]] = [("defines", parts.definitions), ("run by", parts.programs), ("data of", parts.folders)]
    for how, texts in found:
        for text in texts:
            noted.add(files.path(text), how, f"service {name}")
    for text in parts.definitions:
        note_named(files.path(text), here, noted)
    if processes is not None:
        note_opened([p for p in processes.all() if processes.service_of(p) == name], here, noted)


def note_opened(running: Sequence[Process], here: Here, noted: Beforehand) -> None:
    """What programs have open, without what is everybody's."""
    facet, files = here.workstation.processes, here.workstation.files
    for process in running if facet is not None else []:
        assert facet is not None
        for text in facet.opened(process):
            path = files.path(text)
            if path is not None and not _common(text) and _is_there(path, here):
                noted.add(path, "open in", process.name)


def note_named(file: WPath | None, here: Here, noted: Beforehand) -> None:
    """What a file names of paths that are there."""
    files = here.workstation.files
    for path in _named(file, here) if file is not None else []:
        if files.look(files.resolve(path).path) is not None:
            noted.add(path, "named in", str(file))


def note_values(name: str, tree: RegKey, here: Here, noted: Beforehand) -> None:
    """What the values of a key, and of all below it, name of paths that are there."""
    for value in tree.values.values():
        for path in _paths(value.text, here):
            if _is_there(path, here):
                noted.add(path, "named in", name)
    for below in tree.keys.values():
        note_values(f"{name}\\{below.name}", below, here, noted)


def _named(file: WPath, here: Here) -> Iterator[WPath]:
    files = here.workstation.files
    file = files.resolve(file).path
    look = files.look(file)
    if look is None or not look.is_file or look.size > LARGEST:
        return
    try:
        text = files.read(file).decode("utf-8", "surrogateescape")
    except OSError:
        return
    yield from _paths(text, here)


def _texts(text: str, here: Here) -> list[str]:
    return list(dict.fromkeys(PATHS[here.workstation.system].findall(text)))


def _paths(text: str, here: Here) -> Iterator[WPath]:
    files = here.workstation.files
    for found in _texts(text, here):
        path = files.path(found.rstrip("./ \\")) if not _common(found) else None
        if path is not None and len(path.parts) > 1:
            yield path


def paths_in(text: str, here: Here) -> Iterator[WPath]:
    """What a program names, in words of its own, of paths that are there. A path may have spaces, so that words may follow it."""
    files = here.workstation.files
    for found in _texts(text, here):
        candidates = [found]
        while " " in candidates[-1].rpartition("\\")[2]:
            candidates.append(candidates[-1].rpartition(" ")[0])
        paths = (files.path(c.rstrip("./ \\")) for c in candidates if not _common(c))
        there = next((p for p in paths if p is not None and p.parts and _is_there(p, here)), None)
        if there is not None:
            yield there


def _is_there(path: WPath, here: Here) -> bool:
    """Whether there is anything; what cannot be looked at may be."""
    files = here.workstation.files
    try:
        return files.look(files.resolve(path).path) is not None
    except (OSError, LinkOnTheWay):
        return True


def keys_in(text: str, here: Here) -> Iterator[KeyRef]:
    """The same of registry keys."""
    registry = here.workstation.registry
    for found in dict.fromkeys(KEYS.findall(text)) if registry is not None else []:
        assert registry is not None
        candidates = [f"{HIVES.get(found[0], found[0])}\\{found[1]}".rstrip(".\\ ")]
        while " " in candidates[-1].rpartition("\\")[2]:
            candidates.append(candidates[-1].rpartition(" ")[0])
        for candidate in candidates:
            keys = [k for k in _canonical(candidate, here) if seems_there(registry, k)]
            if keys:
                yield from keys
                break


def _canonical(text: str, here: Here) -> list[KeyRef]:
    """A key as it is written; one of "the current user" of every account, since nobody knows whose it was."""
    registry = here.workstation.registry
    assert registry is not None
    if text.startswith("HKCU\\"):
        return [k for a in here.resolver.accounts([]) for k in registry.canonical(text, a.id)]
    return registry.canonical(text)


def _common(text: str) -> bool:
    return any(text == top or text.startswith(f"{top}/") for top in COMMON)
