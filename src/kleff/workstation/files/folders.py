"""A folder as the system's own programs come to it: by links too, where an administrator alone can have made them."""

from __future__ import annotations

from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath


def real_folder(files: FileTree, folder: WPath) -> WPath:
    """Where a folder lies, whether it is there or not.

    Raises:
        LinkOnTheWay: by a link that others can change. OSError: it cannot be looked at.
    """
    return files.resolve(folder.child("-")).path.parent


def holds_something(files: FileTree, path: WPath) -> bool:
    """Whether it is a folder that is not empty."""
    look = files.look(path)
    return look is not None and look.is_folder and bool(files.names(path))


def inside(files: FileTree, folder: WPath) -> list[WPath]:
    """What is directly in a folder; nothing if nothing stands there.

    Raises:
        LinkOnTheWay: as `real_folder`. OSError: it is no folder, or cannot be looked at.
    """
    real = real_folder(files, folder)
    return [real.child(name) for name in files.names(real)]
