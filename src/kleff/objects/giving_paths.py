"""Giving back files and folders."""

from __future__ import annotations

import hashlib
from base64 import b64decode
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from kleff.case.guard import Target
from kleff.case.saved import Member, SavedItem
from kleff.case.saved_bag import relative_names
from kleff.errors import ActionFailed, LinkOnTheWay
from kleff.objects.base import ABSENT, DONE, KEPT, REFUSED, UNREADABLE, Action, Outcome, Scene, Work
from kleff.objects.giving import BEFORE, Giving, Nowhere, where_it_stood
from kleff.objects.paths import PathsBackup
from kleff.procedure.globs import parts_match
from kleff.texts import plain, plural, size
from kleff.workstation.facets import Account
from kleff.workstation.paths import Look, WPath

if TYPE_CHECKING:
    from kleff.case.unpacking import Owner

SHOWN = 8  # conflicts that are listed one by one


@dataclass
class Head:
    """The topmost of what is put in place by one rename; `members` by their number, with their names below it."""

    place: WPath
    members: list[tuple[int, tuple[str, ...]]] = field(default_factory=list)


@dataclass
class Decision:
    """What giving back an item's files means here.

    Attributes:
        heads: what is not there and is put in place.
        same: numbers of members that are there and the same.
        conflicts: members that something else stands in the place of.
    """

    heads: dict[object, Head] = field(default_factory=dict)
    same: list[int] = field(default_factory=list)
    conflicts: list[tuple[int, WPath, Look]] = field(default_factory=list)
    places: dict[int, WPath] = field(default_factory=dict)
    items: int = 0
    size: int = 0


class PathsBack:
    """Files and folders of an archive."""

    def plan(self, item: SavedItem, stem: str, giving: Giving) -> Iterator[Action]:
        shown = item.members[0].path if item.members else item.label
        action = giving.action(item, stem, "put back", shown, account=item.account, undo=BEFORE)
        try:
            account = giving.account(item)
            base = _base(item, giving)
            decision = decide(item, giving, base)
            action.target = plain(str(_common(list(decision.places.values())) or base))
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
        from kleff.case.placing import Staging

        try:
            account, base = giving.account(item), _base(item, giving)
            if giving.replace:
                _set_conflicts_aside(action, item, giving, base, work)
            decision = decide(item, giving, base)
            _check(item, giving, account, base, decision)
        except (Nowhere, LinkOnTheWay, OSError) as error:
            raise ActionFailed(f"{action.target}: {plain(str(error))}", remedy="look at it; then resume") from None
        staging = Staging(work.hands, action.number)
        if decision.heads:
            work.progress.start(f"putting back {action.label or action.target}", items=decision.items, size=decision.size)
            try:
                self._place(action, item, giving, decision, account, work, staging)
            except OSError as error:
                raise ActionFailed(
                    f"{action.target} cannot be put back: {error.strerror}", remedy="make room, check the rights; then resume"
                ) from None
        note = f"{plural(len(decision.conflicts), 'thing')} stays as it is" if decision.conflicts else ""
        return Outcome(
            items=decision.items, size=decision.size, note=note, state=KEPT if decision.conflicts and not decision.heads else DONE
        )

    def _place(
        self, action: Action, item: SavedItem, giving: Giving, decision: Decision, account: Account | None, work: Work, staging: object
    ) -> None:
        from kleff.case.placing import Ready, Staging, put_in_place
        from kleff.case.unpacking import Unpacking, make_folder
        from kleff.workstation.common.posix import sync_volume

        assert isinstance(staging, Staging)
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

    def missing(self, item: SavedItem, stem: str, giving: Giving) -> list[str]:
        try:
            decision = decide(item, giving, _base(item, giving))
        except (Nowhere, LinkOnTheWay, OSError) as error:
            return [plain(f"{item.label}: {error}")]
        return [f"{plain(str(head.place))} is not there" for head in decision.heads.values()]


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
    """Only where the technician's own procedure saves from, and where the guard lets things be put.

    Raises:
        Nowhere: it does not.
    """
    scene = giving.scene
    patterns = [
        (e.volume, e.pattern) for model in giving.steps(PathsBackup) for text in model.paths
        for e in scene.resolver.expand(text, model.accounts) if not e.absent
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


def decide(item: SavedItem, giving: Giving, base: WPath) -> Decision:
    """Compare an item's files with what stands here; nothing is changed.

    Raises:
        OSError: something cannot be looked at, or a folder on the way is a link.
        Nowhere: a name is none on this workstation.
    """
    files = giving.scene.workstation.files
    result = Decision()
    seen: set[object] = set()
    present: list[tuple[int, WPath, Look]] = []
    for number, member in enumerate(item.members):
        if not member.member:
            continue
        place = base.child(*_names_here(member, giving))
        if place.key in seen:
            raise Nowhere(f"{plain(str(place))} is saved twice, in another spelling")
        seen.add(place.key)
        result.places[number] = place
        head = _head_above(result, place)
        look = files.look(place) if head is None else None
        if head is not None or look is None:
            head = head or _new_head(result, giving, place)
            head.members.append((number, place.parts[len(head.place.parts) :]))
            result.items += member.type != "folder"
            result.size += member.size
        elif look.is_folder and member.type == "folder":
            result.same.append(number)
        else:
            present.append((number, place, look))
    with ThreadPoolExecutor(2) as pool:
        answers = pool.map(lambda one: _is_same(giving, item, item.members[one[0]], one[1], one[2]), present)
        for one, same in zip(present, answers, strict=True):
            if same:
                result.same.append(one[0])
            else:
                result.conflicts.append(one)
    return result


def _names_here(member: Member, giving: Giving) -> tuple[str, ...]:
    names = relative_names(member)
    bad = '\\/:*?"<>|' if giving.scene.workstation.style.drives else ""
    if any(c in bad for name in names for c in name):
        raise Nowhere(f"{plain(member.path)} has a name that cannot be on this workstation")
    return names


def _head_above(decision: Decision, place: WPath) -> Head | None:
    volume, parts = place.key
    for depth in range(len(parts), 0, -1):
        head = decision.heads.get((volume, parts[:depth]))
        if head is not None:
            return head
    return None


def _new_head(decision: Decision, giving: Giving, place: WPath) -> Head:
    """At the topmost folder that is missing on the way."""
    files = giving.scene.workstation.files
    top = place
    while len(top.parts) > 1 and files.look(top.parent) is None:
        top = top.parent
    return decision.heads.setdefault(top.key, Head(top))


def _is_same(giving: Giving, item: SavedItem, member: Member, place: WPath, look: Look) -> bool:
    files = giving.scene.workstation.files
    if member.type == "link":
        return look.is_link and files.read_link(place).encode("utf-8", "surrogateescape") == b64decode(member.link)
    wanted = member
    if member.type == "hard link":
        wanted = next(m for m in item.members if m.member == member.link)
    if not look.is_file or look.size != wanted.size or member.type == "folder":
        return False
    with files.reading(place) as file:
        sha256 = hashlib.sha256()
        while piece := file.read(1 << 18):
            sha256.update(piece)
        return sha256.hexdigest() == wanted.sha256


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


def owner_of(account: Account | None, scene: Scene) -> Owner:
    """(uid, gid) of what is made for an account; None where the system has no numbers, or Kleff may not choose."""
    if not scene.workstation.admin or scene.workstation.style.drives:
        return None
    if account is None or account.uid is None:
        return (0, 0)
    home = scene.workstation.files.look(account.home)
    return (account.uid, home.gid if home is not None and home.uid == account.uid else account.uid)


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
