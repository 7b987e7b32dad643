"""What every service manager has to do."""

from __future__ import annotations

from kleff.registry.regfile import RegKey
from kleff.registry.registry import Registry
from kleff.workstation.windows.contract.checks import Check, expect, refused
from kleff.workstation.windows.services import START, ServiceControl, WindowsServices

NOBODY_S = "kleff no such service"
BY_HAND, DISABLED = 3, 4  # numbers of `START`


class ServicesContract:
    """Args: control: the manager; registry: in which it keeps what it knows; name: of a service that may be started and stopped."""

    def __init__(self, control: ServiceControl, registry: Registry, name: str) -> None:
        self._control = control
        self._registry = registry
        self._name = name

    def checks(self) -> dict[str, Check]:
        return {
            "start and stop": self._start_and_stop,
            "no such service": self._missing,
            "start types": self._types,
            "hold": self._held,
            "gone and back": self._deleted,
        }

    def clear(self) -> None:
        """Leave the service as it was found: stopped, and started by hand."""
        self._control.stop(self._name)
        self._control.set_start(self._name, BY_HAND)

    def _start_and_stop(self) -> None:
        """What was asked for is so when the call is over; done twice is done once."""
        for _ in range(2):
            self._control.start(self._name)
            expect("running", self._control.running(self._name), True)
        for _ in range(2):
            self._control.stop(self._name)
            expect("running", self._control.running(self._name), False)

    def _missing(self) -> None:
        expect("running", self._control.running(NOBODY_S), False)
        refused("starting a service that is not there", lambda: self._control.start(NOBODY_S))

    def _types(self) -> None:
        """What is set is what the manager itself has written."""
        key = self._registry.canonical(r"HKLM\SYSTEM\CurrentControlSet\Services")[0].child(self._name)
        for number in (2, DISABLED, BY_HAND):
            self._control.set_start(self._name, number)
            value = self._registry.value(key, "Start")
            expect(f"start type {START[number]}", value and value.number, number)

    def _deleted(self) -> None:
        """Done twice is done once; made again as its key says, it starts."""
        key = self._registry.canonical(r"HKLM\SYSTEM\CurrentControlSet\Services")[0].child(self._name)
        settings = self._registry.tree(key)
        services = WindowsServices(self._registry, self._control, lambda text: [text])
        self._control.stop(self._name)
        for _ in range(2):
            expect("whether it is gone at once", services.delete(self._name), True)
        expect("its key", self._registry.exists(key), False)
        refused("starting a service that is gone", lambda: self._control.start(self._name))
        services.make(self._name, settings or RegKey(self._name))
        self._control.start(self._name)
        expect("running", self._control.running(self._name), True)
        self._control.stop(self._name)

    def _held(self) -> None:
        """A disabled service starts for nobody, until it is allowed to again; one that runs goes on."""
        self._control.start(self._name)
        self._control.set_start(self._name, DISABLED)
        expect("running", self._control.running(self._name), True)
        self._control.stop(self._name)
        refused("starting a disabled service", lambda: self._control.start(self._name))
        expect("running", self._control.running(self._name), False)
        self._control.set_start(self._name, BY_HAND)
        self._control.start(self._name)
        expect("running", self._control.running(self._name), True)
