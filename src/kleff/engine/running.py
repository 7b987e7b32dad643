"""What of a product still runs, or would be started again: its programs, wherever these are now, its services and units."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from kleff.case.guard.guard import AREA
from kleff.engine.finding import LEFT, Finding
from kleff.objects.base.action import Action
from kleff.objects.base.here import Here
from kleff.objects.base.own import own_places, where
from kleff.workstation.identity import NameId
from kleff.workstation.paths import WPath
from kleff.workstation.programs.interpreters import script_of
from kleff.workstation.things import Process


@dataclass(frozen=True)
class Brought:
    """What a product consisted of when its case began.

    Attributes:
        places: folders and programs of its own.
        files: the keys of the paths of the packages that the case removes.
        units: (pattern of the names, package) of the services these have brought; a template stands for its instances.
        case: the case's id; what runs from its set-aside area is of the product.
    """

    places: list[WPath] = field(default_factory=list)
    files: frozenset[tuple[str, tuple[str, ...]]] = frozenset()
    units: list[tuple[str, str]] = field(default_factory=list)
    case: str = ""


def still_running(here: Here, actions: Sequence[Action], brought: Brought) -> Iterator[Finding]:
    """Nothing is asked of the system where nothing could be the product's."""
    places = [*own_places(here, actions), *brought.places]
    if places or brought.files or brought.case:
        yield from _programs(here, places, brought)
    yield from _units(here, brought)
    if places:
        yield from _services(here, places)


def _is_own(text: str, here: Here, places: Sequence[WPath], brought: Brought) -> bool:
    path = where(text, here)
    if path is None or here.guard.stays(path):
        return False
    aside = bool(brought.case) and any(pair == (AREA, brought.case) for pair in zip(path.parts, path.parts[1:], strict=False))
    return aside or path.key in brought.files or any(place.holds(path) for place in places)


def program_id(process: Process) -> NameId:
    return NameId("process", process.name, str(process.pid))


def _programs(here: Here, places: Sequence[WPath], brought: Brought) -> Iterator[Finding]:
    facet = here.workstation.processes
    protected = facet.protected() if facet else set()
    for process in facet.all() if facet else []:
        runs = (process.path, script_of(process, here.workstation.style))
        own = next((path for path in runs if path and _is_own(path, here, places, brought)), "")
        if own and process.pid not in protected:
            yield Finding(
                state=LEFT, kind="process", target=f"program {process.name}, number {process.pid}", about=[program_id(process)],
                reason=f"it runs still, from {own}", phase="stop", account=process.account,
            )  # fmt: skip


def _services(here: Here, places: Sequence[WPath]) -> Iterator[Finding]:
    """Registered for a program of the product, whether that is still there or not."""
    facet = here.workstation.services
    for name, programs in facet.programs().items() if facet else ():
        own = next((p for p in programs if _is_own(p, here, places, Brought())), None)
        if own is not None:
            yield _service(name, f"it is registered still, for {own}")


def _units(here: Here, brought: Brought) -> Iterator[Finding]:
    """Of packages that went: what runs on, and what is defined still."""
    facet, packages, files = here.workstation.services, here.workstation.packages, here.workstation.files
    if facet is None:
        return
    for pattern, package in brought.units:
        for service in facet.like(pattern):
            paths = [p for text in facet.parts(service.name).definitions if (p := where(text, here)) and files.look(p) is not None]
            if packages is not None and paths and packages.owners(paths, below=False):
                continue  # another package, which stays, has brought one of that name
            if service.running or paths:
                yield _service(
                    service.name, f"{'it runs still' if service.running else 'it is defined still'}, and {package} has brought it"
                )


def _service(name: str, reason: str) -> Finding:
    return Finding(state=LEFT, kind="service", target=f"service {name}", about=[NameId("service", name)], reason=reason, phase="stop")
