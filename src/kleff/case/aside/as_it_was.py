"""Giving one thing the owner, mode, attributes and times that it had."""

from __future__ import annotations

import stat
from base64 import b64decode, b64encode

from kleff.case.aside.spare_index import SparedItem
from kleff.workstation.files.protocol import Folder, Handle
from kleff.workstation.paths import Look

CAPABILITIES = "security.capability"  # by which a program runs with more rights than its user (capabilities(7))


def attributes_of(handle: Handle) -> dict[str, str]:
    """Extended attributes as a spare's index keeps them."""
    return {name: b64encode(value).decode() for name, value in handle.attributes().items()}


def differs(kept: SparedItem, look: Look) -> bool:
    """Whether owner or permissions are others now."""
    return (look.uid, look.gid, stat.S_IMODE(look.mode)) != (kept.uid, kept.gid, stat.S_IMODE(kept.mode))


def settle_file(folder: Folder, name: str, kept: SparedItem) -> None:
    """Give a file in an open folder what it had, on disk when this returns; nothing is opened where nothing can have changed.

    One that belongs to another by now and has a second name is left: who may write in the folder could have put a name of somebody
    else's file there, which must not become his.
    """
    look = folder.look_at(name)
    if not kept.attributes and not differs(kept, look) and look.times[1] == kept.mtime:
        return
    with folder.file(name) as file:
        now = file.look()
        another_s = (now.uid, now.gid) != (kept.uid, kept.gid) and now.links > 1
        if now.identity == look.identity and not another_s and settle(file, kept):
            file.flush()


def settle(handle: Handle, kept: SparedItem) -> bool:
    """Give an open file or folder what it had. Returns whether anything was changed.

    The owner comes first: with it the system takes a program's special bits and capabilities away (chown(2)). The times come last.
    """
    look = handle.look()
    other_owner = (look.uid, look.gid) != (kept.uid, kept.gid)
    if other_owner:
        handle.set_owner(kept.uid, kept.gid)
    other_mode = other_owner or stat.S_IMODE(look.mode) != stat.S_IMODE(kept.mode)
    if other_mode:
        handle.set_mode(stat.S_IMODE(kept.mode))
    lacking = _lacking(handle, kept)
    for name, value in lacking.items():
        handle.set_attribute(name, value)
    changed = other_mode or bool(lacking) or look.times != (kept.atime, kept.mtime)
    if changed:
        handle.set_times((kept.atime, kept.mtime))
    return changed


def _lacking(handle: Handle, kept: SparedItem) -> dict[str, bytes]:
    """The attributes that it had and has no more, or otherwise."""
    if not kept.attributes:
        return {}
    had = {name: b64decode(value) for name, value in kept.attributes.items()}
    now = handle.attributes()
    return {name: value for name, value in had.items() if now.get(name) != value}
