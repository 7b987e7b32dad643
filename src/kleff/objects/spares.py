"""What a spare is made of: the product's places and keys, as the procedure and the product's own registration name them."""

from collections.abc import Iterator

from kleff.case.guard import Target
from kleff.objects.base import Scene
from kleff.objects.keys import KeyDelete, KeyVerify, ValueDelete, meant_keys
from kleff.objects.paths import PathsDelete, found_paths
from kleff.objects.services import ServiceStop, ServiceVerify
from kleff.workstation.common.files import LinkOnTheWay
from kleff.workstation.facets import Entry
from kleff.workstation.paths import WPath
from kleff.workstation.windows.registry import KeyRef

SERVICES = r"HKLM\SYSTEM\CurrentControlSet\Services"


def spare_places(scene: Scene, entry: Entry) -> list[WPath]:
    """The topmost places of the product that are there and that the guard lets be touched."""
    found = {t.path.key: t.path for t in _targets(scene, entry) if scene.guard.check(t).ok}
    paths = sorted(found.values(), key=lambda p: p.key)
    return [p for p in paths if not any(p.below(other) for other in paths)]


def _targets(scene: Scene, entry: Entry) -> Iterator[Target]:
    files = scene.workstation.files
    location = files.path(entry.location) if entry.location else None
    try:
        if location is not None and location.parts and files.look(location) is not None:
            yield Target(location, len(location.parts), len(location.name))
    except OSError:
        pass  # registered by somebody; what cannot be looked at is no place of ours
    for step in scene.procedure.phase("delete"):
        if isinstance(step.model, PathsDelete) and step.model.on in (None, scene.workstation.system):
            for text in step.model.paths:
                for expanded in scene.resolver.expand(text, step.model.accounts):
                    try:
                        for path in found_paths(expanded, scene):
                            if not (step.model.only_if_empty and files.names(path)):
                                yield scene.resolver.target(expanded, path)
                    except (OSError, LinkOnTheWay):
                        continue  # the plan says so where it stands


def spare_keys(scene: Scene, entry: Entry) -> list[KeyRef]:
    """The keys of the product, its entry and its services, that are there."""
    found: dict[object, KeyRef] = {entry.key.key: entry.key}
    registry = scene.workstation.registry
    for step in (*scene.procedure.phase("stop"), *scene.procedure.phase("delete"), *scene.procedure.phase("verify")):
        model = step.model
        if isinstance(model, KeyDelete | KeyVerify):
            found.update((k.key, k) for k, _ in meant_keys(scene, model.key, model.view, model.accounts))
        elif isinstance(model, ServiceStop | ServiceVerify) and registry is not None:
            found.update((k.key, k) for k in registry.canonical(f"{SERVICES}\\{model.service}"))
    return [k for k in found.values() if registry is not None and registry.exists(k)]


def spare_values(scene: Scene) -> list[tuple[KeyRef, str]]:
    """The single values the procedure names that are there."""
    registry = scene.workstation.registry
    found = [
        (key, step.model.value)
        for step in scene.procedure.phase("delete")
        if isinstance(step.model, ValueDelete)
        for key, _ in meant_keys(scene, step.model.in_key, step.model.view, step.model.accounts)
    ]
    return [(key, name) for key, name in found if registry is not None and registry.value(key, name) is not None]
