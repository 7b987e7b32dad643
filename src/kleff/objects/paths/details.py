"""What saving and setting aside need to know of a path, and how a plan keeps it."""

import dataclasses
import re
from base64 import b64decode
from dataclasses import dataclass
from itertools import takewhile

import msgspec

from kleff.case.guard.guard import Target
from kleff.objects.base.action import Action, Outcome
from kleff.objects.base.here import Here
from kleff.objects.base.resolve import Expanded
from kleff.objects.paths.steps import PathsBackup
from kleff.procedure.globs import fold, is_glob, literal
from kleff.workstation.paths import WPath

BACK = "moved back from the set-aside area"


class Saving(msgspec.Struct, kw_only=True):
    """What saving needs: the paths, and what they hang on."""

    paths: list[str]
    variable: str
    base: str
    account: str


class Removing(msgspec.Struct, kw_only=True):
    """What setting aside needs besides the path: how exactly it was named, and what it hangs on."""

    fixed: int
    literal: int
    account: str
    base: str


def removing_target(action: Action, here: Here) -> Target:
    """The guard's view of what an action is about, as it was agreed on."""
    files, told, path = here.workstation.files, action.details_as(Removing), action.path(here.workstation.style)
    assert path is not None
    base = files.from_raw(b64decode(told.base)) if told.base else None
    return Target(files.from_raw(path.raw), told.fixed, told.literal, here.resolver.account(told.account), base)


@dataclass
class Prepared:
    """What of an action's target goes now; `outcome` if nothing does."""

    target: Target
    targets: list[Target] = dataclasses.field(default_factory=list)
    note: str = ""
    outcome: Outcome | None = None


def measure_wanted(here: Here, top: WPath, model: PathsBackup, action: Action) -> None:
    for path, look in here.workstation.files.walk(top, lambda path, look: not model.leaves_out(path, look)):
        if look.is_file and not model.leaves_out(path, look):
            action.items += 1
            action.size += look.size


def links_on_way(here: Here, expanded: Expanded) -> list[str]:
    """Links on the way that were resolved, for the preview."""
    names = tuple(literal(n) for n in takewhile(lambda part: not is_glob(part), expanded.pattern))
    resolved = here.workstation.files.resolve(WPath(here.workstation.style, expanded.volume, names))
    return [f"reached by the link {link}" for link in resolved.links]


def beside(here: Here, expanded: Expanded, paths: list[WPath]) -> list[str]:
    """Of files beside the system's own, meant by a wildcard: those of nearly the same name, which stay."""
    if not expanded.is_glob or not here.guard.is_crowded(paths[0].parent):
        return []
    folder, name = paths[0].parent, expanded.pattern[-1]
    begins = fold(re.split(r"[*?\[]", name)[0][:2])
    meant = {path.key for path in paths}
    others = [n for n in here.workstation.files.names(folder) if fold(n).startswith(begins) and folder.child(n).key not in meant]
    return [f"beside it stays {n}" for n in sorted(others)[:5]]
