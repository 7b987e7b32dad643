"""Deleting for good what a case set aside: by descriptors, following no link, never across a mount."""

from __future__ import annotations

import errno
import os
import stat
from dataclasses import dataclass

from kleff.case.aside import moved_from
from kleff.case.effect_names import MOVED
from kleff.case.effects import Hands, areas_of
from kleff.errors import ActionFailed, Interrupted, Refused
from kleff.progress import Progress
from kleff.workstation.common.posix import FOLDER_FLAGS, closing_fd, mount_id


@dataclass
class Held:
    """What a case holds aside."""

    items: int = 0
    size: int = 0
    places: int = 0


def held(hands: Hands) -> Held:
    """Count and size what is still set aside."""
    result = Held()
    for effect in hands.case.journal.effects():
        if effect.kind == MOVED and effect.state in ("done", "stays", "intended"):
            moved = moved_from(hands.workstation.files, effect.place, effect.data)
            if hands.area.lies_aside(moved):
                result.places += 1
                result.items += moved.items
                result.size += moved.size
    return result


def discard_case(hands: Hands) -> Held:
    """Delete for good what is set aside. Killed half-way, it is called again.

    Raises:
        Refused: the case is not finished.
        Interrupted: asked to stop.
    """
    case = hands.case
    if case.state not in ("finished", "undone", "discarded"):
        raise Refused(
            f"the case is {case.state}, not finished",
            where=str(case.folder),
            remedy=f"finish it with  kleff resume {case.folder}  or  kleff undo {case.folder}",
        )
    total = held(hands)
    if case.state == "finished":
        case.journal.set(state="discarded")
    hands.progress.start("discarding", items=total.items, size=total.size)
    for effect in case.journal.effects():
        if effect.kind != MOVED or effect.state not in ("done", "stays", "intended"):
            continue
        if hands.progress.should_stop():
            raise Interrupted("stopped; part of it is deleted", where=str(case.folder), remedy=f"go on with  kleff discard {case.folder}")
        moved = moved_from(hands.workstation.files, effect.place, effect.data)
        # Half deleted it is still the same folder; only that very thing is deleted.
        if hands.area.lies_aside(moved):
            with hands.workstation.files.parent(moved.aside) as (fd, name):
                delete_tree(fd, name, hands.progress)
        case.journal.mark([effect.id], "discarded")
    hands.area.clear(areas_of(hands))
    return total


def delete_tree(fd: int, name: str, progress: Progress) -> None:
    """Delete `name` in the open folder `fd` with all below it.

    Raises:
        ActionFailed: something is on another mount, or the system says no.
    """
    status = os.stat(name, dir_fd=fd, follow_symlinks=False)
    try:
        if stat.S_ISDIR(status.st_mode):
            with closing_fd(os.open(name, FOLDER_FLAGS, dir_fd=fd)) as below:
                if mount_id(below) != mount_id(fd):
                    raise ActionFailed(f"{name} is a mount point; not deleted", remedy="unmount it first")
                for child in os.listdir(below):
                    delete_tree(below, child, progress)
            os.rmdir(name, dir_fd=fd)
        else:
            os.unlink(name, dir_fd=fd)
            progress.step(1, status.st_size)
    except OSError as error:
        if error.errno != errno.ENOENT:
            raise ActionFailed(f"{name} cannot be deleted: {error.strerror}", remedy="check the rights; then discard again") from None
