"""Taking a case back: one playback, backward through the effects, for a failed step, a crash and the technician's own wish."""

from __future__ import annotations

from dataclasses import dataclass, field

from kleff.case.effect_names import KEY, MOVED, PLACED, UNINSTALLER, VALUE, WRITTEN
from kleff.case.effects import Hands, areas_of, drop_spares
from kleff.case.inverses import KINDS, reconcile
from kleff.case.record.journal import Effect
from kleff.case.uninstallers import started_by, until_still
from kleff.errors import DamagedCase, Interrupted, KleffError, Refused
from kleff.texts import plural
from kleff.workstation.paths import from_raw


@dataclass
class Undone:
    """What an undo came to: how many effects were taken back, and what was not, in plain words."""

    count: int = 0
    stays: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def undo_case(hands: Hands, only: set[int] | None = None) -> Undone:
    """Take back every effect, the last first.

    An effect that cannot be taken back is named and left; nothing set aside is ever discarded because of it.

    Args:
        only: the numbers of the actions whose effects are taken back; the case stays finished then.

    Raises:
        Refused: the case holds nothing that could be taken back any more, or a part is asked of an unfinished one.
        Interrupted: asked to stop; what is taken back so far is journaled, and undo can be called again.
    """
    case = hands.case
    if case.state == "discarded":
        raise Refused(
            "what was set aside has been discarded; it cannot be taken back",
            where=str(case.folder),
            remedy=f"put back what was saved with  kleff restore {case.folder}",
        )
    if only is not None and case.state != "finished":
        raise Refused(
            f"the case is {case.state}; a part of it can be taken back once it is finished",
            where=str(case.folder),
            remedy="take it all back, or finish it first",
        )
    if only is None:
        case.enter(hands.workstation, "undoing")
    _wait_for_uninstallers(hands)
    reconcile(hands)
    result = Undone()
    # `stays` again: what stood in the way may be gone by now.
    effects = [e for e in reversed(case.journal.effects()) if e.state in ("done", "stays")]
    if only is not None:
        effects = _part(hands, effects, only)
    hands.progress.start("taking back", items=sum(int(e.data.get("items", 0)) for e in effects))
    for effect in effects:
        _check_stop(hands)
        state, note = _undo(hands, effect.id)
        case.journal.mark([effect.id], state, note)
        if state in ("undone", "noted"):
            result.count += state == "undone"
            result.notes += [note] if note else []
        else:
            result.stays.append(note)
    drop_spares(hands)
    hands.area.clear(areas_of(hands))
    if only is None:
        case.enter(hands.workstation, "undone")
    else:
        case.journal.tell(f"taken back in part: {plural(result.count, 'change')} of action {', '.join(map(str, sorted(only)))}")
    return result


def can_be_tried_again(effect: Effect) -> bool:
    """Whether an effect that could not be taken back may be, once what stood in the way is gone."""
    return effect.state == "stays" and (effect.kind in (MOVED, KEY, VALUE, PLACED, WRITTEN) or bool(effect.data.get("index")))


def _part(hands: Hands, effects: list[Effect], only: set[int]) -> list[Effect]:
    """The effects of some actions, and of the folders above that were set aside themselves and must stand first."""
    style = hands.workstation.style
    places = [from_raw(style, e.place) for e in effects if e.action in only and e.kind == MOVED]

    def needed(effect: Effect) -> bool:
        return effect.kind == MOVED and any(place.below(from_raw(style, effect.place)) for place in places)

    return [e for e in effects if e.action in only or needed(e)]


def _wait_for_uninstallers(hands: Hands) -> None:
    """An uninstaller that a killed run started may still be at work, or a copy it handed over to: nothing is put back under it.

    Raises:
        Interrupted: asked to stop.
    """
    for effect in hands.case.journal.effects():
        if effect.kind != UNINSTALLER or effect.state != "intended":
            continue
        data, running = effect.data, started_by(effect, hands.workstation)
        if running is None and data.get("spare") == "making":
            continue
        hands.progress.say(f"waiting for the uninstaller of {data.get('what', '')} to end")
        while running is not None and hands.workstation.commands is not None and not hands.workstation.commands.wait(running, 0.25):
            _check_stop(hands)
        until_still(hands, effect, hands.progress.should_stop)
        _check_stop(hands)


def _check_stop(hands: Hands) -> None:
    if hands.progress.should_stop():
        folder = hands.case.folder
        raise Interrupted("stopped; part of the case is taken back", where=str(folder), remedy=f"go on with  kleff undo {folder}")


def _undo(hands: Hands, number: int) -> tuple[str, str]:
    effect = hands.case.journal.effect(number)
    try:
        return KINDS[effect.kind].undo(hands, effect)
    except DamagedCase as error:
        return "stays", str(error).splitlines()[0]
    except KleffError as error:
        return "stays", error.what
    except OSError as error:
        return "stays", f"{effect.kind}: {error.strerror or error}"
