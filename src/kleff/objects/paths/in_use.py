"""What a program holds open on Windows: everything around it is set aside now, it alone at the restart, by the system itself."""

from __future__ import annotations

from kleff.case.guard.guard import Target
from kleff.errors import ActionFailed, InUse
from kleff.objects.base.action import WAITING, Action, Outcome
from kleff.objects.base.here import Work
from kleff.texts import plural
from kleff.workstation.paths import WPath
from kleff.workstation.things import line_of

SHOWN = 3  # of what is in use, in a message


def set_aside_around(action: Action, targets: list[Target], work: Work, since: int) -> Outcome:
    """Set aside all that can be; what is held goes at the restart.

    Args:
        since: the number of the first effect that counts for this try.

    Raises:
        ActionFailed: something else keeps it, or it is held and the workstation is not to be restarted, or was already.
    """
    from kleff.case.effects.moved import Moved
    from kleff.case.effects.moved_at_restart import MovedAtRestart

    held: list[WPath] = []
    outcome = Outcome()
    for target in targets:
        _take(action, target, work, held)
    for one in work.hands.case.journal.effects(action.number):
        if one.id >= since and one.state == "done" and isinstance(one.effect, Moved) and not isinstance(one.effect, MovedAtRestart):
            outcome.items, outcome.size = outcome.items + one.effect.items, outcome.size + one.effect.size
    if held:
        outcome.state = WAITING
        outcome.note = _told(held, work) + ": moved at the restart, by the system itself"
    return outcome


def after_restart(action: Action, work: Work) -> int:
    """What the system was to move is looked at; it may not have done it. Returns the number of the first effect that is not told yet."""
    from kleff.case.effects.moved_at_restart import forget_moves

    if work.here.workstation.renames is None or not _restarted(work):
        return 0
    forget_moves(work.hands, action.number)
    return work.hands.case.journal.next_effect()


def _take(action: Action, target: Target, work: Work, held: list[WPath]) -> None:
    """Set a path aside, or what is in it, one after the other, if something in it is held."""
    from kleff.case.effects.moved import set_aside

    files = work.here.workstation.files
    look = files.look(target.path)
    if look is None:
        return
    try:
        set_aside(work.hands, [(action.number, target)], lambda number, move: None)
        return
    except InUse as error:
        refused = error
    before = len(held)
    if look.is_folder and not look.is_link:
        for name in files.names(target.path):
            _take(action, target.narrowed(target.path.child(name)), work, held)
        if len(held) > before:
            return  # it goes once it is empty
        try:
            set_aside(work.hands, [(action.number, target)], lambda number, move: None)
            return
        except InUse as error:  # a program works in it
            refused = error
    _at_the_restart(action, target, work, refused, held, look.is_folder)


def _at_the_restart(action: Action, target: Target, work: Work, refused: InUse, held: list[WPath], folder: bool) -> None:
    from kleff.case.effects.moved_at_restart import set_aside_at_restart

    here = work.here
    holders = _told([target.path], work)
    if here.workstation.renames is None or here.procedure.product.restart == "never" or not here.workstation.boot:
        raise ActionFailed(holders, remedy="end it, or restart the workstation; then resume")
    if not here.workstation.files.only_admin(target.path.parent):  # until then somebody could have the name lead elsewhere
        raise ActionFailed(
            f"{holders}, in a folder that others than an administrator can change", remedy="end it, or sign that account out; then resume"
        )
    if _restarted(work):
        raise ActionFailed(f"{holders}, after the restart too", remedy="stop what opens it, by a step or by hand; then resume")
    if folder and not any(who for _, who in _holders([target.path], work)):
        raise refused  # its rights may say so
    set_aside_at_restart(work.hands, action.number, target)
    held.append(target.path)


def _restarted(work: Work) -> bool:
    return work.hands.case.text("restarted") == "yes"


def _holders(paths: list[WPath], work: Work) -> list[tuple[WPath, str]]:
    facet = work.here.workstation.processes
    found = []
    for path in paths:
        who = facet.holders([path]) if facet is not None else []
        found.append((path, ", ".join(sorted({line_of(process) for process, _ in who}))))
    return found


def _told(paths: list[WPath], work: Work) -> str:
    """What is in use, and by whom, for people."""
    told = [f"{path} is in use{f' by {who}' if who else ''}" for path, who in _holders(paths[:SHOWN], work)]
    more = len(paths) - SHOWN
    return "; ".join(told) + (f"; and {plural(more, 'other')}" if more > 0 else "")
