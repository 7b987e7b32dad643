"""Files and folders."""

import contextlib
import dataclasses
from base64 import b64decode, b64encode
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from itertools import takewhile
from typing import TYPE_CHECKING, Annotated

from msgspec import Meta, field

from kleff.case.guard.guard import Target
from kleff.errors import ActionFailed, KleffError, LinkOnTheWay
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
from kleff.procedure.globs import check_glob, is_glob, literal, name_matches
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import AccountStep, Problem, SavingAccountStep, Step, Text, Texts, path_problem, path_problems
from kleff.texts import plain, plural
from kleff.texts import size as sizes
from kleff.workstation.paths import Look, WPath

if TYPE_CHECKING:
    from kleff.case.aside.area import Moved

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


class PathsBackup(SavingAccountStep, kw_only=True, frozen=True):
    """Save files and folders."""

    paths: Texts
    rescue: Annotated[bool, Meta(description="also copied to where the person will find it")] = False
    only: Annotated[list[Text], Meta(description='only files with such names, e.g. ["*.pdf"]')] = field(default_factory=list)
    not_: Annotated[list[Text], Meta(description='no files and folders with such names, e.g. ["cache", "*.tmp"]')] = field(
        default_factory=list, name="not"
    )

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from super().problems(places)
        yield from path_problems("paths", self.paths, places)
        for key, texts in (("only", self.only), ("not", self.not_)):
            for index, text in enumerate(texts):
                wrong = "is a name, without folders" if "/" in text or "\\" in text else check_glob(text)
                if wrong:
                    yield (key, index), wrong

    def leaves_out(self, path: WPath, look: Look) -> bool:
        """Whether something below what the paths name is not saved."""
        folded = path.style.folded
        if any(name_matches(text, path.name, folded) for text in self.not_):
            return True
        return bool(self.only) and not look.is_folder and not any(name_matches(text, path.name, folded) for text in self.only)


class PathsDelete(_Paths, kw_only=True, frozen=True):
    """Delete files and folders: they are set aside."""

    only_if_empty: Annotated[bool, Meta(description="only a folder with nothing in it")] = False
    at_most: Annotated[int, Meta(ge=1, description="how many paths one pattern may match per account")] = 50


class PathsVerify(_Paths, kw_only=True, frozen=True):
    """Paths that must be gone."""


def found_paths(expanded: Expanded, scene: Scene, at_most: int = 0) -> list[WPath]:
    """What a pattern matches; empty if nothing.

    Args:
        at_most: if given, far more than these need not be found; that they are too many is certain then.

    Raises:
        LinkOnTheWay, OSError: it could not be looked at.
    """
    if expanded.absent:
        return []
    return list(scene.workstation.files.expand(expanded.volume, expanded.pattern, 100 * at_most))


@dataclass
class Prepared:
    """What of an action's target goes now; `outcome` if nothing does."""

    target: Target
    targets: list[Target] = dataclasses.field(default_factory=list)
    note: str = ""
    outcome: Outcome | None = None


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
        assert isinstance(model, _Paths | PathsBackup)
        verb = {"backup": "save", "delete": "set aside", "verify": "look for"}[step.phase]
        for text in model.paths:
            for expanded in scene.resolver.expand(text, model.accounts):
                account = expanded.account.name if expanded.account else ""
                base = scene.action(step, verb, plain(expanded.text), account=account)
                try:
                    paths = found_paths(expanded, scene, getattr(model, "at_most", 0))
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
            assert isinstance(step.model, PathsBackup)
            yield self._backup(step.model, scene, expanded, paths, base)
            return
        if isinstance(step.model, PathsDelete) and len(paths) > step.model.at_most:
            base.state = REFUSED
            least = "at least " if len(paths) >= 100 * step.model.at_most else ""
            base.reason = f"the pattern matches {least}{plural(len(paths), 'path')}, more than at_most = {step.model.at_most}"
            yield base
            return
        for path in paths:
            action = scene.action(step, base.verb, plain(str(path)), account=base.account, exact=b64encode(path.raw).decode())
            action.shows += _links(scene, expanded)
            if step.phase == "delete":
                self._removal(step, scene, scene.resolver.target(expanded, path), action)
            yield action

    # -- saving -----------------------------------------------------------------------------------------------

    def _backup(self, model: PathsBackup, scene: Scene, expanded: Expanded, paths: list[WPath], action: Action) -> Action:
        action.undo = "stays in the bag"
        action.details = {
            "paths": [b64encode(p.raw).decode() for p in paths],
            "variable": expanded.variable,
            "base": b64encode(expanded.base.raw).decode() if expanded.base else "",
            "account": expanded.account.id if expanded.account else "",
        }
        try:
            for path in paths:
                if model.only or model.not_:
                    _measure_wanted(scene, path, model, action)
                    continue
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

    def joins(self, step: LoadedStep) -> bool:
        return isinstance(step.model, PathsDelete) and not step.model.only_if_empty

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        return self._save(action, step, work) if step.phase == "backup" else self._set_aside(action, step, work)

    def _save(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        from kleff.case.bag.archive import Wanted

        assert isinstance(step.model, PathsBackup)
        workstation = work.scene.workstation
        details = action.details
        account = work.scene.resolver.account(details["account"])
        base = workstation.files.from_raw(b64decode(details["base"])) if details["base"] else None
        wanted = []
        for raw in details["paths"]:
            path = workstation.files.resolve(workstation.files.from_raw(b64decode(raw))).path
            if workstation.files.look(path) is not None:
                wanted.append(Wanted(path, account, details["variable"], base, step.model.leaves_out))
        if not wanted:
            raise ActionFailed(f"{action.target} was there at the preview and is gone", remedy="look what removed it; then resume")
        work.progress.start(f"saving {action.label or action.target}", items=action.items, size=action.size)
        item = work.item(
            action, "paths", account_id=details["account"], variable=details["variable"],
            base=plain(str(base)) if base else "", base_b64=details["base"],
        )  # fmt: skip
        owners = {a.uid: a.name for a in workstation.accounts.all() if a.uid is not None}
        item = work.bag.add_files(action.number, item, wanted, workstation.files, workstation.admin, work.progress, owners)
        return Outcome(note=f"in bag/data/{item.archive}", items=item.files, size=item.size)

    def _set_aside(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        work.progress.start("setting aside", items=action.items, size=action.size)
        try:
            prepared = self._prepared(action, step, work)
            return prepared.outcome or self._moved([(action, prepared)], work)[action.number]
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

    def together(self, actions: list[tuple[Action, LoadedStep]], work: Work) -> dict[int, Outcome]:
        """Set aside for several actions at once: their intents and confirmations share flushes.

        Returns:
            What became of those that are done; the first that is not there has failed or depends on one before it, and has to be
            done by itself, as has all that follows.
        """
        outcomes: dict[int, Outcome] = {}
        ready: list[tuple[Action, Prepared]] = []
        named: set[object] = set()
        above: set[object] = set()
        try:
            for action, step in actions:
                prepared = self._prepared(action, step, work)
                path = prepared.target.path
                lineage = [WPath(path.style, path.volume, path.parts[:n]).key for n in range(1, len(path.parts) + 1)]
                if path.key in above or any(key in named for key in lineage):
                    break
                named.add(path.key)
                above.update(lineage)
                if prepared.outcome:
                    outcomes[action.number] = prepared.outcome
                else:
                    ready.append((action, prepared))
        except (KleffError, OSError):
            pass  # it is done by itself, and says so then
        with contextlib.suppress(KleffError, OSError):
            self._moved(ready, work, outcomes)
        return outcomes

    def _prepared(self, action: Action, step: LoadedStep, work: Work) -> Prepared:
        """Look again what of an action's target goes now."""
        assert isinstance(step.model, PathsDelete)
        target = self._target(action, work.scene)
        files = work.scene.workstation.files
        prepared = Prepared(target)
        if files.look(target.path) is None:
            prepared.outcome = Outcome(note="already gone")
        elif step.model.only_if_empty and files.names(target.path):
            prepared.outcome = Outcome(state=KEPT, note="not empty")
        else:
            removal = work.scene.guard.removal(target.path)
            prepared.targets = [target.narrowed(p) for p in removal.paths]
            prepared.note = f"kept inside: {plural(len(removal.kept), 'thing')}" if removal.kept else ""
            if not removal.paths:
                prepared.outcome = Outcome(state=KEPT, note=removal.kept[0][1] if removal.kept else "nothing in it may go")
        return prepared

    def _moved(self, ready: list[tuple[Action, Prepared]], work: Work, outcomes: dict[int, Outcome] | None = None) -> dict[int, Outcome]:
        """Set aside what is ready; an action gets its outcome once the last of its paths is moved."""
        from kleff.case.effects import set_aside

        results = outcomes if outcomes is not None else {}
        left = {action.number: len(prepared.targets) for action, prepared in ready}
        sums = {action.number: Outcome(note=prepared.note) for action, prepared in ready}

        def told(number: int, moved: "Moved") -> None:
            left[number] -= 1
            sums[number].items += moved.items
            sums[number].size += moved.size
            if not left[number]:
                results[number] = sums[number]

        set_aside(work.hands, [(action.number, target) for action, prepared in ready for target in prepared.targets], told)
        return results

    def _target(self, action: Action, scene: Scene) -> Target:
        files = scene.workstation.files
        details = action.details
        account = scene.resolver.account(details["account"])
        base = files.from_raw(b64decode(details["base"])) if details["base"] else None
        return Target(files.from_raw(b64decode(action.exact)), details["fixed"], details["literal"], account, base)


def _measure_wanted(scene: Scene, top: WPath, model: PathsBackup, action: Action) -> None:
    for path, look in scene.workstation.files.walk(top, lambda path, look: not model.leaves_out(path, look)):
        if look.is_file and not model.leaves_out(path, look):
            action.items += 1
            action.size += look.size


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
