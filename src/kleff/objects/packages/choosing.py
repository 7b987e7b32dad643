"""Which packages a procedure means: those that it names, those that need them, those that came along with them."""

import contextlib
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from kleff.case.guard.kept import Kept
from kleff.errors import ActionFailed
from kleff.objects.base.here import Here
from kleff.objects.packages.steps import PackagePurge, Packages
from kleff.objects.paths.steps import found_paths
from kleff.procedure.globs import name_matches
from kleff.procedure.loaded import LoadedStep, StepOf, steps_of
from kleff.workstation.paths import WPath
from kleff.workstation.things import Package

if TYPE_CHECKING:
    from kleff.case.record.beforehand import Beforehand
    from kleff.workstation.package_facet import Packages as PackageFacet

REQUIRED = "required"
SYSTEM_S_OWN = (REQUIRED, "important")  # Debian policy 2.5: without them the system does not work as one expects


@dataclass(frozen=True)
class Along:
    """What came along with the packages that go, and nothing needs once they are gone.

    Attributes:
        wanted: whether they go too: "these", "all" or "none"; "" where nobody has said.
    """

    wanted: str = ""
    packages: list[Package] = field(default_factory=list)

    @property
    def going(self) -> list[Package]:
        return self.packages if self.wanted in ("these", "all") else []

    @property
    def size(self) -> int:
        return sum(p.installed_size for p in self.packages)


def bare(name: str) -> str:
    """A name without its architecture."""
    return name.partition(":")[0]


def matching(model: Packages, here: Here, purge: bool) -> list[Package]:
    """The packages a step names; those of which only the configuration is left count for a purge."""
    packages = here.workstation.packages
    found = packages.all() if packages else []
    found = [p for p in found if (purge or p.state == "installed") and any(name_matches(n, bare(p.name), False) for n in model.names)]
    if model.section:
        found = [p for p in found if name_matches(model.section, p.section, False)]
    if model.from_source and packages:
        offered = packages.offered_by(model.from_source)
        found = [p for p in found if (bare(p.name), p.version) in offered]
    if model.owns and packages:
        paths = [p for e in here.resolver.expand(model.owns) for p in found_paths(e, here)]
        owners = {bare(name) for names in packages.owners(paths).values() for name in names} if paths else set()
        found = [p for p in found if bare(p.name) in owners]
    return found


def with_parts(found: Sequence[Package], here: Here) -> tuple[list[Package], dict[str, list[str]]]:
    """Packages, and those that hold what the ones without content stand for: brought in for them, and needed by nothing else.

    Returns:
        All of them, and the names of its parts for each that stands for others.
    """
    packages = here.workstation.packages
    if packages is None:
        return list(found), {}
    result, told = list(found), dict[str, list[str]]()
    known = {bare(p.name): p for p in packages.all()}
    given = {bare(p.name) for p in result}
    for package in result:  # grows while it is gone through
        parts = packages.stands_for(bare(package.name)) if package.state == "installed" else []
        mine = [known[n] for n in parts if n in known and n not in given and _may_go(known[n], here)]
        mine = [p for p in mine if not (set(packages.would_go([bare(p.name)]) or ()) - given - {bare(m.name) for m in mine})]
        if mine:
            result += mine
            given |= {bare(p.name) for p in mine}
            told[package.name] = [bare(p.name) for p in mine]
    return result, told


def agreed(names: Iterable[str], here: Here, purge: bool) -> list[Package]:
    """Of packages that were agreed on those that are still there."""
    wanted, packages = set(names), here.workstation.packages
    found = packages.all() if packages else []
    return [p for p in found if p.name in wanted and (purge or p.state == "installed")]


def meant(step: StepOf[PackagePurge], here: Here) -> list[Package]:
    """The packages that a purging step names, in the versions the procedure touches."""
    text = " ".join(step.model.names)
    return with_parts([p for p in matching(step.model, here, purge=True) if here.version_in_range(p.version, text)], here)[0]


def needing(found: Sequence[Package], here: Here) -> list[Package]:
    """The packages that need these and would go with them, in chains."""
    packages = here.workstation.packages
    names = [p.name for p in found if p.state == "installed"]
    going = packages.would_go(names) if packages and names else None
    given = {bare(name) for name in names}
    others = {name for name in going or [] if name not in given}
    return [p for p in packages.all() if bare(p.name) in others and p.state == "installed"] if packages and others else []


def allowed(model: PackagePurge, package: Package) -> bool:
    """Whether a step lets a package go that needs those it names."""
    return any(name_matches(pattern, bare(package.name), False) for pattern in model.allows)


def only_came_along(package: Package, going: Sequence[Package], here: Here) -> bool:
    """Whether a package that needs those that go was itself brought in with them, in the same act, and was asked for by nobody."""
    packages = here.workstation.packages
    how = packages.history().get(bare(package.name)) if packages else None
    if packages is None or how is None or not {bare(p.name) for p in going} & set(how.with_):
        return False
    return packages.record(package.name).automatic and _may_go(package, here, brought=True)


def goes_with(model: PackagePurge, going: Sequence[Package], here: Here) -> list[Package]:
    """The packages that need those that go and go with them: a step lets them, or nobody has asked for them."""
    return [p for p in needing(going, here) if allowed(model, p) or only_came_along(p, going, here)]


def leaving(steps: Sequence[LoadedStep], here: Here) -> set[str]:
    """The names of the packages that some steps remove, which therefore own nothing that must stay. Where it cannot be told what a step
    removes, it removes nothing: more stays.
    """
    names = set()
    for step in steps_of(steps, PackagePurge):
        with contextlib.suppress(ActionFailed):  # the plan says so where it stands
            found = meant(step, here)
            names |= {p.name for p in (*found, *goes_with(step.model, found, here))}
            if step is _last(here):
                names |= {p.name for p in came_along(here).going}
    return names


def leaving_before(step: LoadedStep, here: Here) -> set[str]:
    """The names of the packages that are gone when a step's turn comes."""
    purges: list[LoadedStep] = [*_purges(here)]
    return leaving(purges[: purges.index(step)], here) if step in purges else set()


def came_along(here: Here) -> Along:
    """What came along with all that the procedure purges; nothing that a person has asked for, or the system needs."""
    steps, packages = _purges(here), here.workstation.packages
    wanted = next((s.model.came_along for s in steps if s.model.came_along), "") or here.options.came_along
    going = [p for step in steps for p in meant(step, here) if p.state == "installed"]
    if wanted == "none" or not going or packages is None:
        return Along(wanted)
    others = [p for step in steps for p in goes_with(step.model, going, here)]
    gone = {bare(p.name) for p in (*going, *others)}
    before, after = packages.unneeded(), packages.unneeded([p.name for p in (*going, *others)])
    if before is None or after is None:
        return Along(wanted)
    left = set(after) - gone - (set() if wanted == "all" else set(before))
    brought = {name for name, how in packages.history().items() if gone & set(how.with_)}
    found = [p for p in packages.all() if bare(p.name) in left and _may_go(p, here, bare(p.name) in brought)]
    return Along(wanted, _without_the_needed(found, gone, here))


def _without_the_needed(found: list[Package], gone: set[str], here: Here) -> list[Package]:
    """Of packages that could go those that nothing needs which stays: what is the system's own keeps what it needs."""
    packages = here.workstation.packages
    assert packages is not None
    while found:
        going = packages.would_go([*gone, *(bare(p.name) for p in found)])
        staying = set(going or ()) - gone - {bare(p.name) for p in found}
        if not staying:
            break
        kept = [p for p in found if not staying & set(packages.would_go([*gone, bare(p.name)]) or ())]
        if len(kept) == len(found):
            return []  # nobody can tell which of them is needed
        found = kept
    return found


def last_purge(step: LoadedStep, here: Here) -> bool:
    """Whether what came along goes with this step: when all that a procedure purges is gone."""
    return step is _last(here)


def _purges(here: Here) -> list[StepOf[PackagePurge]]:
    return [s for s in steps_of(here.procedure.phase("purge"), PackagePurge) if not here.not_wanted(s.model)]


def _last(here: Here) -> LoadedStep | None:
    return next(reversed(_purges(here)), None)


def _may_go(package: Package, here: Here, brought: bool = False) -> bool:
    """Whether a package that nothing needs may go.

    Args:
        brought: it was installed in the same act as what goes, so the workstation did without it before.
    """
    own = here.guard.check_name("package", bare(package.name))
    system_s = package.priority == REQUIRED or (package.priority in SYSTEM_S_OWN and not brought)
    return package.state == "installed" and not (package.essential or package.held or system_s) and own.ok


def let_go(here: Here, before: "Beforehand | None") -> None:
    """What seems to stay for the sake of packages that are gone now needs not stay. Cut off in the middle of a removal, a package that only
    came with another one seems to stay, once that other one is gone. What had to stay when the case began stays, and what something else
    keeps too.
    """
    kept, packages = here.guard.kept, here.workstation.packages
    style = here.workstation.style
    then = before.kept(style) if before is not None else Kept()
    at_first, reasons = {path.key for path, _ in then.places}, Counter(path.key for path, _ in kept.places)
    owned = {path.key: path for path, _ in kept.places if path.key in kept.owned - at_first and reasons[path.key] == 1}
    single = {key: WPath(style, *key) for key in kept.single if key not in then.single}
    free = _owned_by_nobody([*owned.values(), *single.values()], packages)
    kept.places = [(path, reason) for path, reason in kept.places if path.key not in free & owned.keys()]
    kept.owned -= free & owned.keys()
    kept.single = {key: reason for key, reason in kept.single.items() if key not in free & single.keys()}


def _owned_by_nobody(paths: Sequence[WPath], packages: "PackageFacet | None") -> set[tuple[str, tuple[str, ...]]]:
    """The keys of those that no package owns any more."""
    owners = packages.owners(paths, below=False) if paths and packages is not None else {}
    return {path.key for path in paths if not owners.get(str(path))}
