"""Saving the settings of drivers: on Windows a driver is registered beside the services, with a key of its own."""

from collections.abc import Iterator
from typing import Annotated

from msgspec import Meta

from kleff.errors import ActionFailed
from kleff.objects.base import ABSENT, Action, Offers, Outcome, Scene, Work
from kleff.procedure.globs import name_matches
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import SavingStep, Text
from kleff.registry.registry import KeyRef, unpack_key
from kleff.texts import plain
from kleff.workstation.windows.services import START

SERVICES = r"HKLM\SYSTEM\CurrentControlSet\Services"
DRIVERS = (1, 2)  # Type of a kernel driver and of a file system driver (CreateService, Windows documentation)


class DriverBackup(SavingStep, kw_only=True, frozen=True):
    """Save how drivers are set: their start, their key with all below it."""

    driver: Annotated[Text, Meta(description="name or title of the driver; * and ? are wildcards")]


class DriverKind(Offers):
    """`driver`."""

    models = {"backup": DriverBackup}

    def _found(self, step: LoadedStep, scene: Scene) -> Iterator[tuple[KeyRef, str, str]]:
        """(key, name, start) of each that is meant."""
        assert isinstance(step.model, DriverBackup)
        registry = scene.workstation.registry
        for top in registry.canonical(SERVICES) if registry else []:
            for name in registry.subkeys(top) if registry else []:
                key = top.child(name)
                kind, start = (registry.value(key, n) if registry else None for n in ("Type", "Start"))
                title = registry.text(key, "DisplayName") if registry else ""
                if kind is not None and kind.number in DRIVERS and any(name_matches(step.model.driver, t, True) for t in (name, title)):
                    yield key, title or name, START.get(start.number, "manual") if start and start.number is not None else "manual"

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        assert isinstance(step.model, DriverBackup)
        found = False
        for key, title, start in self._found(step, scene):
            found = True
            action = scene.action(step, "save", plain(f"driver {title}"), items=1, undo="stays in the bag", details=key.packed)
            action.shows = [f"starts: {start}"]
            yield action
        if not found:
            reason = "not registered" if scene.workstation.registry else "this workstation keeps no drivers in a registry"
            yield scene.action(step, "save", plain(f"driver {step.model.driver}"), state=ABSENT, reason=reason)

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        key, registry = unpack_key(action.details), work.scene.workstation.registry
        tree = registry.tree(key) if registry else None
        if tree is None:
            raise ActionFailed(f"{action.target} was there at the preview and is gone", remedy="resume with --skip")
        start = next((s for k, _, s in self._found(step, work.scene) if k == key), "")
        item = work.item(action, "driver", name=key.parts[-1], settings={"start": start})
        work.bag.add_keys(action.number, item, [(key, tree)])
        return Outcome(items=1, note=f"starts: {start}")
