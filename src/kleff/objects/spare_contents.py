"""What a spare is made of: the product's places and keys, as the procedure and the product's own registration name them."""

import re
from collections.abc import Iterable, Iterator

from kleff.case.aside.spare_plan import COPIED_UP_TO, AroundPlan, SparePlan
from kleff.case.guard.guard import Target
from kleff.errors import LinkOnTheWay
from kleff.objects.base.here import Here
from kleff.objects.base.kind import Claimed, Claims, able
from kleff.objects.base.known import kind_of
from kleff.procedure.globs import fold
from kleff.registry.registry import KeyRef
from kleff.texts import plural, size
from kleff.workstation.identity import KeyId
from kleff.workstation.paths import Look, WPath
from kleff.workstation.things import Entry, PackageRecord

# Where the installer knows a product of the machine's, by its packed code; of the parts it consists of it has further records.
INSTALLER_KEYS = (
    r"HKLM\SOFTWARE\Classes\Installer\Products", r"HKLM\SOFTWARE\Classes\Installer\Features",
    r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Installer\UserData\S-1-5-18\Products",
)  # fmt: skip
NAMED_PATH = re.compile(r"(?<![\w./$}])/(?:etc|var|srv|opt|usr/local)/[\w.+@~-]+(?:/[\w.+@~-]+)*")

NAMED_FILE = re.compile(r"(?<![\w./$}])/(?:boot|lib|srv|usr|var)/[\w.+@~-]+(?:/[\w.+@~-]+)*")
SCRIPTS = ("preinst", "postinst", "prerm", "postrm")
UNIT_FOLDER = re.compile(r"/systemd/(?:system|user)/[^/]+$")
UNIT_RECORDS = (
    "/etc/systemd/system", "/etc/systemd/user", "/var/lib/systemd/deb-systemd-helper-enabled", "/var/lib/systemd/deb-systemd-helper-masked",
    "/var/lib/systemd/deb-systemd-user-helper-enabled", "/var/lib/systemd/deb-systemd-user-helper-masked",
)  # fmt: skip


def entry_plan(here: Here, entry: Entry) -> SparePlan:
    """What a registered product's uninstaller may take along: the product's places, keys and values that are there."""
    claimed, registry = _claimed(here), here.workstation.registry
    own = [entry.id.key] if isinstance(entry.id, KeyId) else []
    own += _known_by_the_installer(here, entry)
    keys = {key.key: key for key in (*own, *claimed.keys)}.values()
    return SparePlan(
        places=_topmost(here, [*_located(here, entry.location), *(target for target, whole in claimed.targets if whole)]),
        singles=_kept_package(here, entry),
        keys=[k for k in keys if registry is not None and registry.exists(k)],
        values=[(key, name) for key, name in claimed.values if registry is not None and registry.value(key, name) is not None],
        full=here.options.spare == "full",
    )


def _known_by_the_installer(here: Here, entry: Entry) -> list[KeyRef]:
    """The keys by which the system's installer knows a product ("Installer" below `Classes` and `CurrentVersion`)."""
    registry, code = here.workstation.registry, packed_code(entry.product_code)
    return [key for text in INSTALLER_KEYS for key in registry.canonical(f"{text}\\{code}", view=64)] if registry and code else []


def _kept_package(here: Here, entry: Entry) -> list[WPath]:
    """The package that the installer keeps of a product, and deletes with it."""
    installs, files = here.workstation.installs, here.workstation.files
    if installs is None or not entry.product_code:
        return []
    found = [p.package for p in installs.products() if fold(p.code) == fold(entry.product_code)]
    paths = (files.path(text) for text in dict.fromkeys((*found, entry.package)) if text)
    return [path for path in paths if path is not None and files.look(path) is not None]


def packed_code(code: str) -> str:
    """A product code as the installer writes it in names of keys: without signs, each group backwards, the last two by pairs."""
    groups = code.strip("{}").split("-")
    if len(groups) != 5:
        return ""
    pairs = "".join(groups[3:])
    turned = "".join(pairs[at + 1] + pairs[at] for at in range(0, len(pairs) - 1, 2))
    return "".join(group[::-1] for group in groups[:3]) + turned


def product_plan(here: Here) -> SparePlan:
    """What a removal tool may take along: all places, keys and values of the product that are named or registered, and are there."""
    claimed, registry = _claimed(here, "uninstall"), here.workstation.registry
    return SparePlan(
        places=_topmost(here, [*map(_exact, claimed.folders), *(target for target, whole in claimed.targets if whole)]),
        keys=[k for k in {key.key: key for key in claimed.keys}.values() if registry is not None and registry.exists(k)],
        values=[(key, name) for key, name in claimed.values if registry is not None and registry.value(key, name) is not None],
        full=here.options.spare == "full",
    )


def _claimed(here: Here, *more: str) -> Claimed:
    """What the procedure names as the product's own. Args: more: phases besides the usual ones."""
    claimed = Claimed()
    for phase in ("stop", "delete", "verify", *more):
        for step in here.procedure.phase(phase):
            kind = able(kind_of(step.kind), Claims)
            if kind is not None and step.model.on in (None, here.workstation.system):
                claimed.add(kind.claims(step, here))
    return claimed


def _topmost(here: Here, targets: Iterable[Target]) -> list[WPath]:
    found = {t.path.key: t.path for t in targets if here.guard.check(t).ok}
    paths: list[WPath] = []
    for path in sorted(found.values(), key=lambda p: p.key):
        if not paths or not path.below(paths[-1]):
            paths.append(path)
    return paths


def package_plan(here: Here, records: list[PackageRecord]) -> SparePlan:
    """What packages take along: their files one by one, the folders that are theirs alone, what their scripts and the
    procedure name, with all below.
    """
    listed = dict(_listed(here, records))
    folders = [path for path, look in listed.values() if look.is_folder]
    going = {r.name.partition(":")[0] for r in records}
    owners = here.workstation.packages.owners(folders, below=False) if here.workstation.packages and folders else {}
    own = [p for p in folders if all(n.partition(":")[0] in going for n in owners.get(str(p), ["?"]))]
    named = [_exact(path) for path in own] + [_exact(path) for path in named_by_scripts(here, records)]
    places = _topmost(here, [*named, *(target for target, whole in _claimed(here).targets if whole)])
    own_keys = {p.key for p in own}
    kept_apart = {p.key: p for p in _unit_records(here, records)}
    singles = [
        path for path, look in listed.values()
        if (not look.is_folder or path.key in own_keys) and not any(place.holds(path) for place in places)
    ] + [p for key, p in kept_apart.items() if key not in listed and not any(place.holds(p) for place in places)]  # fmt: skip
    return SparePlan(places=places, singles=singles, full=here.options.spare == "full", around=_around(here, records))


def _around(here: Here, records: list[PackageRecord]) -> AroundPlan:
    """What scripts may change beside the packages' own: what they change by the system's rules, and single files that they name."""
    packages, files = here.workstation.packages, here.workstation.files
    if packages is None or not here.workstation.admin:
        return AroundPlan()

    def there(texts: Iterable[str]) -> list[WPath]:
        paths: dict[object, WPath] = {}
        for text in texts:
            path = files.path(text)
            try:
                path = files.resolve(path).path if path is not None else None
            except LinkOnTheWay:
                continue  # somebody else's, whom no script of a package means
            if path is not None and files.look(path) is not None:
                paths[path.key] = path
        return list(paths.values())

    found = packages.around()
    named = {m.rstrip("/.") for r in records for name in SCRIPTS for m in NAMED_FILE.findall(r.members.get(name, ""))}
    files_named = [path for path in there(sorted(named)) if (look := files.look(path)) is not None and not look.is_folder]
    copied = there(found.copied)
    besides = [path for path in files_named if not any(place.holds(path) for place in copied)]
    return AroundPlan([*copied, *besides], there(found.linked), there([*found.alone, *(str(path.parent) for path in besides)]))


def _exact(path: WPath) -> Target:
    return Target(path, len(path.parts), len(path.name))


def _listed(here: Here, records: list[PackageRecord]) -> Iterator[tuple[object, tuple[WPath, Look]]]:
    """Paths of the packages and their configuration files that are there, links on the way resolved."""
    files = here.workstation.files
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


def named_by_scripts(here: Here, records: list[PackageRecord]) -> Iterator[WPath]:
    """Absolute paths that the scripts which run at a removal name, as far as they are there."""
    files = here.workstation.files
    texts = {m.rstrip("/.") for r in records for n in ("prerm", "postrm") for m in NAMED_PATH.findall(r.members.get(n, ""))}
    for text in sorted(texts):
        path = files.path(text)
        try:
            if path is not None and files.look(files.resolve(path).path) is not None:
                yield files.resolve(path).path
        except (OSError, LinkOnTheWay):
            continue


def _unit_records(here: Here, records: list[PackageRecord]) -> Iterator[WPath]:
    """What is written down of the packages' units: how they are enabled (systemctl(1)), and what the tool that scripts use for that
    remembers (deb-systemd-helper(1p)).
    """
    files = here.workstation.files
    names = {text.rpartition("/")[2] for r in records for text, _ in r.paths if UNIT_FOLDER.search(text)}
    for text in UNIT_RECORDS if names else ():
        top = files.path(text)
        if top is not None and files.look(top) is not None:
            yield from (path for path, _ in files.walk(top) if path.name.removesuffix(".dsh-also") in names)


def _located(here: Here, registered: str) -> Iterator[Target]:
    files = here.workstation.files
    location = files.path(registered) if registered else None
    try:
        if location is not None and location.parts and files.look(location) is not None:
            yield _exact(location)
    except OSError:
        pass  # registered by somebody; what cannot be looked at is no place of ours


def spare_line(here: Here, plan: SparePlan) -> str:
    """What a spare will take, for the preview."""
    limit = -1 if plan.full else COPIED_UP_TO
    files: dict[tuple[int, int], int] = {}  # by identity: second names need nothing
    for place in plan.places:
        files.update((look.identity, look.size) for _, look in here.workstation.files.walk(place) if look.is_file)
    for path in plan.singles:
        look = here.workstation.files.look(path)
        if look is not None and look.is_file:
            files[look.identity] = look.size
    linked, copied = (sum(s for s in files.values() if (s > limit and not plan.full) == wanted) for wanted in (True, False))
    keys = f", {plural(len(plan.keys), 'key')} with what is below" if here.workstation.registry is not None else ""
    return f"spare taken first: {plural(len(files), 'file')}, {size(linked)} linked, {size(copied)} copied{keys}"
