"""Which registered products a step means, in which order they go, and which of them it is that another step sees to."""

from dataclasses import replace

from kleff.objects.base.here import Here
from kleff.objects.entries.steps import (
    CachedUninstall,
    EntryEvidence,
    EntryUninstall,
    Named,
    Ordered,
    ProductUninstall,
    Removing,
    VendorEvidence,
    VendorUninstall,
)
from kleff.procedure.globs import fold, name_matches
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.procedure.model import Step
from kleff.workstation.identity import NameId, sameness
from kleff.workstation.things import CommandLine, Entry, InstallerPackage


def matching(model: Step, here: Here) -> list[Entry]:
    """The products a step means, of every version, in the order in which they go."""
    if isinstance(model, ProductUninstall):
        return _by_code(model.product_code, here)
    if isinstance(model, CachedUninstall):
        return [_of_package(package, here) for package in cached(model, here)]
    found = [e for e in _registered(here) if _is_meant(model, e)]
    return in_order(found, model.parts_first, model.last) if isinstance(model, Ordered) else found


def pattern_of(model: Step) -> str:
    """By what a step names products, as it is written."""
    if isinstance(model, ProductUninstall):
        return model.product_code
    if isinstance(model, CachedUninstall):
        return model.cached_package
    return (
        model.entry
        if isinstance(model, Named | EntryUninstall)
        else f"everything by {model.publisher}"
        if isinstance(model, VendorUninstall | VendorEvidence)
        else ""
    )


def in_order(entries: list[Entry], first: list[str], last: list[str]) -> list[Entry]:
    """Those of the first patterns first, those of the last ones last, all others between, each as they were found."""

    def place(entry: Entry) -> tuple[int, int]:
        for group, patterns in ((0, first), (2, last)):
            at = next((n for n, pattern in enumerate(patterns) if name_matches(pattern, entry.name, True)), None)
            if at is not None:
                return group, at
        return 1, 0

    return sorted(entries, key=place)


def going(step: StepOf[Removing], here: Here) -> list[Entry]:
    """Those that a step removes: of the versions that are meant, chosen where that is asked, and not seen to by a step before it."""
    model, style = step.model, here.workstation.style
    before = {sameness(e.id, style) for e in _before(step, here)}
    return [e for e in matching(model, here) if _goes(model, e, here) and sameness(e.id, style) not in before]


def shown_by(step: LoadedStep, here: Here) -> list[Entry]:
    """The products that a piece of evidence names, of the versions that are meant."""
    if not isinstance(step.model, EntryEvidence | VendorEvidence):
        return []
    return [e for e in matching(step.model, here) if here.version_in_range(e.version, pattern_of(step.model))]


def seen_to(entry: Entry, step: LoadedStep, here: Here) -> int:
    """The line of the step before this one that removes the same product; 0 if there is none."""
    style = here.workstation.style
    for other in _steps_before(step, here):
        if any(sameness(entry.id, style) == sameness(e.id, style) for e in matching(other.model, here) if _goes(other.model, e, here)):
            return other.line
    return 0


def still_there(entry: Entry, here: Here) -> bool:
    """Whether a product is registered, or known to the installer."""
    if isinstance(entry.id, NameId):
        return any(fold(p.product_code) == fold(entry.product_code) for p in _products(here))
    style = here.workstation.style
    return any(sameness(e.id, style) == sameness(entry.id, style) for e in _registered(here))


def cached(model: CachedUninstall, here: Here) -> list[InstallerPackage]:
    """The packages in the installer's cache that a step means."""
    installs = here.workstation.installs
    return [p for p in (installs.packages() if installs else []) if name_matches(model.cached_package, p.subject, True)]


def _goes(model: Step, entry: Entry, here: Here) -> bool:
    return here.version_in_range(entry.version, pattern_of(model)) and not here.not_chosen(model, entry.account, entry.version, entry.name)


def _steps_before(step: LoadedStep, here: Here) -> list[LoadedStep]:
    return [
        s for s in here.procedure.phase("uninstall")
        if s.index < step.index and isinstance(s.model, Removing) and s.model.on in (None, here.workstation.system)
        and not here.not_wanted(s.model)
    ]  # fmt: skip


def _before(step: LoadedStep, here: Here) -> list[Entry]:
    return [e for s in _steps_before(step, here) for e in matching(s.model, here) if _goes(s.model, e, here)]


def _registered(here: Here) -> list[Entry]:
    return here.workstation.entries.all() if here.workstation.entries else []


def _products(here: Here) -> list[Entry]:
    """What the installer knows, registered where anybody sees it or not."""
    installs = here.workstation.installs
    if installs is None:
        return []
    return [
        Entry(
            name=p.name or p.code, version=p.version, publisher=p.publisher, id=NameId("product", fold(p.code)),
            registered_at="the system's installer alone", quiet=_quiet(p.code, here), registered="", product_code=p.code, package=p.package,
        )
        for p in installs.products()
    ]  # fmt: skip


def _is_meant(model: Step, entry: Entry) -> bool:
    if isinstance(model, Named | EntryUninstall) and not name_matches(model.entry, entry.name, True):
        return False
    publisher = model.publisher if isinstance(model, Named | EntryUninstall | VendorUninstall | VendorEvidence) else ""
    return not publisher or name_matches(publisher, entry.publisher, True)


def _by_code(code: str, here: Here) -> list[Entry]:
    """As it is registered; else as the installer knows it."""
    found = [e for e in _registered(here) if fold(e.product_code) == fold(code)]
    return found or [e for e in _products(here) if fold(e.product_code) == fold(code)]


def _of_package(package: InstallerPackage, here: Here) -> Entry:
    """What a cached package installs: as the installer knows it, or, where it is gone and the package alone is left, as that says."""
    found = _by_code(package.product_code, here)
    if found:
        return replace(found[0], package=package.path)
    return Entry(
        name=package.subject, version="", publisher="", id=NameId("product", fold(package.product_code)), registered_at=package.path,
        quiet=_quiet(package.product_code, here), registered="", product_code=package.product_code, package=package.path,
    )  # fmt: skip


def _quiet(code: str, here: Here) -> CommandLine:
    msiexec = str(here.workstation.program_folders[0].child("msiexec.exe"))
    return CommandLine((msiexec, "/x", code, "/qn", "/norestart", "REBOOT=ReallySuppress"))
