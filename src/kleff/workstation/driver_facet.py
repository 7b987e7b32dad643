"""Drivers that were added to a workstation: packages in its store, and the devices that use them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from kleff.registry.registry import KeyRef
from kleff.workstation.paths import WPath


@dataclass(frozen=True)
class Device:
    """A device that a driver works for.

    Attributes:
        instance: the name by which the system knows it; title: for people.
        keys: what the registry knows of it and of how its driver is set.
    """

    instance: str
    title: str
    keys: tuple[KeyRef, ...] = ()


@dataclass(frozen=True)
class DriverPackage:
    """A driver in the system's store.

    Attributes:
        inf: the name it got there, e.g. oem12.inf; original: its maker's name for it, "" if that cannot be told.
        class_: what sort of devices it is for; class_id: the number of that.
        file: of its settings; catalog: its signature; folder: in the store, if that is found.
    """

    inf: str
    original: str
    provider: str
    version: str
    class_: str
    class_id: str
    file: WPath
    catalog: WPath | None = None
    folder: WPath | None = None
    devices: tuple[Device, ...] = ()

    @property
    def title(self) -> str:
        """What a person calls it: its devices' name, else its maker's name for it."""
        return self.devices[0].title if self.devices else self.original or self.inf


class DriverControl(Protocol):
    """What a system does with drivers itself; its lowest layer.

    Attributes:
        knows_devices: it alone writes what is known of devices, and sets them up anew when a driver is back.
    """

    knows_devices: bool

    def remove_device(self, instance: str) -> bool:
        """Done twice is done once. True if it is over only with the restart.

        Raises:
            OSError: the system says no.
        """

    def remove_package(self, inf: str) -> bool:
        """The same of a package in the store, and of what it was unpacked to."""

    def add_package(self, file: str) -> bool:
        """The inverse, once its files are back. Args: file: its settings, in the store."""


class Drivers(Protocol):
    """The drivers that were added; what came with the system is not among them."""

    control: DriverControl

    def all(self) -> list[DriverPackage]:
        """Every package, with its devices.

        Raises:
            OSError: they cannot be looked at.
        """

    def neighbours(self, package: DriverPackage) -> list[str]:
        """Other devices of the same class with the package they use, for people: they stay."""
