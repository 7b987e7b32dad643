"""Services of a Windows workstation: configuration from the registry, control through its lowest layer."""

from __future__ import annotations

import errno
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Protocol

from kleff.procedure.globs import fold, name_matches
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef, Registry
from kleff.registry.values import RegValue, number_value
from kleff.workstation.things import Service, ServiceParts

OWN_PROCESS, MANUAL, NORMAL = 0x10, 3, 1  # where a key says nothing ("CreateServiceW", Windows documentation)
START = {0: "boot", 1: "system", 2: "automatic", 3: "manual", 4: "disabled"}


class ServiceControl(Protocol):
    """The service manager."""

    def running(self, name: str) -> bool: ...

    def stop(self, name: str) -> None: ...

    def start(self, name: str) -> None: ...

    def set_start(self, name: str, start: int) -> None:
        """Set the start type, a number of `START`. The manager keeps its own copy: what is written beside it counts for nothing."""

    def take_out(self, name: str) -> bool: ...

    def make(self, name: str, made: NewService) -> None: ...


@dataclass(frozen=True)
class NewService:
    """What the manager is told of a service that it makes; the numbers are those of its key."""

    title: str
    type: int
    start: int
    error: int
    program: str
    group: str
    needs: tuple[str, ...]
    account: str


class WindowsServices:
    """Args: command: the arguments of a registered command line, as texts."""

    def __init__(self, registry: Registry, control: ServiceControl, command: Callable[[str], list[str]]) -> None:
        self._registry = registry
        self._control = control
        self._command = command

    def _key(self, name: str) -> KeyRef:
        top = self._registry.canonical(r"HKLM\SYSTEM\CurrentControlSet\Services")[0]
        return top.child(name)

    def get(self, name: str) -> Service | None:
        key = self._key(name)
        if "\\" in name or not self._registry.exists(key):
            return None
        start = self._registry.value(key, "Start")
        number = start.number if start else None
        word = START.get(number, "manual") if number is not None else "manual"
        return Service(name, self._control.running(name), word, self._registry.text(key, "DisplayName"))

    def _names(self) -> list[str]:
        return self._registry.subkeys(self._registry.canonical(r"HKLM\SYSTEM\CurrentControlSet\Services")[0])

    def like(self, pattern: str) -> list[Service]:
        return [found for name in self._names() if name_matches(pattern, name, True) and (found := self.get(name)) is not None]

    def programs(self) -> dict[str, tuple[str, ...]]:
        return {name: programs for name in self._names() if (programs := self.parts(name).programs)}

    def parts(self, name: str) -> ServiceParts:
        image = self._registry.text(self._key(name), "ImagePath")
        return ServiceParts(programs=tuple(self._command(image)[:1])) if image else ServiceParts()

    def stop(self, name: str) -> None:
        self._control.stop(name)

    def dependents(self, name: str) -> list[str]:
        top = self._registry.canonical(r"HKLM\SYSTEM\CurrentControlSet\Services")[0]
        needs = {n: self._needs(top.child(n)) for n in self._registry.subkeys(top)}
        order: list[str] = []

        def add(of: str) -> None:
            for other, needed in needs.items():
                if fold(of) in needed and fold(other) not in seen:
                    seen.add(fold(other))
                    add(other)
                    order.append(other)

        seen = {fold(name)}  # services may depend on each other in a ring
        add(name)
        return [n for n in order if self._control.running(n)]

    def _needs(self, key: KeyRef) -> set[str]:
        value = self._registry.value(key, "DependOnService")
        return {fold(text) for text in value.texts} if value else set()

    def hold(self, name: str) -> bool:
        self._set_start(name, "disabled")
        return True

    def delete(self, name: str) -> bool:
        return self._control.take_out(name)

    def make(self, name: str, settings: RegKey) -> None:
        """By the manager; what it does not know of is written beside it."""
        values = dict(settings.values)

        def text(wanted: str) -> str:
            return values[fold(wanted)].text if fold(wanted) in values else ""

        def number(wanted: str, otherwise: int) -> int:
            value = values.get(fold(wanted))
            return otherwise if value is None or value.number is None else value.number

        needs = values.get(fold("DependOnService"))
        if not self._registry.exists(self._key(name)):
            self._control.make(name, NewService(
                text("DisplayName"), number("Type", OWN_PROCESS), number("Start", MANUAL), number("ErrorControl", NORMAL),
                text("ImagePath"), text("Group"), tuple(needs.texts) if needs is not None else (), text("ObjectName"),
            ))  # fmt: skip
        elif fold(self._registry.text(self._key(name), "ImagePath")) not in ("", fold(text("ImagePath"))):
            raise FileExistsError(errno.EEXIST, "another service of that name is there", name)
        marked = fold("DeleteFlag")  # it was to go before Kleff came
        rest = RegKey(settings.name, {folded: value for folded, value in values.items() if folded != marked}, settings.keys)
        self._registry.write_tree(self._key(name), rest)
        self._registry.api.flush()

    def running(self) -> list[str]:
        return [service.name for service in self.like("*") if service.running]

    def forget(self, names: Sequence[str]) -> None: ...

    def release(self, service: Service) -> None:
        now = self.get(service.name)
        if now is not None and now.start == "disabled":
            self._set_start(service.name, service.start)

    def settings(self, service: Service) -> list[tuple[KeyRef, RegValue]]:
        return [(self._key(service.name), number_value("Start", _number(service.start)))]

    def _set_start(self, name: str, start: str) -> None:
        self._control.set_start(name, _number(start))

    def restore(self, service: Service) -> None:
        now = self.get(service.name)
        if now is None:
            return
        if now.start != service.start:
            self._set_start(service.name, service.start)
        if service.running and not now.running:
            self._control.start(service.name)


def _number(start: str) -> int:
    return next(n for n, word in START.items() if word == start)
