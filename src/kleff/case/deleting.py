"""Deleting for good: by descriptors, following no link, never across a mount."""

from __future__ import annotations

import errno
import os
import stat

from kleff.errors import ActionFailed
from kleff.progress import Progress
from kleff.workstation.common.posix import FOLDER_FLAGS, closing_fd, mount_id


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
