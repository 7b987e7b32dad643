"""Products registered as installed, and what removes them."""

from collections.abc import Iterator
from typing import TYPE_CHECKING

import msgspec

from kleff.case.guard.kept import Kept
from kleff.errors import Refused
from kleff.objects.base.action import ABSENT, MANUAL, UNREADABLE, Action, Outcome, Sighting
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Claimed, Kind
from kleff.objects.base.staging import Stage
from kleff.objects.commands.steps import CommandUninstall
from kleff.objects.entries import refusing, without
from kleff.objects.entries.matching import going, matching, pattern_of, seen_to, shown_by, still_there
from kleff.objects.entries.steps import (
    CachedUninstall,
    EntryEvidence,
    EntryUninstall,
    EntryVerify,
    ProductUninstall,
    Removing,
    VendorEvidence,
    VendorUninstall,
)
from kleff.objects.entries.ways import WITHOUT, Way, ways_of
from kleff.objects.spare_contents import entry_plan, spare_line
from kleff.procedure.globs import fold, literal_count
from kleff.procedure.loaded import LoadedStep, StepOf, steps_of
from kleff.texts import plural, size
from kleff.workstation.identity import NameId, covers, key_id, sameness
from kleff.workstation.paths import WPath
from kleff.workstation.things import CommandLine, Entry

if TYPE_CHECKING:
    from kleff.case.record.beforehand import Beforehand

NOT_LOOKED_AT = "it cannot be looked at: what is registered for this account is in use"


class Registered(msgspec.Struct, kw_only=True):
    """What an action knows of a product whose registration may be gone by the time it is done."""

    name: str = ""
    location: str = ""
    code: str = ""
    package: str = ""
    quiet: list[str] = []
    line: str = ""


def _unread(here: Here) -> list[str]:
    return here.workstation.entries.unread() if here.workstation.entries else []


class RegisteredKind(Kind):
    """A registered product, however a step names it."""

    systems = ("windows",)

    def stage(self, step: LoadedStep, stage: Stage) -> None:
        from kleff.objects.entries.rehearsing import put_product

        put_product(step, stage)

    def look(self, step: LoadedStep, here: Here) -> Iterator[Sighting]:
        pattern = pattern_of(step.model)
        for account in _unread(here):
            what = f"{pattern} ({NOT_LOOKED_AT})"
            yield Sighting(kind="entry", what=what, account=account, line=step.line, unreadable=True, component=True)
        for entry in matching(step.model, here):
            yield Sighting(
                kind="entry", what=entry.name, about=entry.id, version=entry.version,
                where=entry.location or entry.registered_at, facts=_facts(entry), account=entry.account,
                line=step.line, in_range=here.version_in_range(entry.version, pattern), component=True,
            )  # fmt: skip

    def plan(self, step: LoadedStep, here: Here) -> Iterator[Action]:
        verb = "uninstall" if step.phase == "uninstall" else "look for"
        pattern, found = pattern_of(step.model), matching(step.model, here)
        for account in _unread(here):
            yield here.action(step, verb, pattern, account=account, state=UNREADABLE, reason=NOT_LOOKED_AT)
        if not found:
            reason = "not registered" if here.workstation.entries else "this system registers packages, not products"
            yield here.action(step, verb, pattern, state=ABSENT, reason=reason, nowhere=not here.workstation.entries)
        for entry in found:
            target = entry.name if entry.version in entry.name else f"{entry.name} ({entry.version})"
            action = here.action(step, verb, target, about=[entry.id], account=entry.account, version=entry.version, component=entry.name)
            action.because += f", registered at {entry.registered_at}"
            before = seen_to(entry, step, here) if isinstance(step.model, Removing) else 0
            if before:
                action.state, action.reason = ABSENT, f"the step at line {before} sees to it"
            elif not here.version_in_range(entry.version, pattern):
                version = f"version {entry.version}" if entry.version else "its version is unknown and"
                action.keep(f"{version} is outside {here.procedure.product.versions}")
            elif isinstance(step.model, Removing):
                self._planned(step, step.model, entry, here, action)
            yield action

    def _planned(self, step: LoadedStep, model: Removing, entry: Entry, here: Here, action: Action) -> None:
        action.items = 1
        action.set_details(Registered(
            name=entry.name, location=entry.location, code=entry.product_code, package=entry.package,
            quiet=list(entry.quiet.words) if entry.quiet else [], line=entry.quiet.line if entry.quiet else "",
        ))  # fmt: skip
        ways = ways_of(model, entry, here)
        action.shows.append(_facts(entry, commands=False))
        action.brief = _brief(entry, ways)
        self._show(action, model, ways, here)
        usable = [way for way in ways if not way.objection]
        if not usable:
            action.state, action.reason = MANUAL, ways[0].objection
        elif not usable[0].command:
            action.verb = "remove"
            without.plan(action, entry, step, here)
        elif here.options.spare == "off":
            action.without_return, action.undo = True, "cannot be taken back: an outside program does it"
        else:
            spare = entry_plan(here, entry)
            action.undo, action.without_return = "brought back from the spare", not spare.places
            action.shows.append(spare_line(here, spare))
            if not spare.places:
                action.undo = "no folder of it is known, so none is brought back: name it in a [[delete]] step"
        if entry.package:
            action.shows.append(f"its package goes too once it is gone: {entry.package}")
        refusing.plan(action, model, step, here)

    def _show(self, action: Action, model: Removing, ways: list[Way], here: Here) -> None:
        for number, way in enumerate(ways):
            lead = "runs: " if not number else "if that fails, which is harsher: "
            action.shows += [f"{lead}{way.text}{f' ({way.objection})' if way.objection else ''}"] if way.command or number else []
            action.shows += [way.told] if way.told else []
            action.attended = action.attended or way.attended
        action.shows += [f"a person answers its window: {line}" for line in model.guide]

    def needs_rights(self, action: Action, here: Here) -> bool:
        return True

    def advice(self, step: LoadedStep) -> list[str]:
        model = step.model
        if not isinstance(model, EntryUninstall):
            return []
        told = [] if model.publisher else ["names no publisher: another maker's product of the same name would match"]
        if not literal_count(model.entry):
            told.append(f"entry = '{model.entry}' means every product of that maker; name the product, or  versions  in [product]")
        return told

    def claims(self, step: StepOf[Removing], here: Here) -> Claimed:
        if not isinstance(step.model, Removing):
            return Claimed()
        places = [here.workstation.files.path(e.location) for e in going(step, here) if e.location]
        return Claimed(folders=[p for p in places if p is not None and p.parts])

    def needs(self, step: StepOf[Removing], here: Here) -> Iterator[tuple[WPath, str]]:
        """Its uninstallers, its cached package, and the package it would be repaired from."""
        model, files = step.model, here.workstation.files
        if not isinstance(model, Removing):
            return
        for entry in going(step, here):
            for way in ways_of(model, entry, here):
                if way.command and (program := files.path(way.command[0])) is not None:
                    yield program, f"which uninstalls {entry.name}"
            for text, what in (
                (entry.program.program if entry.program else "", f"the uninstaller of {entry.name}"),
                (entry.package, "its cached package"),
            ):
                if text and (path := files.path(text)) is not None:
                    yield path, what
            if model.source and (source := here.resolver.first_path(model.source)) is not None:
                yield source, f"from which {entry.name} can be repaired"

    def note(self, step: StepOf[Removing], here: Here, noted: "Beforehand") -> None:
        """Where it is installed, and the program that removes it."""
        files = here.workstation.files
        for entry in going(step, here):
            noted.add(files.path(entry.location) if entry.location else None, "installed in", entry.name)
            if entry.quiet and not entry.product_code:  # else it is the system's own installer
                noted.add(files.path(entry.quiet.program), "uninstalls", entry.name)

    def do(self, action: Action, step: StepOf[Removing], work: Work) -> Outcome:
        from kleff.objects.entries.packages import package_goes
        from kleff.objects.entries.removing import removal

        known = action.details_as(Registered)
        entry = _entry(action, step, work.here)
        stood = entry or Entry(
            name=known.name or action.component, version=action.version, publisher="", id=action.about[0], registered_at="",
            quiet=CommandLine(tuple(known.quiet), known.line) if known.quiet else None, registered="", location=known.location,
            account=action.account, product_code=known.code, package=known.package,
        )  # fmt: skip
        outcome = removal(action, step, work, entry, stood).run()
        return package_goes(outcome, action, stood, work) if known.package else outcome


class EntryKind(RegisteredKind):
    """`entry`."""

    names = ("entry",)
    condition = "A registered product that must, or must not, be there."
    models = {"evidence": EntryEvidence, "uninstall": EntryUninstall, "verify": EntryVerify}

    def keep(self, steps: list[LoadedStep], here: Here, claimed: Claimed) -> Kept:
        """Folders of registered products that are not uninstalled, and the packages of what the installer has installed."""
        entries = here.workstation.entries
        if entries is None:
            return Kept()
        try:
            return self._kept(steps, here, claimed, entries.all())
        except OSError as error:  # without knowing what stays, nothing may go
            raise Refused(
                f"what is installed cannot be told: {error.strerror or error}",
                where=here.workstation.spec,
                remedy="run Kleff as administrator",
            ) from None

    def _kept(self, steps: list[LoadedStep], here: Here, claimed: Claimed, registered: list[Entry]) -> Kept:
        kept = Kept()
        style, removing = here.workstation.style, steps_of(steps, Removing)
        leaving = [entry for step in removing for entry in going(step, here)]
        if any(isinstance(step.model, CommandUninstall) for step in steps):  # what a removal tool removes is what shows the product
            leaving += [entry for step in here.procedure.evidence for entry in shown_by(step, here)]
        gone = {sameness(entry.id, style) for entry in leaving}
        # One whose registration a step deletes goes too, also without its uninstaller.
        deleted = [key_id(key) for key in claimed.keys]
        gone |= {sameness(e.id, style) for e in registered if any(covers(key, e.id, style) for key in deleted)}
        for entry in registered:
            place = here.workstation.files.path(entry.location) if entry.location and sameness(entry.id, style) not in gone else None
            if place is not None and place.parts:
                name = entry.name if entry.version in entry.name else f"{entry.name} {entry.version}"
                kept.places.append((place, f"it belongs to {name}, which stays"))
        codes = {fold(entry.product_code) for entry in leaving}
        for product in here.workstation.installs.products() if here.workstation.installs else []:
            package = here.workstation.files.path(product.package) if product.package and fold(product.code) not in codes else None
            if package is not None:
                kept.places.append((package, f"the installer needs it for {product.name or product.code}, which stays"))
        return kept


class VendorKind(RegisteredKind):
    """`publisher`."""

    names = ("publisher",)
    condition = "Anything that a vendor has registered, which must, or must not, be there."
    models = {"evidence": VendorEvidence, "uninstall": VendorUninstall}


class ProductKind(RegisteredKind):
    """`product_code`."""

    names = ("product_code",)
    models = {"uninstall": ProductUninstall}


class CachedKind(RegisteredKind):
    """`cached_package`."""

    names = ("cached_package",)
    models = {"uninstall": CachedUninstall}


def _brief(entry: Entry, ways: list[Way]) -> str:
    """What a person should have read before she agrees."""
    facts = [f"by {entry.publisher}"] if entry.publisher else ["no publisher is registered"]
    facts += [size(entry.size)] if entry.size else []
    usable = [way for way in ways if not way.objection]
    facts += [f"runs {way.text}" if way.command else WITHOUT for way in usable[:1]]
    facts += [told for way in usable[:1] if way.command and (told := way.told.partition(":")[0])]
    facts += [f"{plural(len(usable) - 1, 'harsher way')} if that fails"] if len(usable) > 1 else []
    return ", ".join(facts)


def _facts(entry: Entry, commands: bool = True) -> str:
    """What a person should know of a registered product, in a line."""
    runs = entry.quiet.text if entry.quiet else entry.registered
    facts = [f"by {entry.publisher}"] if entry.publisher else []
    facts += [size(entry.size)] if entry.size else []
    facts += [f"registered at {entry.registered_at}"] if entry.location or not commands else []  # else that is where it is
    facts += [f"removed by {runs}" if runs else "no command is registered"] if commands else []
    return ", ".join(facts)


def _entry(action: Action, step: LoadedStep, here: Here) -> Entry | None:
    """The product as it is now; None if it is gone."""
    style = here.workstation.style
    wanted = sameness(action.about[0], style)
    found = next((e for e in matching(step.model, here) if sameness(e.id, style) == wanted), None)
    return found if found is not None and (not isinstance(found.id, NameId) or still_there(found, here)) else None


KINDS = (EntryKind(), VendorKind(), ProductKind(), CachedKind())
