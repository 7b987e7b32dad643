"""Packages of the package manager: removed or purged for real, their configuration files saved first."""

from collections.abc import Iterator
from typing import TYPE_CHECKING

from msgspec import Struct

from kleff.case.aside.spare_plan import SparePlan
from kleff.case.guard.kept import Kept
from kleff.errors import ActionFailed
from kleff.objects.base.action import ABSENT, KEPT, REFUSED, Action, Outcome, Sighting
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Claimed, Kind, Words
from kleff.objects.base.noting import note_named, note_services
from kleff.objects.base.own import pattern_objection, refuse, refuse_own, where, width_objection
from kleff.objects.packages.along import came_along as named_along
from kleff.objects.packages.along import goes_too
from kleff.objects.packages.choosing import (
    SYSTEM_S_OWN,
    agreed,
    allowed,
    bare,
    came_along,
    last_purge,
    leaving,
    leaving_before,
    let_go,
    matching,
    needing,
    only_came_along,
    with_parts,
)
from kleff.objects.packages.steps import PackageEvidence, PackagePurge, Packages, PackageVerify
from kleff.objects.spare_contents import named_by_scripts, package_plan, spare_line
from kleff.procedure.globs import name_matches
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.texts import plural, size
from kleff.workstation.identity import NameId
from kleff.workstation.things import Package, PackageRecord

if TYPE_CHECKING:
    from kleff.case.record.beforehand import Beforehand


class Agreed(Struct, kw_only=True):
    """The packages that were agreed on, by name."""

    names: list[str]


LATER = "apt-get autoremove --purge"
NOT_SAID = "nothing says that they go:  --came-along these  takes them too"


class PackageKind(Kind):
    """`package`."""

    names = ("package",)
    systems = ("linux",)
    condition = "A package that must, or must not, be there."
    models = {"evidence": PackageEvidence, "purge": PackagePurge, "verify": PackageVerify}

    def words(self, phase: str) -> Words:
        return Words("Uninstalled", ("package", "packages"), sized=True)

    def look(self, step: StepOf[Packages], here: Here) -> Iterator[Sighting]:
        for package in matching(step.model, here, purge=True):
            if package.state != "installed" and _keeps_configuration(package, here):
                continue
            where = package.title if package.state == "installed" else "removed; its configuration stayed"
            yield Sighting(
                kind="package", what=package.name, about=_id(package), version=package.version, where=where, line=step.line,
                in_range=here.version_in_range(package.version, " ".join(step.model.names)), component=True,
            )  # fmt: skip

    def plan(self, step: StepOf[Packages], here: Here) -> Iterator[Action]:
        model = step.model
        purge = not isinstance(model, PackagePurge) or model.mode == "purge"
        verb = ("purge" if purge else "remove") if step.phase == "purge" else "look for"
        found = matching(model, here, purge)
        if not found:
            reason = "not installed" if here.workstation.packages else "the workstation has no packages"
            yield here.action(step, verb, ", ".join(model.names), state=ABSENT, reason=reason, nowhere=not here.workstation.packages)
        outside = [p for p in found if not here.version_in_range(p.version, " ".join(model.names))]
        for package in outside:
            yield here.action(
                step, verb, f"{package.name} {package.version}", about=[_id(package)], state=KEPT,
                reason=f"version {package.version} is outside {here.procedure.product.versions}",
            )  # fmt: skip
        found = [p for p in found if p not in outside]
        if not found:
            return
        if not isinstance(model, PackagePurge):
            yield self._about(step, here, verb, found)
            return
        found, parts = with_parts(found, here)
        earlier = leaving_before(step, here)
        others = [p for p in needing(found, here) if p.name not in earlier]
        with_them = [p for p in others if allowed(model, p) or only_came_along(p, found, here)]
        action = self._planned(step, model, here, verb, [*with_them, *found], [p for p in others if p not in with_them])
        action.shows += [f"{name} stands for {', '.join(of)}" for name, of in parts.items()]
        goes_too(action, [bare(p.name) for p in with_them])
        yield action
        if last_purge(step, here):
            yield from self._along(step, here, verb)

    def _about(self, step: LoadedStep, here: Here, verb: str, found: list[Package]) -> Action:
        action = here.action(step, verb, ", ".join(f"{p.name} {p.version}" for p in found), items=len(found), about=[_id(p) for p in found])
        action.size = sum(p.installed_size for p in found if p.state == "installed")
        action.set_details(Agreed(names=[p.name for p in found]))
        return action

    def _along(self, step: LoadedStep, here: Here, verb: str) -> Iterator[Action]:
        """What came along: gone with the rest if somebody says so, else told."""
        along = came_along(here)
        if not along.packages:
            return
        action = self._about(step, here, verb, along.packages)
        named_along(action, said=True, of="them")
        if along.going:
            self._taken_back(action, here, along.packages)
        else:
            action.keep(NOT_SAID)
            action.offers = f"{plural(len(along.packages), 'package')} that came along, {size(along.size)}"
            action.later_by = LATER
        yield action

    def _planned(self, step: LoadedStep, model: PackagePurge, here: Here, verb: str, found: list[Package], others: list[Package]) -> Action:
        """What a step purges; `others` need it and may not go."""
        packages = here.workstation.packages
        assert packages is not None
        action = self._about(step, here, verb, found)
        names = [bare(p.name) for p in found]
        for pattern in model.names:
            matched = sum(name_matches(pattern, name, False) for name in names)
            wide = matched > model.at_most if model.narrowed else True
            refuse(action, width_objection("" if model.narrowed else pattern, matched, model.at_most) if wide else "")
        if action.state != REFUSED:
            refuse_own(action, here, "package", names)
        important = [p.name for p in found if p.priority in SYSTEM_S_OWN]
        if important and action.state != REFUSED:
            action.state, action.reason = REFUSED, f"{', '.join(important)}: part of the system itself"
        held = [p.name for p in found if p.held and not model.even_if_held]
        if held and action.state != REFUSED:
            refuse(action, f"{', '.join(held)}: put on hold by an administrator; the step may say  even_if_held = true")
        if action.state == REFUSED:
            return action
        essential = [p.name for p in found if p.essential]
        if essential:
            action.state, action.reason = REFUSED, f"{', '.join(essential)}: the system cannot do without it"
            return action
        if others:
            listed = ", ".join(bare(p.name) for p in others)
            need, them = ("needs", "it") if len(others) == 1 else ("need", "them")
            return refuse(action, f"{listed} {need} it and would go too; name {them}, or let {them} go:  allows = [...]")
        purge = model.mode == "purge"
        objection = packages.objection([*(p.name for p in found), *sorted(leaving_before(step, here) - {p.name for p in found})], purge)
        if objection:
            action.state, action.reason = REFUSED, f"the package manager says: {objection}"
            return action
        self._taken_back(action, here, found)
        return action

    def _taken_back(self, action: Action, here: Here, found: list[Package]) -> None:
        """How it is taken back, and what is saved for that."""
        packages = here.workstation.packages
        assert packages is not None
        if here.options.spare == "off":
            action.without_return, action.undo = True, "cannot be taken back: the package manager does it"
        else:
            action.undo = "installed again from the spare, without network"
            action.shows.append(spare_line(here, package_plan(here, [packages.record(p.name) for p in found])))
        self._tell_of_scripts(here, found, action)
        conffiles = sum(len(p.config_files) for p in found)
        if conffiles:
            action.shows.append(f"saves {plural(conffiles, 'configuration file')} first")
            if action.verb == "remove":
                action.shows.append(f"its configuration stays: the next installation goes on with {'it' if conffiles == 1 else 'them'}")
        told = settings_told([packages.record(p.name) for p in found])
        action.shows += [f"saved with it: {told}"] if told else []

    def _tell_of_scripts(self, here: Here, found: list[Package], action: Action) -> None:
        """What the packages' own scripts name, and others need."""
        packages = here.workstation.packages
        assert packages is not None
        for place in named_by_scripts(here, [packages.record(p.name) for p in found]):
            others = [path for path, _ in here.workstation.files.walk(place) if here.guard.keeps(path)]
            if not others:
                continue
            things = f"{plural(len(others), 'thing')} of others {'is' if len(others) == 1 else 'are'}"
            action.shows.append(f"its own script names {place}, where {things}: put back after it")
            if here.options.spare == "off":
                action.state, action.reason = (
                    REFUSED,
                    f"its own script names {place}, where {things}; without a spare they cannot be put back",
                )

    def do(self, action: Action, step: StepOf[PackagePurge], work: Work) -> Outcome:
        model = step.model
        packages = work.here.workstation.packages
        purge = model.mode == "purge"
        wanted = action.details_as(Agreed).names
        found = agreed(wanted, work.here, purge)
        from kleff.case.effects.packages.package_removed import PackageRemoved, after_cut_off, after_removal, earlier_try, remove_packages

        if not found or packages is None:
            return Outcome(note="; ".join(n for n in ("already gone", *after_cut_off(work.hands, action.number)) if n))

        names, here, before = [p.name for p in found], work.here, work.beforehand
        what = ", ".join(f"{p.name} {p.version}" for p in found)
        files = 0 if earlier_try(work.hands, action.number) else self._save_configuration(found, work)
        effect = PackageRemoved(what_=what, names=names, purge=purge, configuration=files)

        def planned() -> tuple[list[PackageRecord], SparePlan]:
            recorded = {p.name: before.package(p.name, p.version) for p in found} if before is not None else {}
            records = [recorded.get(name) or packages.record(name) for name in names]
            return records, package_plan(here, records)

        one = remove_packages(work.hands, action.number, effect, None if here.options.spare == "off" else planned)
        left = [p.name for p in agreed(wanted, work.here, purge)]
        if left:
            raise ActionFailed(
                f"still there after the package manager ended: {', '.join(left)}", remedy=f"read {work.hands.case.output(one.id)}"
            )
        let_go(here, before)
        notes = [f"{plural(files, 'configuration file')} saved first"] if files else []
        notes += after_removal(work.hands, one)
        return Outcome(
            items=len(found),
            note="; ".join(notes),
            size=sum(p.installed_size for p in found if p.state == "installed"),
        )

    def note(self, step: LoadedStep, here: Here, noted: "Beforehand") -> None:
        """Its lists, scripts and services; what its configuration and its services name."""
        packages = here.workstation.packages
        if packages is None or not isinstance(step.model, PackagePurge):
            return
        going, files = leaving([step], here), here.workstation.files
        for package in packages.all():
            if package.name not in going or noted.package(package.name, package.version) is not None:
                continue
            record = packages.record(package.name)
            noted.packages.append(record)
            for text in package.config_files:
                note_named(files.path(text), here, noted)
            for pattern in record.service_patterns:
                note_services(pattern, here, noted)

    def always_refused(self, step: LoadedStep, here: Here) -> Iterator[str]:
        for pattern in step.model.names if isinstance(step.model, PackagePurge) else ():
            own = here.guard.check_name("package", pattern)
            narrowed = isinstance(step.model, PackagePurge) and step.model.narrowed
            if why := ("" if narrowed else pattern_objection(pattern)) or own.reason:
                yield f"package {pattern}: {why}; name the product's own packages"

    def needs_rights(self, action: Action, here: Here) -> bool:
        return True

    def keep(self, steps: list[LoadedStep], here: Here, claimed: Claimed) -> Kept:
        """What packages that stay own of what is claimed, or named by the scripts of those that go: their own paths, and folders that are
        theirs alone with all that lies in them, since the package manager knows folders, not data.
        """
        kept, packages = Kept(), here.workstation.packages
        if packages is None:
            return kept
        removed = leaving(steps, here)
        named = named_by_scripts(here, [packages.record(name) for name in sorted(removed)])
        places = list({path.key: path for path in (*(target.path for target, _ in claimed.targets), *named)}.values())
        going = {name.partition(":")[0] for name in removed}
        for text, owners in (packages.owners(places) if places else {}).items():
            staying = sorted({o for o in owners if o.partition(":")[0] not in going})
            path = here.workstation.files.path(text)
            if not staying or path is None:
                continue
            reason = f"it belongs to the package {', '.join(staying)}, which stays"
            look = here.workstation.files.look(path)
            alone = len(staying) == len(set(owners)) and not any(s.holds(path) for s in claimed.shared)
            if look is not None and look.is_folder and alone and not here.guard.is_shared(path):
                kept.places.append((path, f"{reason}, with what lies in it"))
                kept.owned.add(path.key)
            else:
                kept.single[path.key] = reason
        return kept

    def claims(self, step: LoadedStep, here: Here) -> Claimed:
        """The files of what goes; their folders may be others' too."""
        packages = here.workstation.packages
        if packages is None or not isinstance(step.model, PackagePurge):
            return Claimed()
        texts = [lies for name in leaving([step], here) for _, lies in packages.record(name).paths]
        return Claimed(files=[path for text in texts if (path := where(text, here)) is not None])

    def _save_configuration(self, found: list[Package], work: Work) -> int:
        """Save what the package manager will delete of an administrator's own settings; into `undo/`."""
        from kleff.case.bag.archive import MemberSource, write_archive

        files = work.here.workstation.files
        paths = [files.path(text) for package in found for text in package.config_files]
        present = [p for p in (files.resolve(p).path for p in paths if p) if files.look(p) is not None]
        if not present:
            return 0
        name = f"{work.hands.case.journal.next_effect():04d}-configuration.tar.zst"
        target = work.hands.case.folder / "undo" / name
        target.unlink(missing_ok=True)  # of a try that was killed before its intent
        write_archive(target, [MemberSource(p) for p in present], files, work.here.workstation.admin, work.progress)
        return len(present)


def _keeps_configuration(package: Package, here: Here) -> bool:
    """Whether a step only removes it, so that its configuration is to stay."""
    models = [s.model for s in here.procedure.phase("purge") if isinstance(s.model, PackagePurge) and not here.not_wanted(s.model)]
    return any(m.mode == "remove" and any(name_matches(n, bare(package.name), False) for n in m.names) for m in models)


def settings_told(records: list[PackageRecord]) -> str:
    """What is saved of packages besides their files, for the preview."""
    parts = (
        (sum(len(r.answers) for r in records), ("answer to its questions", "answers to its questions")),
        (sum(len(r.overrides) for r in records), ("owner set by an administrator", "owners set by an administrator")),
        (sum(len(r.chosen) for r in records), ("alternative chosen by hand", "alternatives chosen by hand")),
        (sum(len(r.diverted) for r in records), ("diversion", "diversions")),
        (
            sum(len(r.registered) for r in records),
            ("file that its scripts have registered", "files that its scripts have registered"),
        ),
    )
    return ", ".join(plural(count, *words) for count, words in parts if count)


def _id(package: Package) -> NameId:
    return NameId("package", package.name)


KINDS = (PackageKind(),)
