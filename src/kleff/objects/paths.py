"""Files and folders."""

from base64 import b64decode, b64encode
from collections.abc import Collection, Iterator
from itertools import takewhile
from typing import Annotated

from msgspec import Meta

from kleff.case.guard import Target
from kleff.errors import ActionFailed, LinkOnTheWay
from kleff.objects.base import (
    ABSENT,
    KEPT,
    NOT_EMPTY,
    REFUSED,
    UNREADABLE,
    Action,
    Offers,
    Outcome,
    Scene,
    Sighting,
    Work,
)  # fmt: skip
from kleff.objects.resolve import Expanded
from kleff.procedure.globs import is_glob, literal
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import AccountStep, AfterStop, DataKind, Problem, Step, Text, Texts, path_problem, path_problems
from kleff.texts import plain, plural
from kleff.texts import size as sizes
from kleff.workstation.paths import WPath

BACK = "moved back from the set-aside area"


class PathEvidence(Step, kw_only=True, frozen=True):
    """A path that is there only with the product."""

    path: Text

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        wrong = path_problem(self.path, places)
        if wrong:
            yield ("path",), wrong


class _Paths(AccountStep, kw_only=True, frozen=True):
    paths: Texts

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from path_problems("paths", self.paths, places)


class PathsBackup(_Paths, kw_only=True, frozen=True):
    """Save files and folders."""

    kind: DataKind = None
    stopped: AfterStop = False


class PathsDelete(_Paths, kw_only=True, frozen=True):
    """Delete files and folders: they are set aside."""

    only_if_empty: Annotated[bool, Meta(description="only a folder with nothing in it")] = False
    at_most: Annotated[int, Meta(ge=1, description="how many paths one pattern may match per account")] = 50


class PathsVerify(_Paths, kw_only=True, frozen=True):
    """Paths that must be gone."""


def found_paths(expanded: Expanded, scene: Scene) -> list[WPath]:
    """What a pattern matches; empty if nothing.

    Raises:
        LinkOnTheWay, OSError: it could not be looked at.
    """
    if expanded.absent:
        return []
    return list(scene.workstation.files.expand(expanded.volume, expanded.pattern))


class PathKind(Offers):
    """`path` (evidence) and `paths`."""

    models = {"evidence": PathEvidence, "backup": PathsBackup, "delete": PathsDelete, "verify": PathsVerify}

    def look(self, step: LoadedStep, scene: Scene) -> Iterator[Sighting]:
        assert isinstance(step.model, PathEvidence)
        for expanded in scene.resolver.expand(step.model.path):
            account = expanded.account.name if expanded.account else ""
            try:
                for path in found_paths(expanded, scene):
                    yield Sighting(kind="path", what=plain(str(path)), account=account, line=step.line)
            except (OSError, LinkOnTheWay) as error:
                yield Sighting(
                    kind="path", what=f"{plain(expanded.text)} ({_why(error)})", account=account, line=step.line, unreadable=True
                )

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        model = step.model
        assert isinstance(model, _Paths)
        verb = {"backup": "save", "delete": "set aside", "verify": "look for"}[step.phase]
        for text in model.paths:
            for expanded in scene.resolver.expand(text, model.accounts):
                account = expanded.account.name if expanded.account else ""
                base = scene.action(step, verb, plain(expanded.text), account=account)
                try:
                    paths = found_paths(expanded, scene)
                except (OSError, LinkOnTheWay) as error:
                    base.state = REFUSED if isinstance(error, LinkOnTheWay) and step.phase != "verify" else UNREADABLE
                    base.reason = _why(error)
                    yield base
                    continue
                if not paths:
                    base.state, base.reason = ABSENT, expanded.absent or "not there"
                    yield base
                    continue
                yield from self._planned(step, scene, expanded, paths, base)

    def _planned(self, step: LoadedStep, scene: Scene, expanded: Expanded, paths: list[WPath], base: Action) -> Iterator[Action]:
        if step.phase == "backup":
            yield self._backup(scene, expanded, paths, base)
            return
        if isinstance(step.model, PathsDelete) and len(paths) > step.model.at_most:
            base.state = REFUSED
            base.reason = f"the pattern matches {plural(len(paths), 'path')}, more than at_most = {step.model.at_most}"
            yield base
            return
        for path in paths:
            action = scene.action(step, base.verb, plain(str(path)), account=base.account, exact=b64encode(path.raw).decode())
            action.shows += _links(scene, expanded)
            if step.phase == "delete":
                self._removal(step, scene, scene.resolver.target(expanded, path), action)
            yield action

    # -- saving -----------------------------------------------------------------------------------------------

    def _backup(self, scene: Scene, expanded: Expanded, paths: list[WPath], action: Action) -> Action:
        action.undo = "stays in the bag"
        action.details = {
            "paths": [b64encode(p.raw).decode() for p in paths],
            "variable": expanded.variable,
            "base": b64encode(expanded.base.raw).decode() if expanded.base else "",
            "account": expanded.account.id if expanded.account else "",
        }
        try:
            for path in paths:
                measure = scene.workstation.files.measure(path)
                action.items += measure.files
                action.size += measure.size
        except OSError as error:
            action.state, action.reason = UNREADABLE, _why(error)
        return action

    # -- removing ---------------------------------------------------------------------------------------------

    def _removal(self, step: LoadedStep, scene: Scene, target: Target, action: Action) -> None:
        assert isinstance(step.model, PathsDelete)
        files = scene.workstation.files
        verdict = scene.guard.check(target)
        action.undo = BACK
        action.details = {
            "fixed": target.fixed,
            "literal": target.literal,
            "account": target.account.id if target.account else "",
            "base": b64encode(target.base.raw).decode() if target.base else "",
        }
        if not verdict.ok:
            action.state, action.reason = verdict.word, verdict.reason
            return
        try:
            if step.model.only_if_empty and files.names(target.path):
                action.state, action.reason = KEPT, NOT_EMPTY
                action.details["again"] = True
                return
            removal = scene.guard.removal(target.path)
            for path in removal.paths:
                measure = files.measure(path)
                action.items += measure.items
                action.size += measure.size
            if any(files.layered(path) for path in removal.paths):
                action.shows.append(f"on a layered file system: copied if it cannot be moved, which takes up to {sizes(action.size)} more")
        except OSError as error:
            action.state, action.reason = UNREADABLE, _why(error)
            return
        action.inside = [f"{plain(str(p))}: {reason}" for p, reason in removal.kept]
        look = files.look(target.path)
        if look is not None and look.is_link:
            action.shows.append(f"a link to {plain(files.read_link(target.path))}; only the link goes")
        if not removal.paths:
            action.state, action.reason = KEPT, removal.kept[0][1] if removal.kept else "nothing in it may go"

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        return self._save(action, step, work) if step.phase == "backup" else self._set_aside(action, step, work)

    def _save(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        from kleff.case.archive import Wanted

        workstation = work.scene.workstation
        details = action.details
        account = next((a for a in workstation.accounts.all() if a.id == details["account"]), None)
        base = workstation.files.from_raw(b64decode(details["base"])) if details["base"] else None
        wanted = []
        for raw in details["paths"]:
            path = workstation.files.resolve(workstation.files.from_raw(b64decode(raw))).path
            if workstation.files.look(path) is not None:
                wanted.append(Wanted(path, account, details["variable"], base))
        if not wanted:
            raise ActionFailed(f"{action.target} was there at the preview and is gone", remedy="look what removed it; then resume")
        work.progress.start(f"saving {action.label or action.target}", items=action.items, size=action.size)
        label = step.model.label or "files"
        name, files, size = work.bag.add_files(action.number, label, wanted, workstation.files, workstation.admin, work.progress)
        return Outcome(note=f"in bag/data/{name}", items=files, size=size)

    def _set_aside(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        from kleff.case.effects import set_aside

        assert isinstance(step.model, PathsDelete)
        workstation = work.scene.workstation
        target = self._target(action, work.scene)
        files = workstation.files
        try:
            if files.look(target.path) is None:
                return Outcome(note="already gone")
            if step.model.only_if_empty and files.names(target.path):
                return Outcome(state=KEPT, note="not empty")
            removal = work.scene.guard.removal(target.path)
            targets = [target.narrowed(p) for p in removal.paths]
            work.progress.start("setting aside", items=action.items, size=action.size)
            items, size = set_aside(work.hands, action.number, targets)
        except LinkOnTheWay as error:
            raise ActionFailed(error.what, remedy="look at the link; then resume") from None
        except FileNotFoundError as error:
            raise ActionFailed(
                f"{plain(str(error.filename or action.target))} vanished while it was set aside", remedy="resume; what is gone is done"
            ) from None
        except OSError as error:
            raise ActionFailed(
                f"{action.target} cannot be set aside: {error.strerror}", remedy="close what uses it, or check the rights; then resume"
            ) from None
        if not removal.paths:
            return Outcome(state=KEPT, note=removal.kept[0][1] if removal.kept else "nothing in it may go")
        note = f"kept inside: {plural(len(removal.kept), 'thing')}" if removal.kept else ""
        return Outcome(note=note, items=items, size=size)

    def _target(self, action: Action, scene: Scene) -> Target:
        files = scene.workstation.files
        details = action.details
        account = next((a for a in scene.workstation.accounts.all() if a.id == details["account"]), None)
        base = files.from_raw(b64decode(details["base"])) if details["base"] else None
        return Target(files.from_raw(b64decode(action.exact)), details["fixed"], details["literal"], account, base)


def _links(scene: Scene, expanded: Expanded) -> list[str]:
    """Links on the way that were resolved, for the preview."""
    names = tuple(literal(n) for n in takewhile(lambda part: not is_glob(part), expanded.pattern))
    resolved = scene.workstation.files.resolve(WPath(scene.workstation.style, expanded.volume, names))
    return [f"reached by the link {plain(link)}" for link in resolved.links]


def _why(error: Exception) -> str:
    if isinstance(error, LinkOnTheWay):
        return error.what
    if isinstance(error, OSError):
        return f"it cannot be looked at: {error.strerror}"
    return str(error)
