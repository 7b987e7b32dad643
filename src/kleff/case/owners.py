"""Owners by name: what a case took away belongs to accounts and groups, whose numbers may be others' when it comes back."""

from __future__ import annotations

from base64 import b64decode
from collections.abc import Iterable, Sequence
from pathlib import Path

import msgspec
from msgspec import Struct

from kleff.case.effects.base import effect_of
from kleff.case.hands import Hands
from kleff.case.record.effect import Base64, Journaled
from kleff.case.renumbering import Renumbering, renumbering
from kleff.errors import DamagedCase
from kleff.texts import plural
from kleff.workstation.files.protocol import FileTree, Handle
from kleff.workstation.identity import packed
from kleff.workstation.paths import PRIVILEGED, Look, WPath
from kleff.workstation.things import Number
from kleff.workstation.this_machine import host


class _New(Struct, kw_only=True):
    """The owner that a path (base64 of the raw one) is to have, and its mode."""

    path: Base64
    uid: int
    gid: int
    mode: int


class _Settling(Struct, kw_only=True):
    """What is settled, written down before it is done: two numbers may have changed places, so that a second look would change them back.

    Attributes:
        effects: whose things are looked at; lost: how many things had an owner that is not there.
    """

    effects: list[int] = []
    new: list[_New] = []
    lost: dict[str, int] = {}
    done: bool = True


def settle_owners(hands: Hands, effects: Sequence[Journaled], then: Sequence[Number]) -> list[str]:
    """Give what effects brought back to those whose names owned it. Killed half-way, it is called again.

    Returns:
        Which owners are not there any more, for the technician.
    """
    file = hands.case.folder / "undo" / "owners.json"
    changed = renumbering(then, hands.workstation.accounts.numbers())
    settling = _read(file)
    if not settling.done:
        _apply(hands, file, settling)
    fresh = [e for e in effects if e.id not in settling.effects]
    if fresh and changed:
        settling = _Settling(effects=[*settling.effects, *(e.id for e in fresh)], lost=dict(settling.lost), done=False)
        _plan(hands, fresh, changed, settling)
        host().write_atomic(file, msgspec.json.encode(settling))
        _apply(hands, file, settling)
    return [
        f"{name} is not here any more: {plural(count, 'thing')} of it {'belongs' if count == 1 else 'belong'} to the administrator now"
        for name, count in settling.lost.items()
    ]


def _read(file: Path) -> _Settling:
    try:
        return msgspec.json.decode(file.read_bytes(), type=_Settling)
    except FileNotFoundError:
        return _Settling()
    except (OSError, msgspec.MsgspecError) as error:
        raise DamagedCase(f"cannot be read: {error}", where=str(file), remedy="restore the case folder from a copy") from None


def _plan(hands: Hands, effects: Iterable[Journaled], changed: Renumbering, settling: _Settling) -> None:
    files, seen = hands.workstation.files, set[object]()
    for one in effects:
        for top, whole in effect_of(one).gave_back(one, hands):
            for path, look in files.walk(top) if whole else [(top, files.look(top))]:
                if look is None or path.key in seen or changed.owner(look.uid, look.gid) == (look.uid, look.gid):
                    continue
                seen.add(path.key)
                uid, gid = changed.owner(look.uid, look.gid)
                lost = changed.lost(look.uid, look.gid)
                settling.new.append(_New(path=packed(path), uid=uid, gid=gid, mode=look.mode & 0o7777 & ~(PRIVILEGED if lost else 0)))
                for name in lost:
                    settling.lost[name] = settling.lost.get(name, 0) + 1


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
    handle.set_owner(new.uid, new.gid)
    handle.set_mode(new.mode)
    handle.set_times(look.times)
