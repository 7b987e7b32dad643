"""Giving back files and folders."""

from __future__ import annotations

from base64 import b64encode
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime

from kleff.case.bag.index import Member, SavedItem
from kleff.case.guard.guard import Target
from kleff.errors import ActionFailed, LinkOnTheWay
from kleff.objects.base import ABSENT, DONE, KEPT, REFUSED, UNREADABLE, Action, Outcome, Work
from kleff.objects.decision import Decision, Head, decide
from kleff.objects.giving import BEFORE, Giving, Nowhere, owner_of, where_it_stood
from kleff.objects.paths import PathsBackup
from kleff.procedure.globs import parts_match
from kleff.texts import plain, plural, size
from kleff.workstation.common.files import Owner
from kleff.workstation.facets import Account
from kleff.workstation.paths import WPath

SHOWN = 8  # conflicts that are listed one by one


class PathsBack:
    """Files and folders of an archive."""

    def plan(self, item: SavedItem, stem: str, giving: Giving) -> Iterator[Action]:
        shown = item.members[0].path if item.members else item.label
        action = giving.action(item, stem, "put back", shown, account=item.account, undo=BEFORE)
        try:
            account = giving.account(item)
            base = _base(item, giving)
            decision = decide(item, giving, base)
            place = _common(list(decision.places.values())) or base
            action.target, action.exact = plain(str(place)), b64encode(place.raw).decode()
            action.account = account.name if account else ""
            _check(item, giving, account, base, decision)
        except (Nowhere, LinkOnTheWay) as error:
            action.state, action.reason = REFUSED, plain(getattr(error, "what", "") or str(error))
            yield action
            return
        except OSError as error:
            action.state, action.reason = UNREADABLE, plain(error.strerror or str(error))
            yield action
            return
        action.items, action.size = decision.items, decision.size
        if giving.replace:
            action.items += len(decision.conflicts)
            action.size += sum(item.members[n].size for n, _, _ in decision.conflicts)
        action.shows = _shows(item, giving, decision)
        if not decision.heads and not (decision.conflicts and giving.replace):
            action.state = KEPT if decision.conflicts else ABSENT
            action.reason = "something else stands there" if decision.conflicts else "the same is there already"
        yield action

    def do(self, action: Action, item: SavedItem, giving: Giving, work: Work) -> Outcome:
        try:
            account, base = giving.account(item), _base(item, giving)
            if giving.replace:
                _set_conflicts_aside(action, item, giving, base, work)
            decision = decide(item, giving, base)
            _check(item, giving, account, base, decision)
        except (Nowhere, LinkOnTheWay, OSError) as error:
            raise ActionFailed(f"{action.target}: {plain(str(error))}", remedy="look at it; then resume") from None
        if decision.heads:
            work.progress.start(f"putting back {action.label or action.target}", items=decision.items, size=decision.size)
            try:
                self._place(action, item, giving, decision, account, work)
            except OSError as error:
                raise ActionFailed(
                    f"{action.target} cannot be put back: {error.strerror}", remedy="make room, check the rights; then resume"
                ) from None
        note = f"{plural(len(decision.conflicts), 'thing')} stays as it is" if decision.conflicts else ""
        return Outcome(
            items=decision.items, size=decision.size, note=note, state=KEPT if decision.conflicts and not decision.heads else DONE
        )

    def _place(self, action: Action, item: SavedItem, giving: Giving, decision: Decision, account: Account | None, work: Work) -> None:
        from kleff.case.bag.unpacking import Unpacking, make_folder
        from kleff.case.placing import Ready, Staging, put_in_place
        from kleff.workstation.common.posix import sync_volume

        staging = Staging(work.hands, action.number)
        files = work.scene.workstation.files
        heads = list(decision.heads.values())
        staging.begin([h.place for h in heads])
        ready = [Ready(h.place, staging.room(h.place)) for h in heads]
        rooms: dict[int, WPath] = {}
        own = owner_of(account, giving.scene)
        for head, one in zip(heads, ready, strict=True):
            rooms |= {number: one.staged.child(*names) for number, names in head.members}
            for names in _folders_between(item, head):
                make_folder(files, one.staged.child(*names), own)
        there = {n: decision.places[n] for n in decision.same}
        owner = _owner_rule(account, giving)
        Unpacking(giving.bag, item, files, work.progress, rooms, there, owner, giving.own).run()
        for one in ready:
            with files.folder(one.staged.parent) as fd:
                sync_volume(fd)
        put_in_place(work.hands, action.number, ready)
        staging.end()

    def missing(self, item: SavedItem, stem: str, giving: Giving, placed: Sequence[WPath]) -> list[str]:
        try:
            decision = decide(item, giving, _base(item, giving))
        except (Nowhere, LinkOnTheWay, OSError) as error:
            return [plain(f"{item.label}: {error}")]
        changed = [place for _, place, _ in decision.conflicts if any(top.holds(place) for top in placed)]
        return [f"{plain(str(head.place))} is not there" for head in decision.heads.values()] + [
            f"{plain(str(place))} is not what was saved" for place in changed
        ]


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


def _folders_between(item: SavedItem, head: Head) -> list[tuple[str, ...]]:
    """The folders of a head that were not saved themselves, only what is in them; those above first."""
    saved = {names for number, names in head.members if item.members[number].type == "folder"}
    needed = {names[:depth] for _, names in head.members for depth in range(len(names))}
    return sorted(needed - saved, key=len)


def _base(item: SavedItem, giving: Giving) -> WPath:
    """The folder all members lie in here, links on the way resolved."""
    files = giving.scene.workstation.files
    base = giving.base(item)
    if base is None:
        whole = where_it_stood(item.members[0].path_b64, giving.scene) if item.members else None
        if whole is None:
            raise Nowhere("nothing was saved")
        return WPath(whole.style, whole.volume, ())
    return files.resolve(base.child("-")).path.parent


def _check(item: SavedItem, giving: Giving, account: Account | None, base: WPath, decision: Decision) -> None:
    """Only where the technician's own procedure saves from, for that very account, and where the guard lets things be put.

    What hangs on an account's folder is claimed for that account alone: a bag that hides whose it is would else reach, with an
    administrator's rights, wherever an account has redirected its folders to.

    Raises:
        Nowhere: it does not.
    """
    scene = giving.scene
    patterns = [
        (e.volume, e.pattern) for model in giving.steps(PathsBackup) for text in model.paths
        for e in scene.resolver.expand(text, model.accounts) if not e.absent and e.account == account
    ]  # fmt: skip
    folded = scene.workstation.style.folded
    above = giving.base(item) or base  # as the procedure names it, before links on the way are resolved
    claimed: set[object] = set()
    for place in decision.places.values():
        named = above.child(*place.parts[len(base.parts) :])
        ends = range(1, len(named.parts) + 1)
        if named.parent.key not in claimed and not any(
            volume == named.volume and parts_match(pattern, named.parts[:end], folded) for volume, pattern in patterns for end in ends
        ):
            raise Nowhere(f"the procedure saves nothing from {plain(str(named))}, so nothing is put there")
        claimed.add(named.key)
    for place in {h.place.parent.key: h.place for h in decision.heads.values()}.values():
        verdict = scene.guard.check_placing(Target(place, len(place.parts), 9, account, base if account else None))
        if not verdict.ok:
            raise Nowhere(f"{plain(str(place))}: {verdict.reason}")


def _shows(item: SavedItem, giving: Giving, decision: Decision) -> list[str]:
    lines = []
    stays = "set aside first" if giving.replace else "stays"
    for number, place, look in decision.conflicts[:SHOWN]:
        saved = item.members[number]
        there = f"{size(look.size)} of {_day(look.times[1])}" if look.is_file else f"a {look.word}"
        lines.append(f"{stays}: {plain(str(place))}, {there}; saved is {size(saved.size)} of {_day(saved.mtime)}")
    if len(decision.conflicts) > SHOWN:
        lines.append(f"{stays}: {plural(len(decision.conflicts) - SHOWN, 'more')}")
    if decision.same and decision.heads:
        lines.append(f"{plural(len([n for n in decision.same if item.members[n].type != 'folder']), 'file')} the same already")
    special = [m.path for m in item.members if m.type == "special"]
    if special:
        lines.append(f"not in the bag, only listed: {plain(', '.join(special[:3]))}")
    if any(m.mode & 0o6000 for m in item.members):
        lines.append("programs that ran with their owner's rights are put back without them")
    return lines


def _day(time: int) -> str:
    return f"{datetime.fromtimestamp(time / 10**9, UTC):%Y-%m-%d}"


def _owner_rule(account: Account | None, giving: Giving) -> Callable[[Member], Owner]:
    own = owner_of(account, giving.scene)

    def owner(member: Member) -> Owner:
        """On its own workstation what was nobody's in particular keeps its owner; else it is the account's, or the administrator's."""
        if own is None or (account is None and giving.own):
            return own and (member.uid, member.gid)
        return own

    return owner


def _set_conflicts_aside(action: Action, item: SavedItem, giving: Giving, base: WPath, work: Work) -> None:
    from kleff.case.effects import set_aside

    account = giving.account(item)
    targets = [
        (action.number, Target(place, len(place.parts), 9, account, base if account else None))
        for _, place, _ in decide(item, giving, base).conflicts
    ]
    set_aside(work.hands, targets, lambda number, moved: None)
