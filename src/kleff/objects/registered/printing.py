"""Print queues that a product has made, with the port that nobody else prints to."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta

from kleff.objects.base.here import Here
from kleff.objects.base.staging import Stage, shown_as
from kleff.objects.registered.found import Found, RegisteredKind, Sort, too_short
from kleff.procedure.globs import fold, name_matches
from kleff.procedure.model import Step, Text
from kleff.procedure.texts import Problem
from kleff.registry.registry import KeyRef, Registry

QUEUES = r"HKLM\SYSTEM\CurrentControlSet\Control\Print\Printers"
PORTS = r"HKLM\SYSTEM\CurrentControlSet\Control\Print\Monitors\Standard TCP/IP Port\Ports"


class _Queue(Step, kw_only=True, frozen=True):
    print_queue: Annotated[Text, Meta(description="its name; * and ? are wildcards")]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if wrong := too_short(self.print_queue):
            yield ("print_queue",), wrong


class QueueDelete(_Queue, kw_only=True, frozen=True):
    """Delete a print queue, and its port if no other queue prints to it; the spooler knows of both until it is started anew."""

    at_most: Annotated[int, Meta(ge=1, description="how many queues")] = 10


class QueueVerify(_Queue, kw_only=True, frozen=True):
    """Print queues that must be gone."""


def _stage(model: _Queue, stage: Stage) -> None:
    stage.key(rf"{QUEUES}\{shown_as(model.print_queue)}", {"Port": "10.0.0.250"})
    stage.key(rf"{PORTS}\10.0.0.250", {"HostName": "10.0.0.250"})


def _find(model: _Queue, registry: Registry, here: Here) -> Iterator[Found]:
    for top in registry.canonical(QUEUES):
        names = registry.subkeys(top)
        ports = {name: registry.text(top.child(name), "Port") for name in names}
        staying = {fold(port) for name, port in ports.items() if not name_matches(model.print_queue, name, True)}
        for name in (n for n in names if name_matches(model.print_queue, n, True)):
            port = _port(ports[name], registry) if fold(ports[name]) not in staying else None
            told = f"prints to {ports[name] or 'no port'}"
            told += ", which goes too" if port is not None else ", which stays" if ports[name] else ""
            yield Found(name, keys=(top.child(name), *([port] if port is not None else [])), shows=(told,))


def _port(name: str, registry: Registry) -> KeyRef | None:
    """The key of a port that somebody has made; the system's own are none."""
    keys = [key.child(name) for key in registry.canonical(PORTS)] if name else []
    return next((key for key in keys if registry.exists(key)), None)


QUEUE = Sort("print_queue", ("print queue", "print queues"), QueueDelete, QueueVerify, _find, _stage)


KINDS = (RegisteredKind(QUEUE),)
