"""Packages of the system that the product's source had replaced by newer ones: changed to what the other sources have."""

from collections.abc import Iterator

from msgspec import Struct

from kleff.case.aside.spare_plan import SparePlan
from kleff.errors import ActionFailed
from kleff.objects.base.action import ABSENT, REFUSED, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind, Words
from kleff.objects.base.own import refuse
from kleff.objects.packages.choosing import bare
from kleff.objects.packages.sources import staying
from kleff.objects.packages.steps import ShadowedPurge
from kleff.objects.spare_contents import package_plan, spare_line
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.procedure.model import Step
from kleff.workstation.identity import NameId
from kleff.workstation.things import Package, PackageRecord


class Change(Struct, kw_only=True):
    """The packages as they were agreed on: the version before and after, by name."""

    versions: dict[str, tuple[str, str]]


class ShadowedKind(Kind):
    """`shadowed_by`."""

    names = ("shadowed_by",)
    systems = ("linux",)
    models: dict[str, type[Step]] = {"purge": ShadowedPurge}

    def words(self, phase: str) -> Words:
        return Words("Changed to another version", ("package", "packages"), removes=False)

    def plan(self, step: StepOf[ShadowedPurge], here: Here) -> Iterator[Action]:
        model, packages = step.model, here.workstation.packages
        found = [p for p in staying(model.shadowed_by, here) if model.means(bare(p.name))]
        others = packages.others_offer(model.shadowed_by, [bare(p.name) for p in found]) if packages else {}
        for package in (p for p in found if bare(p.name) not in others):
            action = here.action(step, "change", f"{package.name} {package.version}", about=[NameId("package", package.name)])
            action.keep("no other source has it")
            yield action
        found = [p for p in found if bare(p.name) in others]
        if found:
            yield self._planned(step, model, here, found, others)
        else:
            reason = "nothing of it stays" if here.workstation.packages else "the workstation has no packages"
            yield here.action(
                step, "change", f"packages of {model.shadowed_by}", state=ABSENT, reason=reason, nowhere=not here.workstation.packages
            )

    def _planned(self, step: LoadedStep, model: ShadowedPurge, here: Here, found: list[Package], others: dict[str, str]) -> Action:
        packages = here.workstation.packages
        assert packages is not None
        versions = {bare(p.name): (p.version, others[bare(p.name)]) for p in found}
        target = ", ".join(f"{name} {before} to {after}" for name, (before, after) in versions.items())
        action = here.action(step, "change", target, items=len(found), about=[NameId("package", p.name) for p in found])
        action.set_details(Change(versions=versions))
        essential = ", ".join(p.name for p in found if p.essential)
        refuse(action, f"{essential}: the system cannot do without it" if essential else "")
        held = ", ".join(p.name for p in found if p.held and not model.even_if_held)
        if held and action.state != REFUSED:
            refuse(action, f"{held}: put on hold by an administrator; the step may say  even_if_held = true")
        if action.state != REFUSED and (why := packages.change_objection({name: after for name, (_, after) in versions.items()})):
            refuse(action, f"apt says: {why}")
        if action.state == REFUSED:
            return action
        if here.options.spare == "off":
            action.without_return, action.undo = True, "cannot be taken back: the package manager does it"
        else:
            action.undo = "changed back from the spare, without network"
            action.shows.append(spare_line(here, package_plan(here, [packages.record(p.name) for p in found])))
        action.shows.append("what they need is downloaded from the other sources")
        return action

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        from kleff.case.effects.packages.package_removed import PackageRemoved, after_cut_off, after_removal, remove_packages

        here, packages = work.here, work.here.workstation.packages
        versions = action.details_as(Change).versions
        now = {bare(p.name): p for p in packages.all()} if packages else {}
        changing = {n: v for n, v in versions.items() if n in now and now[n].version == v[0]}
        broken = [n for n, v in versions.items() if n in now and now[n].broken]  # of a try that was cut off
        if packages is None or not (changing or broken):
            return Outcome(note="; ".join(n for n in ("already changed", *after_cut_off(work.hands, action.number)) if n))
        names = [now[n].name for n in {*changing, *broken}]
        effect = PackageRemoved(
            what_=", ".join(f"{n} {v[0]}" for n, v in versions.items()), names=names, purge=False,
            changed_to={n: v[1] for n, v in versions.items()},
        )  # fmt: skip

        def planned() -> tuple[list[PackageRecord], SparePlan]:
            records = [packages.record(name) for name in names]
            return records, package_plan(here, records)

        one = remove_packages(work.hands, action.number, effect, None if here.options.spare == "off" else planned)
        there = {bare(p.name): p.version for p in packages.all()}
        left = [n for n, (_, after) in versions.items() if there.get(n) != after]
        if left:
            raise ActionFailed(
                f"not changed after the package manager ended: {', '.join(left)}", remedy=f"read {work.hands.case.output(one.id)}"
            )
        return Outcome(items=len(changing), note="; ".join(after_removal(work.hands, one)))

    def needs_rights(self, action: Action, here: Here) -> bool:
        return True


KINDS = (ShadowedKind(),)
