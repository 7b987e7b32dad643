"""Saving the settings of drivers: on Windows a driver is registered beside the services, with a key of its own."""

from collections.abc import Iterator
from typing import Annotated

from msgspec import Meta

from kleff.errors import ActionFailed
from kleff.objects.base.action import ABSENT, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.services.kind import SERVICES
from kleff.procedure.globs import name_matches
from kleff.procedure.loaded import LoadedStep
from kleff.procedure.model import SavingStep, Text
from kleff.registry.registry import KeyRef
from kleff.workstation.identity import key_id
from kleff.workstation.windows.services import START

DRIVERS = (1, 2)  # Type of a kernel driver and of a file system driver (CreateService, Windows documentation)


class DriverBackup(SavingStep, kw_only=True, frozen=True):
    """Save how drivers are set: their start, their key with all below it."""

    driver: Annotated[Text, Meta(description="name or title of the driver; * and ? are wildcards")]


class SavedDrivers:
    """What saving does of the kind `driver`."""

    def _found(self, model: DriverBackup, here: Here) -> Iterator[tuple[KeyRef, str, str]]:
        """(key, name, start) of each that is meant."""
        registry = here.workstation.registry
        for top in registry.canonical(SERVICES) if registry else []:
            for name in registry.subkeys(top) if registry else []:
                key = top.child(name)
                kind, start = (registry.value(key, n) if registry else None for n in ("Type", "Start"))
                title = registry.text(key, "DisplayName") if registry else ""
                if kind is not None and kind.number in DRIVERS and any(name_matches(model.driver, t, True) for t in (name, title)):
                    yield key, title or name, START.get(start.number, "manual") if start and start.number is not None else "manual"

    def plan(self, model: DriverBackup, step: LoadedStep, here: Here) -> Iterator[Action]:
        found = False
        for key, title, start in self._found(model, here):
            found = True
            action = here.action(step, "save", f"driver {title}", items=1, undo="stays in the bag", about=[key_id(key)])
            action.shows = [f"starts: {start}"]
            yield action
        if not found:
            reason = "not registered" if here.workstation.registry else "this workstation keeps no drivers in a registry"
            yield here.action(step, "save", f"driver {model.driver}", state=ABSENT, reason=reason, nowhere=here.workstation.drivers is None)

    def do(self, action: Action, model: DriverBackup, work: Work) -> Outcome:
        (key, _), registry = action.key(), work.here.workstation.registry
        tree = registry.tree(key) if registry else None
        if tree is None:
            raise ActionFailed(f"{action.target} was there at the preview and is gone", remedy="resume with --skip")
        start = next((s for k, _, s in self._found(model, work.here) if k == key), "")
        item = work.item(action, "driver", name=key.parts[-1], settings={"start": start})
        work.bag.add_keys(action.number, item, [(key, tree)])
        return Outcome(items=1, note=f"starts: {start}")
