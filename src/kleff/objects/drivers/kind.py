"""Drivers that came with a product: found by what their settings say, removed with the devices they work for."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Annotated

from msgspec import Meta, Struct, field

from kleff.case.aside.spare_plan import SparePlan
from kleff.errors import ActionFailed
from kleff.objects.base.action import ABSENT, REFUSED, UNREADABLE, Action, Outcome, Sighting
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind, Words
from kleff.objects.base.own import AT_MOST, AtMost
from kleff.objects.base.restoring import ShownOnly
from kleff.objects.base.staging import Stage, shown_as
from kleff.objects.base.unreadable import why
from kleff.objects.drivers.saving import DriverBackup, SavedDrivers
from kleff.procedure.globs import is_glob, literal_count, name_matches
from kleff.procedure.loaded import StepOf
from kleff.procedure.model import Step, Text
from kleff.workstation.driver_facet import DriverPackage
from kleff.workstation.identity import NameId

LETTERS = 4
SHOWN = 5  # neighbours that a preview names
SYSTEM_S = ("Microsoft", "Microsoft Corporation", "Windows")


class _Driver(Step, kw_only=True, frozen=True):
    driver: Annotated[
        Text, Meta(description="its maker's name for it (bwkprobe.inf), or the title of a device it works for; * and ? are wildcards")
    ]
    provider: Annotated[str, Meta(description="who provides it, as its settings say; * and ? are wildcards")] = ""
    class_: Annotated[str, Meta(description="what sort of devices it is for, as its settings say, e.g. Ports")] = field(
        name="class", default=""
    )

    def meant(self, package: DriverPackage) -> bool:
        """Whether it is one of these."""
        names = (package.original, package.original.rpartition(".")[0], *(d.title for d in package.devices))
        return (
            any(name_matches(self.driver, name, True) for name in names if name)
            and (not self.provider or name_matches(self.provider, package.provider, True))
            and (not self.class_ or name_matches(self.class_, package.class_, True))
        )


class DriverEvidence(_Driver, kw_only=True, frozen=True):
    """A driver that is there only with the product."""


class DriverUninstall(_Driver, kw_only=True, frozen=True):
    """Remove a driver that was added: the devices it works for first, then its package from the system's store."""

    at_most: AtMost = AT_MOST

    @property
    def too_wide(self) -> str:
        """Why its name means too much; "" if it does not. Drivers are named after their maker by three letters, often no more."""
        letters = 3 if literal_count(self.provider) >= LETTERS else LETTERS
        wrong = is_glob(self.driver) and literal_count(self.driver) < letters
        more = "" if self.provider else ", or three and its provider"
        return f"a name with a wildcard must have at least {letters} letters besides wildcards and ending{more}" if wrong else ""


class DriverVerify(_Driver, kw_only=True, frozen=True):
    """A driver that must be gone."""


class Removed(Struct, kw_only=True):
    """The package of an action."""

    inf: str


SAVED = SavedDrivers()


class DriverKind(ShownOnly, Kind):
    """`driver`."""

    names = ("driver",)
    systems = ("windows",)
    condition = "A driver that must, or must not, be there."
    models: dict[str, type[Step]] = {
        "evidence": DriverEvidence, "backup": DriverBackup, "uninstall": DriverUninstall, "verify": DriverVerify,
    }  # fmt: skip

    def stage(self, step: StepOf[Step], stage: Stage) -> None:
        model = step.model
        if isinstance(model, _Driver | DriverBackup):
            name = shown_as(model.driver)
            inf = name.rpartition(".")[0] if name.endswith(".inf") else re.sub(r"\W", "", name)[:8].lower() or "sample"
            provider = shown_as(model.provider) if isinstance(model, _Driver) and model.provider else ""
            rows = stage.tables.setdefault("driver", [])
            known = [r for r in rows if any(name_matches(model.driver, n, True) for n in (r["name"], f"{r['name']}.inf", r["title"]))]
            for row in known:
                row["provider"] = provider or row["provider"]
            if not known:
                title = f"Sample device of {inf}" if name.endswith(".inf") else name
                rows.append({"name": inf, "provider": provider or "Sample", "title": title})

    def words(self, phase: str) -> Words:
        return Words("Drivers removed" if phase == "uninstall" else "Looked for" if phase == "verify" else "Saved in the bag")

    def look(self, step: StepOf[_Driver], here: Here) -> Iterator[Sighting]:
        for package in found(step.model, here):
            about = NameId("driver", package.inf, package.provider)
            yield Sighting(kind="driver", what=package.title, about=about, version=package.version, where=package.original, line=step.line)

    def plan(self, step: StepOf[_Driver | DriverBackup], here: Here) -> Iterator[Action]:
        model = step.model
        if isinstance(model, DriverBackup):
            yield from SAVED.plan(model, step, here)
            return
        verb = "remove" if step.phase == "uninstall" else "look for"
        try:
            packages = found(model, here)
        except OSError as error:
            yield here.action(step, verb, f"driver {model.driver}", state=UNREADABLE, reason=why(error))
            return
        for package in packages:
            action = here.action(step, verb, f"driver {package.title}", items=1, about=[NameId("driver", package.inf, package.provider)])
            action.shows = [f"{package.original or package.inf} by {package.provider}, {package.class_}, version {package.version}"]
            if isinstance(model, DriverUninstall):
                self._planned(model, package, len(packages), action, here)
            yield action
        if not packages:
            reason = "no such driver" if here.workstation.drivers is not None else "this workstation has no store of drivers"
            yield here.action(step, verb, f"driver {model.driver}", state=ABSENT, reason=reason, nowhere=here.workstation.drivers is None)

    def _planned(self, model: DriverUninstall, package: DriverPackage, count: int, action: Action, here: Here) -> None:
        drivers = here.workstation.drivers
        assert drivers is not None
        action.undo = "brought back from the spare"
        action.set_details(Removed(inf=package.inf))
        action.shows += [f"its device goes first: {d.title} ({d.instance})" for d in package.devices]
        kept = drivers.neighbours(package)
        action.shows += [f"stays, of the same sort: {name}" for name in kept[:SHOWN]]
        action.shows += [f"and {len(kept) - SHOWN} more stay"] if len(kept) > SHOWN else []
        wide = model.too_wide or (f"it matches {count}, more than at_most = {model.at_most}" if count > model.at_most else "")
        if wide or any(name_matches(f"{own}*", package.provider, True) for own in SYSTEM_S):
            action.judged(REFUSED, wide or f"{package.provider} provides it: it is the system's own", "name the product's own driver")

    def do(self, action: Action, step: StepOf[DriverUninstall | DriverBackup], work: Work) -> Outcome:
        model = step.model
        if isinstance(model, DriverBackup):
            return SAVED.do(action, model, work)
        from kleff.case.effects.driver_removed import remove_driver

        inf = action.details_as(Removed).inf
        package = next((p for p in found(model, work.here) if p.inf == inf), None)
        if package is None:
            return Outcome(note="already gone")
        if any(name_matches(f"{own}*", package.provider, True) for own in SYSTEM_S):
            raise ActionFailed(f"{inf} is another driver by now, by {package.provider}", remedy="look at it; then resume")
        restart = remove_driver(work.hands, action.number, package, spare_of_driver(package, work.here))
        return Outcome(items=1, restart=restart, note="asks for a restart" if restart else "")

    def always_refused(self, step: StepOf[Step], here: Here) -> Iterator[str]:
        model = step.model
        if isinstance(model, DriverUninstall) and (objection := model.too_wide):
            yield f"driver {model.driver}: {objection}"

    def needs_rights(self, action: Action, here: Here) -> bool:
        return action.phase == "uninstall"


def found(model: _Driver, here: Here) -> list[DriverPackage]:
    """The packages that a step means.

    Raises:
        OSError: they cannot be looked at.
    """
    return [p for p in here.workstation.drivers.all() if model.meant(p)] if here.workstation.drivers is not None else []


def spare_of_driver(package: DriverPackage, here: Here) -> SparePlan:
    """What is needed to have it back."""
    files, drivers = here.workstation.files, here.workstation.drivers
    settings = (package.file, package.file.parent.child(package.inf[:-4] + ".PNF"))
    places = [p for p in (package.folder, *settings) if p is not None and files.look(p) is not None]
    keys = [key for device in package.devices for key in device.keys] if drivers is not None and not drivers.control.knows_devices else []
    return SparePlan(places=places, keys=keys, full=here.options.spare == "full")


KINDS = (DriverKind(),)
