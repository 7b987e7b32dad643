"""Deleting for good: by handles, following no link, never across a mount."""

from __future__ import annotations

from kleff.errors import ActionFailed, Interrupted, remedy_for
from kleff.progress import Progress
from kleff.workstation.files.protocol import Folder, MountInside


def delete_tree(folder: Folder, name: str, progress: Progress) -> None:
    """Delete `name` in an open folder with all below it. Done twice is done once.

    Raises:
        ActionFailed: something is on another mount, or the system says no.
        Interrupted: asked to stop; part of it is deleted.
    """

    def told(items: int) -> None:
        progress.step(items)
        if progress.should_stop():
            raise Interrupted("stopped; part of it is deleted")

    try:
        folder.delete_tree(name, told)
    except MountInside as error:
        raise ActionFailed(f"{error} is a mount point; not deleted", remedy="unmount it first") from None
    except OSError as error:
        what = f"{name}/{error.filename}" if error.filename and error.filename != name else name
        raise ActionFailed(f"{what} cannot be deleted: {error.strerror}", remedy=remedy_for(error, "discard again")) from None
