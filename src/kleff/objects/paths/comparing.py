"""What restoring files means here: what is missing, what is the same already, what stands in the way."""

from __future__ import annotations

from base64 import b64decode
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field

from kleff.case.bag.index import Member, SavedItem
from kleff.case.bag.members import relative_names
from kleff.objects.base.restoring import Nowhere, Restoring
from kleff.workstation.files.last_folder import LastFolder
from kleff.workstation.paths import Look, WPath

SMALL = 1 << 17  # bytes that are hashed quicker than they are handed to another thread


@dataclass
class Top:
    """The topmost of what is put in place by one rename; `members` by their number, with their names below it."""

    place: WPath
    members: list[tuple[int, tuple[str, ...]]] = field(default_factory=list)


@dataclass
class Decision:
    """What restoring an item's files means here.

    Attributes:
        tops: what is not there and is put in place.
        same: numbers of members that are there and the same.
        conflicts: members that something else stands in the place of.
    """

    tops: dict[object, Top] = field(default_factory=dict)
    same: list[int] = field(default_factory=list)
    conflicts: list[tuple[int, WPath, Look]] = field(default_factory=list)
    places: dict[int, WPath] = field(default_factory=dict)
    items: int = 0
    size: int = 0


def decide(item: SavedItem, restoring: Restoring, base: WPath) -> Decision:
    """Compare an item's files with what stands here; nothing is changed.

    Raises:
        OSError: something cannot be looked at, or a folder on the way is a link.
        Nowhere: a name is none on this workstation.
    """
    style, shared = restoring.here.workstation.style, item.shared()
    result, seen = Decision(), set[object]()
    present: list[tuple[int, WPath, Look, bool | Future[bool]]] = []
    with LastFolder(restoring.here.workstation.files) as folders, ThreadPoolExecutor(2) as pool:
        for number, member in enumerate(item.members):
            if not member.member:
                continue
            place = base.child(*_names_here(member, style.drives))
            if place.key in seen:
                raise Nowhere(f"{place} is saved twice, in another spelling")
            seen.add(place.key)
            result.places[number] = place
            top = _top_above(result, place)
            look = folders.look(place) if top is None else None
            if top is not None or look is None:
                top = top or _new_top(result, restoring, place)
                top.members.append((number, place.parts[len(top.place.parts) :]))
                result.items += member.type != "folder"
                result.size += member.size
            elif look.is_folder and member.type == "folder":
                result.same.append(number)
            else:
                content = item.members[shared[member.link]] if member.type == "hard link" else member
                present.append((number, place, look, _is_same(content, place, look, folders, restoring, pool)))
        for number, place, look, same in present:
            if same.result() if isinstance(same, Future) else same:
                result.same.append(number)
            else:
                result.conflicts.append((number, place, look))
    return result


def _names_here(member: Member, drives: bool) -> tuple[str, ...]:
    names = relative_names(member)
    if drives and any(c in '\\/:*?"<>|' for name in names for c in name):
        raise Nowhere(f"{member.path} has a name that cannot be on this workstation")
    return names


def _top_above(decision: Decision, place: WPath) -> Top | None:
    volume, parts = place.key
    for depth in range(len(parts), 0, -1):
        top = decision.tops.get((volume, parts[:depth]))
        if top is not None:
            return top
    return None


def _new_top(decision: Decision, restoring: Restoring, place: WPath) -> Top:
    """At the topmost folder that is missing on the way."""
    files = restoring.here.workstation.files
    top = place
    while len(top.parts) > 1 and files.look(top.parent) is None:
        top = top.parent
    return decision.tops.setdefault(top.key, Top(top))


def _is_same(
    wanted: Member, place: WPath, look: Look, folders: LastFolder, restoring: Restoring, pool: ThreadPoolExecutor
) -> bool | Future[bool]:
    """Whether what stands there is what was saved; of a large file it is told later, by a thread of its own."""
    files = restoring.here.workstation.files
    if wanted.type == "link":
        return look.is_link and files.read_link(place).encode("utf-8", "surrogateescape") == b64decode(wanted.link)
    if not look.is_file or look.size != wanted.size or wanted.type == "folder":
        return False
    if look.size <= SMALL:
        return folders.sha256(place) == wanted.sha256
    return pool.submit(lambda: files.sha256(place) == wanted.sha256)
