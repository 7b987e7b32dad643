"""What a spare is made of: the product's places and keys, as the procedure and the product's own registration name them."""

import json
import re
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from kleff.case.aside.spare_plan import COPIED_UP_TO, SparePlan
from kleff.case.guard.guard import Target
from kleff.errors import ActionFailed, LinkOnTheWay
from kleff.objects.base import Scene
from kleff.objects.keys import KeyDelete, KeyVerify, ValueDelete, meant_keys
from kleff.objects.paths import PathsDelete, found_paths
from kleff.objects.services import ServiceStop, ServiceVerify
from kleff.registry.registry import KeyRef
from kleff.texts import plain, plural, size
from kleff.workstation.common.posix import write_atomic
from kleff.workstation.facets import Entry, PackageRecord
from kleff.workstation.paths import Look, WPath

if TYPE_CHECKING:
    from kleff.case.effects import Hands
    from kleff.case.record.journal import Effect

NAMED_PATH = re.compile(r"(?<![\w./$}])/(?:etc|var|srv|opt|usr/local)/[\w.+@~-]+(?:/[\w.+@~-]+)*")
SERVICES = r"HKLM\SYSTEM\CurrentControlSet\Services"


def spare_places(scene: Scene, entry: Entry) -> list[WPath]:
    """The topmost places of the product that are there and that the guard lets be touched."""
    return _topmost(scene, _targets(scene, entry.location))


def _topmost(scene: Scene, targets: Iterable[Target]) -> list[WPath]:
    found = {t.path.key: t.path for t in targets if scene.guard.check(t).ok}
    paths: list[WPath] = []
    for path in sorted(found.values(), key=lambda p: p.key):
        if not paths or not path.below(paths[-1]):
            paths.append(path)
    return paths


def package_plan(scene: Scene, records: list[PackageRecord]) -> SparePlan:
    """What packages take along: their files one by one, the folders that are theirs alone, what their scripts and the
    procedure name, with all below.
    """
    listed = dict(_listed(scene, records))
    folders = [path for path, look in listed.values() if look.is_folder]
    going = {r.name.partition(":")[0] for r in records}
    owners = scene.workstation.packages.owners(folders, below=False) if scene.workstation.packages and folders else {}
    own = [p for p in folders if all(n.partition(":")[0] in going for n in owners.get(str(p), ["?"]))]
    named = [_exact(path) for path in own] + [_exact(path) for path in _named_by_scripts(scene, records)]
    places = _topmost(scene, [*named, *_targets(scene, "")])
    own_keys = {p.key for p in own}
    singles = [
        path for path, look in listed.values()
        if (not look.is_folder or path.key in own_keys) and not any(place.holds(path) for place in places)
    ]  # fmt: skip
    return SparePlan(places=places, singles=singles, full=scene.spare == "full")


def _exact(path: WPath) -> Target:
    return Target(path, len(path.parts), len(path.name))


def _listed(scene: Scene, records: list[PackageRecord]) -> Iterator[tuple[object, tuple[WPath, Look]]]:
    """Paths of the packages and their configuration files that are there, links on the way resolved."""
    files = scene.workstation.files
    for record in records:
        for text in (*(lies for _, lies in record.paths), *(c.path for c in record.config_files)):
            path = files.path(text)
            try:
                path = files.resolve(path).path if path is not None and path.parts else None
                look = files.look(path) if path is not None else None
            except (OSError, LinkOnTheWay):
                continue
            if path is not None and look is not None:
                yield path.key, (path, look)


def _named_by_scripts(scene: Scene, records: list[PackageRecord]) -> Iterator[WPath]:
    """Absolute paths that the scripts which run at a removal name, as far as they are there."""
    files = scene.workstation.files
    texts = {m.rstrip("/.") for r in records for n in ("prerm", "postrm") for m in NAMED_PATH.findall(r.members.get(n, ""))}
    for text in sorted(texts):
        path = files.path(text)
        try:
            if path is not None and files.look(files.resolve(path).path) is not None:
                yield files.resolve(path).path
        except (OSError, LinkOnTheWay):
            continue


def _targets(scene: Scene, registered: str) -> Iterator[Target]:
    files = scene.workstation.files
    location = files.path(registered) if registered else None
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
                        for path in found_paths(expanded, scene, step.model.at_most):
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


def spare_line(scene: Scene, plan: SparePlan) -> str:
    """What a spare will take, for the preview."""
    limit = -1 if plan.full else COPIED_UP_TO
    files: dict[tuple[int, int], int] = {}  # by identity: second names need nothing
    for place in plan.places:
        files.update((look.identity, look.size) for _, look in scene.workstation.files.walk(place) if look.is_file)
    for path in plan.singles:
        look = scene.workstation.files.look(path)
        if look is not None and look.is_file:
            files[look.identity] = look.size
    linked, copied = (sum(s for s in files.values() if (s > limit and not plan.full) == wanted) for wanted in (True, False))
    keys = f", {plural(len(plan.keys), 'key')} with what is below" if scene.workstation.registry is not None else ""
    return f"spare taken first: {plural(len(files), 'file')}, {size(linked)} linked, {size(copied)} copied{keys}"


def no_spare(error: OSError, so: str) -> ActionFailed:
    """A spare that could not be taken, as an error for a person."""
    return ActionFailed(
        f"no spare could be taken: {plain(str(error.filename or ''))} {error.strerror}; {so}",
        remedy="make room, or run without one: --spare off",
    )


def record_difference(hands: "Hands", effect: "Effect") -> str:
    """What an outside program did to what is in the spare, in words; kept whole in the case."""
    from kleff.case.effects import spare_of

    if not effect.data.get("index"):
        return ""
    found = spare_of(hands, effect.id).difference(str(effect.data["index"]))
    text = json.dumps(
        {"removed": found.removed, "changed": found.changed, "keys_removed": found.keys_removed, "gone": found.gone}, indent=1
    )
    write_atomic(hands.case.folder / "undo" / f"{effect.id:04d}-difference.json", text.encode())
    return f"it {found.text}"
