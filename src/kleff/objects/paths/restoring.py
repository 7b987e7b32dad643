"""Restoring files and folders."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime

from kleff.case.bag.index import Member, SavedItem
from kleff.case.guard.guard import Target
from kleff.errors import ActionFailed, LinkOnTheWay, remedy_for
from kleff.objects.base.action import ABSENT, DONE, KEPT, REFUSED, UNREADABLE, Action, Outcome
from kleff.objects.base.here import Work
from kleff.objects.base.restoring import BEFORE, Nowhere, Restoring, owner_of, where_it_stood
from kleff.objects.paths.comparing import Decision, Top, decide
from kleff.objects.paths.steps import PathsBackup
from kleff.procedure.globs import parts_match
from kleff.texts import plural, size
from kleff.workstation.files.folders import real_folder
from kleff.workstation.files.protocol import Owner
from kleff.workstation.identity import path_id
from kleff.workstation.paths import WPath
from kleff.workstation.things import Account

SHOWN = 8  # conflicts that are listed one by one


def plan(item: SavedItem, stem: str, restoring: Restoring) -> Action:
    """What restoring an item's files means here. Nothing is changed."""
    shown = item.members[0].path if item.members else item.label
    action = restoring.action(item, stem, "put back", shown, account=item.account, undo=BEFORE)
    try:
        account = restoring.account(item)
        base = base_of(item, restoring)
        decision = decide(item, restoring, base)
        place = _common(list(decision.places.values())) or base
        action.target, action.about = str(place), [path_id(place)]
        action.account = account.name if account else ""
        _check(item, restoring, account, base, decision)
    except (Nowhere, LinkOnTheWay) as error:
        action.state, action.reason = REFUSED, error.what if isinstance(error, LinkOnTheWay) else str(error)
        return action
    except OSError as error:
        action.state, action.reason = UNREADABLE, error.strerror or str(error)
        return action
    action.items, action.size = decision.items, decision.size
    if restoring.replace:
        action.items += len(decision.conflicts)
        action.size += sum(item.members[n].size for n, _, _ in decision.conflicts)
    _shown(action, item, restoring, decision)
    if not decision.tops and not (decision.conflicts and restoring.replace):
        action.state = KEPT if decision.conflicts else ABSENT
        action.reason = "something else stands there" if decision.conflicts else "the same is there already"
    return action


def restore(action: Action, item: SavedItem, restoring: Restoring, work: Work) -> Outcome:
    """Put in place what is missing; done twice is done once.

    Raises:
        ActionFailed: naming the thing and the remedy.
    """
    try:
        account, base = restoring.account(item), base_of(item, restoring)
        if restoring.replace:
            _set_conflicts_aside(action, item, restoring, base, work)
        decision = decide(item, restoring, base)
        _check(item, restoring, account, base, decision)
    except (Nowhere, LinkOnTheWay, OSError) as error:
        raise ActionFailed(f"{action.target}: {error}", remedy="look at it; then resume") from None
    if decision.tops:
        work.progress.start(f"putting back {action.label or action.target}", items=decision.items, size=decision.size)
        try:
            _place(action, item, restoring, decision, account, work)
        except OSError as error:
            raise ActionFailed(f"{action.target} cannot be put back: {error.strerror}", remedy=remedy_for(error)) from None
    note = f"{plural(len(decision.conflicts), 'thing')} stays as it is" if decision.conflicts else ""
    state = KEPT if decision.conflicts and not decision.tops else DONE
    return Outcome(items=decision.items, size=decision.size, note=note, state=state)


def _place(action: Action, item: SavedItem, restoring: Restoring, decision: Decision, account: Account | None, work: Work) -> None:
    from kleff.case.bag.unpacking import Unpacking, make_folder
    from kleff.case.effects.placed import Ready, Staging, put_in_place

    staging = Staging(work.hands, action.number)
    files = work.here.workstation.files
    tops = list(decision.tops.values())
    staging.begin([t.place for t in tops])
    ready = [Ready(t.place, staging.room(t.place)) for t in tops]
    rooms: dict[int, WPath] = {}
    own, whose = owner_of(account, restoring.here), account.id if account else ""
    for top, one in zip(tops, ready, strict=True):
        rooms |= {number: one.staged.child(*names) for number, names in top.members}
        for names in _folders_between(item, top):
            make_folder(files, one.staged.child(*names), own, whose)
    there = {n: decision.places[n] for n in decision.same}
    owner = _owner_rule(account, restoring)
    Unpacking(restoring.bag, item, files, work.progress, rooms, there, owner, whose, restoring.own).run()
    for one in ready:
        with files.folder(one.staged.parent) as folder:
            folder.flush_volume()
    put_in_place(work.hands, action.number, ready)
    staging.end()


def missing(item: SavedItem, restoring: Restoring, placed: Sequence[WPath]) -> list[str]:
    """Compared again: what is not there, and what of what was placed has changed since."""
    try:
        decision = decide(item, restoring, base_of(item, restoring))
    except (Nowhere, LinkOnTheWay, OSError) as error:
        return [f"{item.label}: {error}"]
    changed = [place for _, place, _ in decision.conflicts if any(top.holds(place) for top in placed)]
    gone = [f"{top.place} is not there" for top in decision.tops.values()] + [f"{place} is not what was saved" for place in changed]
    lost = Counter(n for m in item.members for n in restoring.changed.lost(m.uid, m.gid)) if placed and not item.account else Counter()
    return gone + [f"{name} is not here any more: {plural(n, 'thing')} of it belong to the administrator now" for name, n in lost.items()]


def _common(places: list[WPath]) -> WPath | None:
    """The lowest folder that holds all of them, or the one thing itself."""
    if not places:
        return None
    shared = places[0].parts
    for place in places[1:]:
        shared = shared[
            : next((n for n, (a, b) in enumerate(zip(shared, place.parts, strict=False)) if a != b), min(len(shared), len(place.parts)))
        ]
    return WPath(places[0].style, places[0].volume, shared)


def _folders_between(item: SavedItem, top: Top) -> list[tuple[str, ...]]:
    """The folders of what is put in place that were not saved themselves, only what is in them; those above first."""
    saved = {names for number, names in top.members if item.members[number].type == "folder"}
    needed = {names[:depth] for _, names in top.members for depth in range(len(names))}
    return sorted(needed - saved, key=len)


def base_of(item: SavedItem, restoring: Restoring) -> WPath:
    """The folder all members lie in here, links on the way resolved."""
    files = restoring.here.workstation.files
    base = restoring.base(item)
    if base is None:
        whole = where_it_stood(item.members[0].path_b64, restoring.here) if item.members else None
        if whole is None:
            raise Nowhere("nothing was saved")
        return WPath(whole.style, whole.volume, ())
    return real_folder(files, base)


def _check(item: SavedItem, restoring: Restoring, account: Account | None, base: WPath, decision: Decision) -> None:
    """Only where the technician's own procedure saves from, for that very account, and where the guard lets things be put.

    What hangs on an account's folder is claimed for that account alone: a bag that hides whose it is would else reach, with an
    administrator's rights, wherever an account has redirected its folders to.

    Raises:
        Nowhere: it does not.
    """
    here = restoring.here
    patterns = [
        (e.volume, e.pattern) for model in restoring.steps(PathsBackup) for text in model.paths
        for e in here.resolver.expand(text, model.accounts) if not e.absent and e.account == account
    ]  # fmt: skip
    folded = here.workstation.style.folded
    above = restoring.base(item) or base  # as the procedure names it, before links on the way are resolved
    claimed: set[object] = set()
    for place in decision.places.values():
        named = above.child(*place.parts[len(base.parts) :])
        ends = range(1, len(named.parts) + 1)
        if named.parent.key not in claimed and not any(
            volume == named.volume and parts_match(pattern, named.parts[:end], folded) for volume, pattern in patterns for end in ends
        ):
            raise Nowhere(f"the procedure saves nothing from {named}, so nothing is put there")
        claimed.add(named.key)
    for place in {t.place.parent.key: t.place for t in decision.tops.values()}.values():
        verdict = here.guard.check_placing(Target(place, len(place.parts), 9, account, base if account else None))
        if not verdict.ok:
            raise Nowhere(f"{place}: {verdict.reason}")


def _shown(action: Action, item: SavedItem, restoring: Restoring, decision: Decision) -> None:
    """What stands in the way, what is there already, and what does not come back as it was."""
    for line in _conflicts(item, decision):
        if restoring.replace:
            action.shows.append(f"set aside first: {line}")
        else:
            action.stands(f"stays: {line}")
    if decision.same and decision.tops:
        action.shows.append(f"{plural(len([n for n in decision.same if item.members[n].type != 'folder']), 'file')} the same already")
    special = [m.path for m in item.members if m.type == "special"]
    if special:
        action.shows.append(f"not in the bag, only listed: {', '.join(special[:3])}")
    if any(m.mode & 0o6000 for m in item.members):
        action.shows.append("programs that ran with their owner's rights are put back without them")


def _conflicts(item: SavedItem, decision: Decision) -> Iterator[str]:
    for number, place, look in decision.conflicts[:SHOWN]:
        saved = item.members[number]
        there = f"{size(look.size)} of {_day(look.times[1])}" if look.is_file else f"a {look.word}"
        yield f"{place}, {there}; saved is {size(saved.size)} of {_day(saved.mtime)}"
    if len(decision.conflicts) > SHOWN:
        yield plural(len(decision.conflicts) - SHOWN, "more")


def _day(time: int) -> str:
    return f"{datetime.fromtimestamp(time / 10**9, UTC):%Y-%m-%d}"


def _owner_rule(account: Account | None, restoring: Restoring) -> Callable[[Member], Owner]:
    own = owner_of(account, restoring.here)

    def owner(member: Member) -> Owner:
        """On its own workstation what was nobody's in particular keeps its owner; else it is the account's, or the administrator's."""
        if own is None or (account is None and restoring.own):
            return own and restoring.changed.owner(member.uid, member.gid)
        return own

    return owner


def _set_conflicts_aside(action: Action, item: SavedItem, restoring: Restoring, base: WPath, work: Work) -> None:
    from kleff.case.effects.moved import set_aside

    account = restoring.account(item)
    targets = [
        (action.number, Target(place, len(place.parts), 9, account, base if account else None))
        for _, place, _ in decide(item, restoring, base).conflicts
    ]
    set_aside(work.hands, targets, lambda number, move: None)
