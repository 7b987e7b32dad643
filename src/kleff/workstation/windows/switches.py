"""The switch that the system keeps beside what starts with a session: a value of the same name, whose first byte tells whether it is on.

Its keys and bytes are not documented; they are what a Windows writes when somebody switches a start off in its task list: twelve bytes,
the first even for "on" and odd for "off".
"""

from __future__ import annotations

from collections.abc import Iterator

from kleff.procedure.globs import fold
from kleff.registry.registry import KeyRef, Registry
from kleff.registry.values import RegValue

SWITCHES = r"Software\Microsoft\Windows\CurrentVersion\Explorer\StartupApproved"
OF_VALUES, OF_VALUES_32, OF_FILES = "Run", "Run32", "StartupFolder"


def switch_key(registry: Registry, sid: str, of: str) -> KeyRef | None:
    """The key of the switches of an account ("" for the machine's): of its values, its 32-bit values, or its files."""
    root = "HKCU" if sid else "HKLM"
    return next(iter(registry.canonical(f"{root}\\{SWITCHES}\\{of}", sid, 64 if not sid else None)), None)


def switch_of(registry: Registry, sid: str, of: str, name: str) -> tuple[KeyRef, RegValue] | None:
    """The switch of one start; None if it has none."""
    key = switch_key(registry, sid, of)
    value = registry.value(key, name) if key is not None else None
    return (key, value) if key is not None and value is not None else None


def switches(registry: Registry, sid: str) -> Iterator[tuple[str, KeyRef, RegValue]]:
    """(what they switch, key, value) of all switches of an account, or of the machine."""
    for of in (OF_VALUES, OF_VALUES_32, OF_FILES):
        key = switch_key(registry, sid, of)
        if key is not None:
            for value in registry.values(key):
                yield of, key, value


def is_off(value: RegValue) -> bool:
    """Whether a switch is off."""
    return bool(value.raw) and bool(value.raw[0] & 1)


def same_start(name: str, other: str) -> bool:
    """Whether two names mean one start."""
    return fold(name) == fold(other)
