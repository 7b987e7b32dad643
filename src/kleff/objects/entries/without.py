"""A registered product is removed without its uninstaller: its folder as a deletion of that path would, its registration last."""

from collections.abc import Iterator

from kleff.errors import ActionFailed
from kleff.objects.base.action import KEPT, REFUSED, TO_DO, UNREADABLE, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Does, Plans, able
from kleff.objects.base.known import kind_of
from kleff.objects.paths.steps import PathsDelete
from kleff.procedure.globs import escaped
from kleff.procedure.loaded import LoadedStep
from kleff.texts import plural
from kleff.workstation.identity import KeyId
from kleff.workstation.things import Entry

BACK = "moved back from the set-aside area, and its registration written back"


def plan(action: Action, entry: Entry, step: LoadedStep, here: Here) -> None:
    """Put into an action what of a product goes."""
    for part, _ in _folder(entry, step, here):
        if part.state == TO_DO:
            action.shows.append(f"{part.verb} {part.target}, {plural(part.items, 'item')}")
            action.size += part.size
        elif part.state in (REFUSED, UNREADABLE):
            action.state, action.reason = part.state, f"{part.target}: {part.reason}"
        elif part.state == KEPT:
            action.shows.append(f"stays: {part.target}: {part.reason}")
        action.stays += part.stays
    if isinstance(entry.id, KeyId):
        action.shows.append(f"delete key {entry.id.key}")
        verdict = here.guard.check_key(entry.id.key)
        if not verdict.ok:
            action.judged(verdict.word, verdict.reason, verdict.remedy)
    action.undo = BACK


def remove(action: Action, entry: Entry, step: LoadedStep, work: Work) -> Outcome:
    """Do it; what is gone already is done.

    Raises:
        ActionFailed: something of it may not go, or cannot.
    """
    done = Outcome(note=f"removed without its uninstaller: {entry.location or 'no folder is registered'}")
    for part, made in _folder(entry, step, work.here):
        if part.state in (REFUSED, UNREADABLE):
            raise ActionFailed(f"{part.target}: {part.reason}", remedy="delete it in a step of its own, or by hand")
        doing = able(kind_of(made.kind), Does)
        if part.state == TO_DO and doing is not None:
            part.number = action.number
            outcome = doing.do(part, made, work)
            done.items, done.size = done.items + outcome.items, done.size + outcome.size
    _registration(action, entry, work)
    return done


def _folder(entry: Entry, step: LoadedStep, here: Here) -> Iterator[tuple[Action, LoadedStep]]:
    """Where it is installed, as the step plans it that would delete it by itself."""
    place = here.workstation.files.path(entry.location) if entry.location else None
    if place is None or not place.parts:
        return
    planning = able(kind_of("paths"), Plans)
    made = LoadedStep("delete", "paths", step.index, step.line, PathsDelete(paths=[escaped(str(place))]))
    assert planning is not None
    for action in planning.plan(made, here):
        yield action, made


def _registration(action: Action, entry: Entry, work: Work) -> None:
    from kleff.case.effects.key_removed import remove_key

    registry = work.here.workstation.registry
    if not isinstance(entry.id, KeyId) or registry is None or not registry.exists(entry.id.key):
        return
    verdict = work.here.guard.check_key(entry.id.key)
    tree = registry.tree(entry.id.key)
    if not verdict.ok or tree is None:
        raise ActionFailed(f"{entry.id.key}: {verdict.reason}", remedy="delete it by hand, then resume")
    remove_key(work.hands, action.number, entry.id.key, tree)
