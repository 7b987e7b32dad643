"""Taking a case back: one playback, backward through the effects, for a failed step, a crash and the technician's own wish."""

from __future__ import annotations

from base64 import b64decode
from dataclasses import dataclass, field

from kleff.case.discard import drop_spares
from kleff.case.effects.base import TakenBack, check_all_known, effect_of, reconcile, stays
from kleff.case.effects.packages.package_removed import clear_up
from kleff.case.hands import Hands
from kleff.case.owners import owners_missing, settle_owners
from kleff.case.record.beforehand import read_beforehand
from kleff.case.record.effect import Journaled
from kleff.case.record.folder import Case
from kleff.case.unknown_aside import unknown_aside
from kleff.errors import DamagedCase, Interrupted, KleffError, Refused, Unflushed, remedy_for
from kleff.texts import plural
from kleff.workstation.paths import from_raw

FAILED = "failed"  # of an inverse, not of an effect: what it was to take back stands in the journal as before


@dataclass
class Undone:
    """What an undo came to, in plain words.

    Attributes:
        count: how many effects were taken back; stays: what was not and is left so.
        failed: what went wrong, by the number of the action: the case stays open, and undo can be tried again.
        waits: what was not tried because of that, by the number of the action.
    """

    count: int = 0
    stays: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    failed: dict[int, str] = field(default_factory=dict)
    waits: dict[int, str] = field(default_factory=dict)


def check_can_undo(case: Case, only: set[int] | None = None) -> None:
    """Whether there is anything left to take back. Args: only: a part of it.

    Raises:
        Refused: there is not, or a part is asked of a case that is being taken back.
        NewerCase: another Kleff made it.
    """
    check_all_known(case)
    if case.state == "undone" and not any(map(can_be_tried_again, case.journal.effects())) and not owners_missing(case):
        raise Refused("the case is taken back already", where=str(case.folder), remedy=f"kleff report {case.folder}")
    if case.state == "discarded":
        raise Refused(
            "what was set aside has been discarded; it cannot be taken back",
            where=str(case.folder),
            remedy=f"put back what was saved with  kleff restore {case.folder}",
        )
    if only is not None and case.state not in ("finished", "open", "waiting"):
        raise Refused(
            f"the case is {case.state}; no part of it can be taken back any more", where=str(case.folder), remedy="take it all back"
        )


def undo_case(hands: Hands, only: set[int] | None = None, past: dict[int, str] | None = None) -> Undone:
    """Take back every effect, the last first.

    An effect that cannot be taken back is named and left; nothing set aside is ever discarded because of it. One whose inverse fails
    keeps the case open, to be tried again.

    Args:
        only: the numbers of the actions whose effects are taken back; the case stays as it is then.
        past: the numbers of actions that are not taken back if that fails, and why.

    Raises:
        Interrupted: asked to stop; what is taken back so far is journaled, and undo can be called again.
    """
    case = hands.case
    if only is None:
        case.enter(hands.workstation, "undoing")
    for one in case.journal.effects():
        effect_of(one).wait(one, hands)
    clear_up(hands.workstation)
    reconcile(hands)
    result = Undone()
    # `stays` again: what stood in the way may be gone by now.
    effects = [e for e in reversed(case.journal.effects()) if e.state in ("done", "stays")]
    if only is not None:
        effects = _part(hands, effects, only)
    again = _appeared_again(hands)
    hands.progress.start("taking back", items=sum(effect_of(e).weight() for e in effects))
    for one in effects:
        hands.check_stop()
        if result.failed and effect_of(one).starts_programs:
            first = next(iter(result.failed))
            result.waits.setdefault(one.action, f"{_named(hands, one)}: waits until action {first} is taken back")
            continue
        back = again.get(one.id) or _undo(hands, one)
        if back.state == FAILED and one.action in (past or {}):
            back = stays(f"{back.note}; left: {(past or {})[one.action]}")
        if back.state == FAILED:  # it stays as it is journaled, and is tried again by the next undo
            result.failed[one.action] = back.note
            case.journal.tell(f"could not be taken back: {back.note}")
            continue
        case.journal.mark([one.id], back.state, back.note)
        if back.state in ("undone", "noted", "kept"):
            result.count += back.state == "undone"
            result.notes += [back.note] if back.note else []
        else:
            result.stays.append(back.note)
    _settle(hands, result, only)
    return result


def _settle(hands: Hands, result: Undone, only: set[int] | None) -> None:
    """Owners by name, what was only needed meanwhile, and the state of the case."""
    case = hands.case
    back_again = [e for e in case.journal.effects() if e.state == "undone"]
    try:
        result.stays += settle_owners(hands, back_again, read_beforehand(case).numbers)
    except DamagedCase as error:  # everything is back; whose it is by name is not known
        result.stays.append(error.what)
    drop_spares(hands)
    hands.area.clear(hands.areas())
    if only is not None:
        result.notes += [note for number in sorted(only) if (note := _removed_elsewhere(hands, number))]
        case.journal.tell(f"taken back in part: {plural(result.count, 'change')} of action {', '.join(map(str, sorted(only)))}")
        return
    if result.failed:
        return
    for one in case.journal.effects():
        if one.state == "stays":  # what was held for its sake is let go all the same
            effect_of(one).release(one, hands)
    result.stays += unknown_aside(hands)
    case.enter(hands.workstation, "undone")


def _appeared_again(hands: Hands) -> dict[int, TakenBack]:
    """Of what was set aside from a place that an earlier effect had emptied: it had appeared since, and stays aside for the original."""
    first: set[object] = set()
    found: dict[int, TakenBack] = {}
    for one in hands.case.journal.effects():
        place = effect_of(one).came_from(one, hands.workstation.style) if effect_of(one).aside() and one.state != "void" else None
        if place is None:
            continue
        if any(key in first for key in place.line):
            found[one.id] = TakenBack("kept", f"{place} had appeared again after its removal; what appeared stays set aside")
        else:
            first.add(place.key)
    return found


def _removed_elsewhere(hands: Hands, number: int) -> str:
    """Of an action without effects of its own: which other action has taken along what it is about; "" if none is known to have."""
    journal, style = hands.case.journal, hands.workstation.style
    if journal.effects(number):
        return ""
    about = [from_raw(style, raw) for raw in journal.paths_of(number)]
    for one in journal.effects():
        taken = [from_raw(style, b64decode(raw)) for raw in effect_of(one).took_along(one, hands)]
        if any(mine.holds(path) for mine in about for path in taken):
            what = effect_of(one).what(one, style)
            return f"what action {number} names was removed by action {one.action} ({what}); take that back with  --only {one.action}"
    return ""


def can_be_tried_again(one: Journaled) -> bool:
    """Whether an effect that could not be taken back may be, once what stood in the way is gone."""
    return one.state == "stays" and effect_of(one).again(one)


def _part(hands: Hands, effects: list[Journaled], only: set[int]) -> list[Journaled]:
    """The effects of some actions, and of the folders above that were taken away themselves and must stand first."""
    style = hands.workstation.style
    from_ = {one.id: effect_of(one).came_from(one, style) for one in effects}
    places = [place for one in effects if one.action in only and (place := from_[one.id]) is not None]

    def needed(one: Journaled) -> bool:
        above = from_[one.id]
        return above is not None and any(place.below(above) for place in places)

    return [one for one in effects if one.action in only or needed(one)]


def _undo(hands: Hands, one: Journaled) -> TakenBack:
    try:
        return effect_of(one).undo(one, hands)
    except (Unflushed, Interrupted):
        raise
    except DamagedCase as error:  # another try would read the same
        return stays(str(error).splitlines()[0])
    except KleffError as error:
        remedy = error.remedy.replace("then resume", "then undo again")
        return TakenBack(FAILED, f"{_named(hands, one)}: {error.what}" + (f"; {remedy}" if remedy else ""))
    except OSError as error:
        told = f"{error.strerror or error}" + (f": {error.filename}" if error.filename else "")
        return TakenBack(FAILED, f"{_named(hands, one)}: {told}; {remedy_for(error, 'undo again')}")


def _named(hands: Hands, one: Journaled) -> str:
    return effect_of(one).what(one, hands.workstation.style) or one.kind
