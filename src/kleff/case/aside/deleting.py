"""Deleting for good: by descriptors, following no link, never across a mount."""

from __future__ import annotations

import os
import stat

from kleff.errors import ActionFailed, Interrupted
from kleff.progress import Progress
from kleff.workstation.common.posix import FOLDER_FLAGS, closing_fd, mounts_below
from kleff.workstation.common.walking import delete_below


def delete_tree(fd: int, name: str, progress: Progress) -> None:
    """Delete `name` in the open folder `fd` with all below it. Done twice is done once.

    Raises:
        ActionFailed: something is on another mount, or the system says no.
        Interrupted: asked to stop; part of it is deleted.
    """

    def told(items: int) -> None:
        progress.step(items)
        if progress.should_stop():
            raise Interrupted("stopped; part of it is deleted")

    try:
        if stat.S_ISDIR(os.stat(name, dir_fd=fd, follow_symlinks=False).st_mode):
            with closing_fd(os.open(name, FOLDER_FLAGS, dir_fd=fd)) as below:
                mounts = mounts_below(below)
                if mounts:
                    raise ActionFailed(f"{mounts[0]} is a mount point; not deleted", remedy="unmount it first")
                delete_below(below, told)
            os.rmdir(name, dir_fd=fd)
        else:
            os.unlink(name, dir_fd=fd)
            progress.step(1)
    except FileNotFoundError:
        return
    except OSError as error:
        what = f"{name}/{error.filename}" if error.filename else name
        raise ActionFailed(f"{what} cannot be deleted: {error.strerror}", remedy="check the rights; then discard again") from None
