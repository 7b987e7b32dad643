"""A source of packages that came with the product: its list and its key (sources.list(5))."""

import re
from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta

from kleff.errors import ActionFailed
from kleff.objects.base.action import ABSENT, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Claimed, Kind, Words
from kleff.objects.base.own import where
from kleff.objects.packages.choosing import bare, leaving
from kleff.objects.paths.several import exact, plan_several, set_aside_several
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import Problem, Step, Text
from kleff.workstation.identity import path_id
from kleff.workstation.paths import WPath

LISTS = ("etc", "apt", "sources.list.d")
SIGNED = re.compile(r"^\s*Signed-By:[ \t]*(/\S+)|\bsigned-by=(/[^\s\]]+)", re.MULTILINE | re.IGNORECASE)
SHOWN = 8  # packages that are named
MOST = 1 << 20  # bytes of a list


class SourceDelete(Step, kw_only=True, frozen=True):
    """Take away a source of packages: its list, and the key that no other source names."""

    source: Annotated[Text, Meta(description="name of its file in /etc/apt/sources.list.d")]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if "/" in self.source or not self.source.endswith((".list", ".sources")):
            yield ("source",), f"{self.source!r} is not the name of a file in /etc/apt/sources.list.d, ending in .list or .sources"


class SourceKind(Kind):
    """`source`."""

    names = ("source",)
    systems = ("linux",)
    models: dict[str, type[Step]] = {"delete": SourceDelete}

    def words(self, phase: str) -> Words:
        return Words("Set aside", ("item", "items"), total="aside", frees=True)

    def plan(self, step: LoadedStep, here: Here) -> Iterator[Action]:
        model = step.model
        assert isinstance(model, SourceDelete)
        action = here.action(step, "set aside", f"source {model.source}")
        paths = _paths(model, here)
        if not paths:
            action.state, action.reason = ABSENT, "no such source"
            yield action
            return
        going = plan_several(action, here, paths)
        action.about = [path_id(path) for path in going]
        action.shows += [*map(str, going), *_left(model, here), "apt-get update  refreshes afterwards what apt knows"]
        yield action

    def claims(self, step: LoadedStep, here: Here) -> Claimed:
        assert isinstance(step.model, SourceDelete)
        return Claimed(targets=[(exact(path), True) for path in _paths(step.model, here)])

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        return set_aside_several(action, work)

    def needs_rights(self, action: Action, here: Here) -> bool:
        return True


def _paths(model: SourceDelete, here: Here) -> list[WPath]:
    """The list, and the keys that it alone names."""
    files = here.workstation.files
    folder = WPath(here.workstation.style, "", LISTS)
    own = folder.child(model.source)
    if files.look(own) is None:
        return []
    others = [folder.child(name) for name in files.names(folder) if name != model.source] + [folder.parent.child("sources.list")]
    used = {key for other in others for key in _keys(here, other)}
    keys = [where(text, here) for text in _keys(here, own) if text not in used]
    return [own, *(path for path in keys if path is not None and files.look(path) is not None)]


def _keys(here: Here, file: WPath) -> list[str]:
    try:
        text = here.workstation.files.read(file, MOST).decode("utf-8", "replace")
    except OSError:
        return []
    return [a or b for a, b in SIGNED.findall(text)]


def _left(model: SourceDelete, here: Here) -> list[str]:
    """The packages of it that stay: nothing will renew them."""
    packages = here.workstation.packages
    if packages is None:
        return []
    try:
        offered = packages.offered_by(model.source)
    except ActionFailed as error:
        return [f"which packages of it stay is not known: {error.what}"]
    going = leaving(here.procedure.phase("purge"), here)
    stay = [p for p in packages.all() if (bare(p.name), p.version) in offered and p.name not in going and p.state == "installed"]
    names = ", ".join(f"{bare(p.name)} {p.version}" for p in stay[:SHOWN]) + (" and more" if len(stay) > SHOWN else "")
    return [f"packages of it stay, and are not renewed any more: {names}; to change them:  apt-get install NAME/RELEASE"] if stay else []
