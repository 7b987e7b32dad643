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
from kleff.objects.packages.steps import ShadowedPurge, source_problem
from kleff.objects.paths.several import exact, plan_several, set_aside_several
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.procedure.model import Step, Text
from kleff.procedure.texts import Problem
from kleff.texts import plural
from kleff.workstation.files.folders import real_folder
from kleff.workstation.identity import path_id
from kleff.workstation.paths import WPath
from kleff.workstation.things import Package

LISTS = ("etc", "apt", "sources.list.d")
SIGNED = re.compile(r"^\s*Signed-By:[ \t]*(/\S+)|\bsigned-by=(/[^\s\]]+)", re.MULTILINE | re.IGNORECASE)
SHOWN = 8  # packages that are named
MOST = 1 << 20  # bytes of a list


class SourceDelete(Step, kw_only=True, frozen=True):
    """Take away a source of packages: its list, and the key that no other source names."""

    source: Annotated[Text, Meta(description="name of its file in /etc/apt/sources.list.d")]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if wrong := source_problem(self.source):
            yield ("source",), wrong


class SourceKind(Kind):
    """`source`."""

    names = ("source",)
    systems = ("linux",)
    models: dict[str, type[Step]] = {"delete": SourceDelete}

    def words(self, phase: str) -> Words:
        return Words("Set aside", ("item", "items"), total="aside", frees=True)

    def plan(self, step: StepOf[SourceDelete], here: Here) -> Iterator[Action]:
        model = step.model
        action = here.action(step, "set aside", f"source {model.source}")
        paths = _paths(model, here)
        if not paths:
            action.state, action.reason = ABSENT, "no such source"
            yield action
            return
        lists, told = _lists(model, here)
        going = plan_several(action, here, [*paths, *lists])
        action.about = [path_id(path) for path in going]
        action.shows += [*(str(path) for path in going if path not in lists), *told, *_left(model, here)]
        yield action

    def claims(self, step: StepOf[SourceDelete], here: Here) -> Claimed:
        return Claimed(targets=[(exact(path), True) for path in _paths(step.model, here)])

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        return set_aside_several(action, work)

    def needs_rights(self, action: Action, here: Here) -> bool:
        return True


def _paths(model: SourceDelete, here: Here) -> list[WPath]:
    """The list, and the keys that it alone names."""
    files = here.workstation.files
    folder = real_folder(files, WPath(here.workstation.style, "", LISTS))
    own = folder.child(model.source)
    if files.look(own) is None:
        return []
    others = [folder.child(name) for name in files.names(folder) if name != model.source] + [folder.parent.child("sources.list")]
    used = {key for other in others for key in _keys(here, other)}
    keys = [where(text, here) for text in _keys(here, own) if text not in used]
    return [own, *(path for path in keys if path is not None and files.look(path) is not None)]


def _lists(model: SourceDelete, here: Here) -> tuple[list[WPath], list[str]]:
    """What was downloaded of it, without which it is forgotten at once, network or not; and what to tell of that."""
    packages, files = here.workstation.packages, here.workstation.files
    try:
        found = [path for text in (packages.lists_of(model.source) if packages else []) if (path := files.path(text))]
    except ActionFailed as error:
        return [], [f"what was downloaded of it stays: {error.what}; afterwards:  apt-get update"]
    return found, [f"{plural(len(found), 'list')} that {'was' if len(found) == 1 else 'were'} downloaded of it"] if found else []


def _keys(here: Here, file: WPath) -> list[str]:
    try:
        text = here.workstation.files.read(file, MOST).decode("utf-8", "replace")
    except FileNotFoundError:
        return []
    return [a or b for a, b in SIGNED.findall(text)]


def _left(model: SourceDelete, here: Here) -> list[str]:
    """The packages of it that stay: nothing will renew them, unless another version takes their place."""
    try:
        stay = staying(model.source, here)
        packages = here.workstation.packages
        others = packages.others_offer(model.source, [bare(p.name) for p in stay]) if packages else {}
        changing = [s.model for s in here.procedure.phase("purge") if isinstance(s.model, ShadowedPurge) and not here.not_wanted(s.model)]
        going = {n for m in changing if m.shadowed_by == model.source for n in others if m.means(n)}
        stay = [p for p in stay if bare(p.name) not in going]
        others = {name: version for name, version in others.items() if name not in going}
    except ActionFailed as error:
        return [f"which packages of it stay is not known: {error.what}"]
    if not stay:
        return []
    names = ", ".join(f"{bare(p.name)} {p.version}" for p in stay[:SHOWN]) + (" and more" if len(stay) > SHOWN else "")
    told = [f"packages of it stay, and are not renewed any more: {names}"]
    if others:
        elsewhere = ", ".join(f"{name} {version}" for name, version in list(others.items())[:SHOWN])
        told.append(f"other sources have {elsewhere}; to change to that:  [[purge]] shadowed_by = {model.source!r}")
    return told


def staying(source: str, here: Here) -> list[Package]:
    """The installed packages of a source that no step purges.

    Raises:
        ActionFailed: it cannot be told.
    """
    packages = here.workstation.packages
    if packages is None:
        return []
    offered, going = packages.offered_by(source), leaving(here.procedure.phase("purge"), here)
    return [p for p in packages.all() if (bare(p.name), p.version) in offered and p.name not in going and p.state == "installed"]


KINDS = (SourceKind(),)
