"""Files and folders: what of them is there, saved and set aside; `restoring` gives them back."""

import contextlib
from base64 import b64decode
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from kleff.case.guard.guard import Target
from kleff.errors import ActionFailed, InUse, KleffError, LinkOnTheWay, NotTold, Stopped, remedy_for
from kleff.objects.base.action import ABSENT, KEPT, NOT_EMPTY, REFUSED, UNREADABLE, Action, Inside, Outcome, Sighting
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Claimed, Kind, Words
from kleff.objects.base.needed import needed_later
from kleff.objects.base.resolve import Expanded
from kleff.objects.base.staging import Stage
from kleff.objects.base.unreadable import why
from kleff.objects.paths.details import Prepared, Removing, Saving, beside, links_on_way, measure_wanted, removing_target
from kleff.objects.paths.in_use import after_restart, set_aside_around
from kleff.objects.paths.several import closed_to_us
from kleff.objects.paths.steps import NamedPaths, PathEvidence, PathsBackup, PathsDelete, PathsVerify, found_paths
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.texts import plural
from kleff.texts import size as sizes
from kleff.workstation.files.folders import holds_something
from kleff.workstation.identity import packed, path_id
from kleff.workstation.paths import WPath

if TYPE_CHECKING:
    from kleff.case.aside.area import Move
    from kleff.case.bag.index import SavedItem
    from kleff.objects.base.restoring import Restoring

BACK = "moved back from the set-aside area"
ASKED = 2_000  # paths of one step that are asked before a workstation is looked at; at a preview all of them are


class PathKind(Kind):
    """`path` (evidence) and `paths`."""

    names = ("path", "paths")
    condition = "A path that must, or must not, be there."
    models = {"evidence": PathEvidence, "backup": PathsBackup, "delete": PathsDelete, "verify": PathsVerify}

    def stage(self, step: LoadedStep, stage: Stage) -> None:
        model = step.model
        for text in [model.path] if isinstance(model, PathEvidence) else model.paths if isinstance(model, NamedPaths | PathsBackup) else []:
            empty = isinstance(model, PathsDelete) and model.only_if_empty
            stage.paths(text, model.accounts if isinstance(model, NamedPaths | PathsBackup) else None, empty=empty)

    def words(self, phase: str) -> Words:
        if phase == "delete":
            return Words("Set aside", ("item", "items"), sized=True, total="aside", frees=True)
        if phase == "backup":
            return Words("Saved in the bag", ("file", "files"), sized=True, total="saved")
        if phase == "restore":
            return Words("Put back", ("file", "files"), sized=True)
        return Words("Looked for", ("item", "items"), sized=True)

    def look(self, step: StepOf[PathEvidence], here: Here) -> Iterator[Sighting]:
        for expanded in here.resolver.meanings(step.model.path):
            account = expanded.account.name if expanded.account else ""
            try:
                for path in found_paths(expanded, here):
                    yield Sighting(kind="path", what=str(path), about=path_id(path), account=account, line=step.line)
            except (OSError, LinkOnTheWay, NotTold) as error:
                yield Sighting(kind="path", what=f"{expanded.text} ({why(error)})", account=account, line=step.line, unreadable=True)

    def plan(self, step: StepOf[NamedPaths | PathsBackup], here: Here) -> Iterator[Action]:
        model = step.model
        verb = {"backup": "save", "delete": "set aside", "verify": "look for"}[step.phase]
        at_most = model.at_most if isinstance(model, PathsDelete) else 0
        for text in model.paths:
            for expanded in here.resolver.meanings(text, model.accounts):
                account = expanded.account.name if expanded.account else ""
                base = here.action(step, verb, expanded.text, account=account)
                try:
                    paths = found_paths(expanded, here, at_most)
                except (OSError, LinkOnTheWay, NotTold) as error:
                    base.state = REFUSED if isinstance(error, LinkOnTheWay) and step.phase != "verify" else UNREADABLE
                    base.reason = why(error)
                    yield base
                    continue
                if not paths:
                    base.state, base.reason, base.nowhere = ABSENT, expanded.absent or "not there", bool(expanded.absent)
                    if not expanded.absent and not expanded.is_glob:
                        base.about = [path_id(expanded.literal_path(here.workstation.style))]
                    yield base
                    continue
                yield from self._planned(step, here, expanded, paths, base)

    def _planned(self, step: LoadedStep, here: Here, expanded: Expanded, paths: list[WPath], base: Action) -> Iterator[Action]:
        model = step.model
        if isinstance(model, PathsBackup):
            yield self._backup(model, here, expanded, paths, base)
            return
        if isinstance(model, PathsDelete) and len(paths) > model.at_most:
            base.state = REFUSED
            least = "at least " if len(paths) >= 100 * model.at_most else ""
            base.reason = f"the pattern matches {least}{plural(len(paths), 'path')}, more than at_most = {model.at_most}"
            yield base
            return
        for number, path in enumerate(paths):
            action = here.action(step, base.verb, str(path), account=base.account, about=[path_id(path)], written=expanded.text)
            action.shows += links_on_way(here, expanded)
            action.shows += beside(here, expanded, paths) if number == 0 and step.phase == "delete" else []
            if isinstance(model, PathsDelete):
                self._removal(model, here, here.resolver.target(expanded, path), action)
            yield action

    # -- saving -----------------------------------------------------------------------------------------------

    def _backup(self, model: PathsBackup, here: Here, expanded: Expanded, paths: list[WPath], action: Action) -> Action:
        action.undo, action.about = "stays in the bag", [path_id(p) for p in paths]
        action.set_details(Saving(
            paths=[packed(p) for p in paths], variable=expanded.variable, base=packed(expanded.base) if expanded.base else "",
            account=expanded.account.id if expanded.account else "",
        ))  # fmt: skip
        try:
            for path in paths:
                if model.only or model.not_:
                    measure_wanted(here, path, model, action)
                    continue
                measure = here.workstation.files.measure(path)
                action.items += measure.files
                action.size += measure.size
        except OSError as error:
            action.state, action.reason = UNREADABLE, why(error)
        return action

    def _save(self, action: Action, model: PathsBackup, work: Work) -> Outcome:
        from kleff.case.bag.archive import MemberSource

        workstation, told = work.here.workstation, action.details_as(Saving)
        account = work.here.resolver.account(told.account)
        base = workstation.files.from_raw(b64decode(told.base)) if told.base else None
        wanted = []
        for raw in told.paths:
            path = workstation.files.resolve(workstation.files.from_raw(b64decode(raw))).path
            if workstation.files.look(path) is not None:
                wanted.append(MemberSource(path, account, told.variable, base, model.leaves_out))
        if not wanted:
            raise ActionFailed(f"{action.target} was there at the preview and is gone", remedy="look what removed it; then resume")
        work.progress.start(f"saving {action.label or action.target}", items=action.items, size=action.size)
        item = work.item(
            action, "paths", account_id=told.account, variable=told.variable, base=str(base) if base else "", base_b64=told.base
        )
        owners = {a.uid: a.name for a in workstation.accounts.all() if a.uid is not None}
        item = work.bag.add_files(action.number, item, wanted, workstation.files, workstation.admin, work.progress, owners)
        return Outcome(note=f"in bag/data/{item.archive}", items=item.files, size=item.size)

    # -- removing ---------------------------------------------------------------------------------------------

    def _removal(self, model: PathsDelete, here: Here, target: Target, action: Action) -> None:
        files = here.workstation.files
        verdict = here.guard.check(target)
        action.undo = BACK
        action.set_details(Removing(
            fixed=target.literal_names, literal=target.literal, account=target.account.id if target.account else "",
            base=packed(target.base) if target.base else "",
        ))  # fmt: skip
        if not verdict.ok:
            action.judged(verdict.word, verdict.reason, verdict.remedy)
            return
        if model.before_uninstall and (why_not := needed_later(target.path, here)):
            action.judged(REFUSED, why_not, "name folders beside it, or leave  before_uninstall  out")
            return
        try:
            if model.only_if_empty and holds_something(files, target.path):
                action.state, action.reason, action.later = KEPT, NOT_EMPTY, True
                return
            removal = here.guard.removal(target.path)
            for path in removal.paths:
                measure = files.measure(path)
                action.items += measure.items
                action.size += measure.size
            if any(files.layered(path) for path in removal.paths):
                action.shows.append(f"on a layered file system: copied if it cannot be moved, which takes up to {sizes(action.size)} more")
        except OSError as error:
            action.state, action.reason = UNREADABLE, why(error)
            return
        action.stays = [Inside(what=path_id(path), reason=reason) for path, reason in removal.kept]
        look = files.look(target.path)
        if look is not None and look.is_link:
            action.shows.append(f"a link to {files.read_link(target.path)}; only the link goes")
        if not removal.paths:
            action.state, action.reason = KEPT, removal.kept[0][1] if removal.kept else "nothing in it may go"
            action.not_clean = target.path.key in here.guard.kept.owned

    def do(self, action: Action, step: StepOf[PathsBackup | PathsDelete], work: Work) -> Outcome:
        model = step.model
        return self._save(action, model, work) if isinstance(model, PathsBackup) else self._set_aside(action, model, work)

    def _set_aside(self, action: Action, model: PathsDelete, work: Work) -> Outcome:
        work.progress.start("setting aside", items=action.items, size=action.size)
        try:
            since = after_restart(action, work)
            prepared = self._prepared(action, model, work)
            try:
                return prepared.outcome or self._moved([(action, prepared)], work)[action.number]
            except InUse:
                return set_aside_around(action, prepared.targets, work, since)
        except LinkOnTheWay as error:
            raise ActionFailed(error.what, remedy="look at the link; then resume") from None
        except FileNotFoundError as error:
            gone = f"{error.filename or action.target} vanished while it was set aside"
            raise ActionFailed(gone, remedy="resume; what is gone is done") from None
        except OSError as error:
            raise ActionFailed(f"{action.target} cannot be set aside: {error.strerror}", remedy=remedy_for(error)) from None

    def joins(self, step: LoadedStep) -> bool:
        return isinstance(step.model, PathsDelete) and not step.model.only_if_empty

    def together(self, actions: list[tuple[Action, StepOf[PathsDelete]]], work: Work) -> dict[int, Outcome]:
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
                prepared = self._prepared(action, step.model, work)
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
        except Stopped:
            raise
        except (KleffError, OSError):
            pass  # it is done by itself, and says so then
        try:
            self._moved(ready, work, outcomes)
        except Stopped:  # the journal cannot be written, or what was moved not be flushed: nothing of it is tried again
            raise
        except (KleffError, OSError):
            pass  # as above
        return outcomes

    def _prepared(self, action: Action, model: PathsDelete, work: Work) -> Prepared:
        """Look again what of an action's target goes now."""
        target = removing_target(action, work.here)
        files = work.here.workstation.files
        prepared = Prepared(target)
        if files.look(target.path) is None:
            prepared.outcome = Outcome(note="already gone")
        elif model.only_if_empty and holds_something(files, target.path):
            prepared.outcome = Outcome(state=KEPT, note="not empty")
        else:
            removal = work.here.guard.removal(target.path)
            prepared.targets = [target.narrowed(p) for p in removal.paths]
            prepared.note = f"kept inside: {plural(len(removal.kept), 'thing')}" if removal.kept else ""
            if not removal.paths:
                prepared.outcome = Outcome(state=KEPT, note=removal.kept[0][1] if removal.kept else "nothing in it may go")
        return prepared

    def _moved(self, ready: list[tuple[Action, Prepared]], work: Work, outcomes: dict[int, Outcome] | None = None) -> dict[int, Outcome]:
        """Set aside what is ready; an action gets its outcome once the last of its paths is moved."""
        from kleff.case.effects.moved import set_aside

        results = outcomes if outcomes is not None else {}
        left = {action.number: len(prepared.targets) for action, prepared in ready}
        sums = {action.number: Outcome(note=prepared.note) for action, prepared in ready}

        def told(number: int, move: "Move") -> None:
            left[number] -= 1
            sums[number].items += move.items
            sums[number].size += move.size
            if not left[number]:
                results[number] = sums[number]

        set_aside(work.hands, [(action.number, target) for action, prepared in ready for target in prepared.targets], told)
        return results

    def needs_rights(self, action: Action, here: Here) -> bool:
        return closed_to_us(action, here)

    def always_refused(self, step: LoadedStep, here: Here) -> Iterator[str]:
        model = step.model
        for text in model.paths[:ASKED] if isinstance(model, PathsDelete) else ():
            for expanded in here.resolver.meanings(text):
                if not expanded.pattern:
                    continue
                path = WPath(here.workstation.style, expanded.volume, expanded.pattern)
                verdict = here.guard.check(here.resolver.target(expanded, path))
                if verdict.word == "refused":
                    yield f"{text}: {verdict.reason}; name the product's own folder or file below it"
                    break

    # -- what a step names ------------------------------------------------------------------------------------

    def claims(self, step: LoadedStep, here: Here) -> Claimed:
        claimed, model = Claimed(), step.model
        if not isinstance(model, PathsDelete):
            return claimed
        for text in model.paths:
            for expanded in here.resolver.meanings(text, model.accounts):
                with contextlib.suppress(OSError, LinkOnTheWay, NotTold):  # the plan says so where it stands
                    for path in found_paths(expanded, here, model.at_most):
                        whole = not (model.only_if_empty and holds_something(here.workstation.files, path))
                        claimed.targets.append((here.resolver.target(expanded, path), whole))
                        claimed.shared += [path] if model.even_if_shared else []
        return claimed

    def users(self, step: LoadedStep, here: Here) -> set[str]:
        names: set[str] = set()
        model = step.model
        if not isinstance(model, PathsBackup | PathsDelete):
            return names
        for text in model.paths:
            for expanded in here.resolver.meanings(text, model.accounts):
                if expanded.account and expanded.account.name not in names:
                    with contextlib.suppress(OSError, LinkOnTheWay, NotTold):
                        names |= {expanded.account.name} if found_paths(expanded, here) else set()
        return names

    def advice(self, step: LoadedStep) -> list[str]:
        if isinstance(step.model, PathsDelete) and any("**" in p for p in step.model.paths):
            return ["deletes by '**'; name folders where you can, so that the preview can be read"]
        return []

    # -- restoring --------------------------------------------------------------------------------------------

    def plan_restore(self, item: "SavedItem", stem: str, restoring: "Restoring") -> Iterator[Action]:
        from kleff.objects.paths.restoring import plan

        yield plan(item, stem, restoring)

    def restore(self, action: Action, item: "SavedItem", restoring: "Restoring", work: Work) -> Outcome:
        from kleff.objects.paths.restoring import restore

        return restore(action, item, restoring, work)

    def missing(self, item: "SavedItem", stem: str, restoring: "Restoring", placed: Sequence[WPath]) -> list[str]:
        from kleff.objects.paths.restoring import missing

        return missing(item, restoring, placed)


KINDS = (PathKind(),)
