"""Owners by name: what a case took away belongs to accounts and groups, whose numbers may be others' when it comes back."""

from __future__ import annotations

from base64 import b64decode
from collections import Counter
from collections.abc import Iterable, Sequence
from pathlib import Path

import msgspec
from msgspec import Struct

from kleff.case.aside.as_it_was import CAPABILITIES
from kleff.case.effects.base import effect_of
from kleff.case.hands import Hands
from kleff.case.record.effect import Base64, Journaled
from kleff.case.record.folder import Case
from kleff.case.renumbering import Renumbering, renumbering
from kleff.errors import DamagedCase, cannot_read
from kleff.texts import plural
from kleff.workstation.files.protocol import FileTree, Handle
from kleff.workstation.identity import packed
from kleff.workstation.paths import PRIVILEGED, Look, WPath
from kleff.workstation.things import Number
from kleff.workstation.this_machine import host

OWNERS = "owners.json"


class _New(Struct, kw_only=True):
    """The owner that a path (base64 of the raw one) is to have, and its mode."""

    path: Base64
    uid: int
    gid: int
    mode: int


class _Missing(Struct, kw_only=True):
    """A thing one of whose owners was not there: as it was, with the numbers of that time, should the owner be there once more.

    Attributes:
        inode, size, mtime: by which it is known again: until then somebody else may have put another thing in its place.
    """

    path: Base64
    uid: int
    gid: int
    mode: int
    inode: int
    size: int
    mtime: int

    def is_still(self, look: Look | None) -> bool:
        """Whether it is the very thing, unchanged, and the administrator's as it was left."""
        if look is None or look.identity[1] != self.inode:
            return False
        return look.is_folder or (look.size, look.times[1]) == (self.size, self.mtime)


class _Settling(Struct, kw_only=True):
    """What is settled, written down before it is done: two numbers may have changed places, so that a second look would change them back.

    Attributes:
        effects: whose things are looked at; missing: those with an owner that is not there.
    """

    effects: list[int] = []
    new: list[_New] = []
    missing: list[_Missing] = []
    done: bool = True


def settle_owners(hands: Hands, effects: Sequence[Journaled], then: Sequence[Number]) -> list[str]:
    """Give what effects brought back to those whose names owned it. Killed half-way, it is called again.

    Returns:
        Which owners are not there any more, for the technician.
    """
    file = hands.case.folder / "undo" / OWNERS
    changed = renumbering(then, hands.workstation.accounts.numbers())
    settling = _read(file)
    if not settling.done:
        _apply(hands, file, settling)
    fresh = [e for e in effects if e.id not in settling.effects]
    back = [m for m in settling.missing if not changed.lost(m.uid, m.gid)]
    if (fresh and changed) or back:
        missing = [m for m in settling.missing if m not in back]
        settling = _Settling(effects=[*settling.effects, *(e.id for e in fresh)], missing=missing, done=False)
        settling.new = [_new(m.path, m.uid, m.gid, m.mode, changed) for m in back if m.is_still(_look(hands, m))]
        _plan(hands, fresh, changed, settling)
        host().write_atomic(file, msgspec.json.encode(settling))
        _apply(hands, file, settling)
    lost = Counter(name for m in settling.missing for name in changed.lost(m.uid, m.gid))
    return [
        f"{name} is not here any more: {plural(count, 'thing')} of it {'belongs' if count == 1 else 'belong'} to the administrator now"
        for name, count in lost.items()
    ]


def _look(hands: Hands, missing: _Missing) -> Look | None:
    files = hands.workstation.files
    try:
        return files.look(files.from_raw(b64decode(missing.path)))
    except OSError:  # a link on the way by now, or out of reach: it is not the same thing
        return None


def owners_missing(case: Case) -> bool:
    """Whether something that came back waits for an owner that was not there.

    Raises:
        DamagedCase: it cannot be told.
    """
    return bool(_read(case.folder / "undo" / OWNERS).missing)


def _read(file: Path) -> _Settling:
    try:
        return msgspec.json.decode(file.read_bytes(), type=_Settling)
    except FileNotFoundError:
        return _Settling()
    except OSError as error:
        raise cannot_read(error, str(file)) from None
    except msgspec.MsgspecError as error:
        raise DamagedCase(f"cannot be read: {error}", where=str(file), remedy="restore the case folder from a copy") from None


def _plan(hands: Hands, effects: Iterable[Journaled], changed: Renumbering, settling: _Settling) -> None:
    files, seen = hands.workstation.files, set[object]()
    for one in effects:
        for top, whole in effect_of(one).gave_back(one, hands):
            for path, look in files.walk(top) if whole else [(top, files.look(top))]:
                if look is None or path.key in seen or changed.owner(look.uid, look.gid) == (look.uid, look.gid):
                    continue
                seen.add(path.key)
                mode = look.mode & 0o7777
                settling.new.append(_new(packed(path), look.uid, look.gid, mode, changed))
                if changed.lost(look.uid, look.gid):
                    settling.missing.append(_Missing(
                        path=packed(path), uid=look.uid, gid=look.gid, mode=mode, inode=look.identity[1], size=look.size,
                        mtime=look.times[1],
                    ))  # fmt: skip


def _new(path: str, uid: int, gid: int, mode: int, changed: Renumbering) -> _New:
    """What belonged to these numbers goes to those names; with an owner that is not there it runs with nobody's rights."""
    owner, group = changed.owner(uid, gid)
    return _New(path=path, uid=owner, gid=group, mode=mode & ~(PRIVILEGED if changed.lost(uid, gid) else 0))


def _apply(hands: Hands, file: Path, settling: _Settling) -> None:
    files = hands.workstation.files
    for new in settling.new:
        path = files.from_raw(b64decode(new.path))
        look = files.look(path)
        if look is not None:
            _give(files, path, look, new)
    settling.new, settling.done = [], True
    host().write_atomic(file, msgspec.json.encode(settling))


def _give(files: FileTree, path: WPath, look: Look, new: _New) -> None:
    """Change the owner of one thing by its opened handle."""
    if look.is_folder:
        with files.folder(path) as folder:
            if folder.look().identity == look.identity:
                _set(folder, look, new)
    elif look.is_file:
        with files.parent(path) as (parent, name), parent.file(name) as file:
            if file.look().identity == look.identity:
                _set(file, look, new)
    else:
        with files.parent(path) as (parent, name):
            parent.set_link(name, (new.uid, new.gid), look.times)


def _set(handle: Handle, look: Look, new: _New) -> None:
    """With its owner the system takes a program's capabilities away (chown(2))."""
    kept = {name: value for name, value in handle.attributes().items() if name == CAPABILITIES}
    handle.set_owner(new.uid, new.gid)
    handle.set_mode(new.mode)
    for name, value in kept.items():
        handle.set_attribute(name, value)
    handle.set_times(look.times)
