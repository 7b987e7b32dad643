"""Packages of the package manager: removed or purged for real, their configuration files saved first."""

from base64 import b64encode
from collections.abc import Iterator
from typing import TYPE_CHECKING, Annotated, Any, Literal

from msgspec import Meta

from kleff.case.effect_names import PACKAGE
from kleff.errors import ActionFailed
from kleff.objects.base import ABSENT, KEPT, REFUSED, Action, Offers, Outcome, Scene, Sighting, Work
from kleff.objects.spares import no_spare, package_plan, record_difference, spare_line
from kleff.procedure.globs import name_matches
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import Step, Text, Texts
from kleff.texts import plain, plural
from kleff.workstation.facets import Package, Packages

if TYPE_CHECKING:
    from kleff.case.record.journal import Effect

Names = Annotated[Text | Texts, Meta(description="name or names of packages; * and ? are wildcards")]


class _Package(Step, kw_only=True, frozen=True):
    package: Names

    @property
    def names(self) -> list[str]:
        return [self.package] if isinstance(self.package, str) else self.package


class PackageEvidence(_Package, kw_only=True, frozen=True):
    """A package that is installed."""


class PackagePurge(_Package, kw_only=True, frozen=True):
    """Remove packages, by default with their configuration."""

    mode: Annotated[Literal["purge", "remove"], Meta(description="remove leaves the configuration files")] = "purge"


class PackageVerify(_Package, kw_only=True, frozen=True):
    """Packages that must be gone."""


def matching(model: _Package, scene: Scene, purge: bool) -> list[Package]:
    """The packages a step means; those of which only the configuration is left count for a purge."""
    packages = scene.workstation.packages
    found = packages.all() if packages else []
    return [
        p for p in found if (purge or p.state == "installed") and any(name_matches(n, p.name.partition(":")[0], False) for n in model.names)
    ]


def leaving(steps: list[LoadedStep], scene: Scene) -> set[str]:
    """The packages the procedure removes, which therefore own nothing that must stay."""
    names = set()
    for step in steps:
        if isinstance(step.model, PackagePurge):
            found = matching(step.model, scene, purge=True)
            names |= {p.name for p in found if scene.version_in_range(p.version, " ".join(step.model.names))}
    return names


class PackageKind(Offers):
    """`package`."""

    models = {"evidence": PackageEvidence, "purge": PackagePurge, "verify": PackageVerify}

    def look(self, step: LoadedStep, scene: Scene) -> Iterator[Sighting]:
        assert isinstance(step.model, _Package)
        for package in matching(step.model, scene, purge=False):
            yield Sighting(
                kind="package", what=package.name, version=package.version, where=plain(package.title), line=step.line,
                in_range=scene.version_in_range(package.version, " ".join(step.model.names)),
            )  # fmt: skip

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        model = step.model
        assert isinstance(model, _Package)
        purge = getattr(model, "mode", "purge") == "purge"
        verb = ("purge" if purge else "remove") if step.phase == "purge" else "look for"
        found = matching(model, scene, purge)
        if not found:
            reason = "not installed" if scene.workstation.packages else "the workstation has no packages"
            yield scene.action(step, verb, ", ".join(model.names), state=ABSENT, reason=reason)
        outside = [p for p in found if not scene.version_in_range(p.version, " ".join(model.names))]
        for package in outside:
            yield scene.action(
                step, verb, f"{package.name} {package.version}", state=KEPT,
                reason=f"version {package.version} is outside {scene.procedure.product.versions}",
            )  # fmt: skip
        found = [p for p in found if p not in outside]
        if found:
            yield self._planned(step, scene, verb, purge, found)

    def _planned(self, step: LoadedStep, scene: Scene, verb: str, purge: bool, found: list[Package]) -> Action:
        packages = scene.workstation.packages
        assert packages is not None
        action = scene.action(step, verb, ", ".join(f"{p.name} {p.version}" for p in found), items=len(found))
        action.size = sum(p.installed_size for p in found if p.state == "installed")
        action.details = {"names": [p.name for p in found]}
        if step.phase == "verify":
            return action
        essential = [p.name for p in found if p.essential]
        if essential:
            action.state, action.reason = REFUSED, f"{', '.join(essential)}: the system cannot do without it"
            return action
        objection = packages.objection([p.name for p in found], purge)
        if objection:
            action.state, action.reason = REFUSED, f"the package manager says: {plain(objection)}"
            return action
        if scene.spare == "off":
            action.final, action.undo = True, "cannot be taken back: the package manager does it"
        else:
            action.undo = "installed again from the spare, without network"
            action.shows.append(spare_line(scene, package_plan(scene, [packages.record(p.name) for p in found])))
        conffiles = sum(len(p.config_files) for p in found)
        if conffiles:
            action.shows.append(f"saves {plural(conffiles, 'configuration file')} first")
        return action

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        model = step.model
        assert isinstance(model, PackagePurge)
        packages = work.scene.workstation.packages
        purge = model.mode == "purge"
        agreed = set(action.details["names"])
        found = [p for p in matching(model, work.scene, purge) if p.name in agreed]
        if not found or packages is None:
            return Outcome(note="already gone")
        data: dict[str, Any] = {"what": ", ".join(f"{p.name} {p.version}" for p in found), "names": [p.name for p in found], "purge": purge}
        files = self._save_configuration(found, work)
        effect = self._spared(action, packages, {**data, "configuration": files}, work)
        packages.remove([p.name for p in found], purge, work.hands.case.output(effect.id))
        left = [p.name for p in matching(model, work.scene, purge) if p.name in agreed]
        if left:
            raise ActionFailed(
                f"still there after the package manager ended: {', '.join(left)}", remedy=f"read {work.hands.case.output(effect.id)}"
            )
        work.hands.done(effect)
        notes = [f"{plural(files, 'configuration file')} saved first"] if files else []
        notes += [told] if (told := record_difference(work.hands, effect)) else []
        return Outcome(
            items=len(found),
            note="; ".join(notes),
            size=sum(p.installed_size for p in found if p.state == "installed"),
        )

    def _spared(self, action: Action, packages: Packages, data: dict[str, Any], work: Work) -> "Effect":
        """The intent, and after it the spare, complete before the package manager is started."""
        from kleff.case.effects import package_spare_of, spare_of

        journal, scene = work.hands.case.journal, work.scene
        if scene.spare == "off":
            return work.hands.intend(action.number, PACKAGE, data)
        # Cut off while the package manager was at work: the spare of that time is whole, what is there now is not.
        before = [e for e in journal.effects(action.number) if e.kind == PACKAGE and e.data.get("index")]
        if before:
            return work.hands.intend(action.number, PACKAGE, {**data, "earlier": before[0].id})
        work.progress.say("     taking a spare of the packages")
        records = [packages.record(name) for name in data["names"]]
        plan = package_plan(scene, records)
        areas = [b64encode(a.raw).decode() for a in spare_of(work.hands, journal.next_effect()).areas(plan)]
        effect = work.hands.intend(action.number, PACKAGE, {**data, "spare": "making", "areas": areas})
        try:
            hashes = package_spare_of(work.hands, effect.id).take(records, plan)
        except OSError as error:
            raise no_spare(error, "nothing was removed") from None
        return journal.amend(effect, spare="made", **hashes)

    def _save_configuration(self, found: list[Package], work: Work) -> int:
        """Save what the package manager will delete of an administrator's own settings; into `undo/`."""
        from kleff.case.bag.archive import Wanted, write_archive

        files = work.scene.workstation.files
        paths = [files.path(text) for package in found for text in package.config_files]
        present = [p for p in (files.resolve(p).path for p in paths if p) if files.look(p) is not None]
        if not present:
            return 0
        name = f"{work.hands.case.journal.next_effect():04d}-configuration.tar.zst"
        target = work.hands.case.folder / "undo" / name
        target.unlink(missing_ok=True)  # of a try that was killed before its intent
        write_archive(target, [Wanted(p) for p in present], files, work.scene.workstation.admin, work.progress)
        return len(present)
