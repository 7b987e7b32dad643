"""A folder as the system's own programs come to it: by links too, where an administrator alone can have made them."""

from __future__ import annotations

from kleff.errors import LinkOnTheWay
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath

MAX_LINKS = 40  # path_resolution(7)


def real_folder(files: FileTree, folder: WPath) -> WPath:
    """Where a folder lies, whether it is there or not.

    Raises:
        LinkOnTheWay: by a link that others can change. OSError: it cannot be looked at.
    """
    return files.resolve(folder.child("-")).path.parent


def behind(files: FileTree, path: WPath) -> WPath:
    """Where a link leads, to be read there: one of an administrator, or of an account to what is its own and it could read itself.

    Raises:
        LinkOnTheWay: by a link that others can change. OSError: it cannot be looked at.
    """
    try:
        return real_folder(files, path)
    except LinkOnTheWay:
        link = files.look(path)
        if path.style.folded or link is None or not link.is_link:
            raise
        return _of_owner(files, path, link.uid)


def _of_owner(files: FileTree, path: WPath, owner: int) -> WPath:
    at = path
    for _ in range(MAX_LINKS):
        look = files.look(at)
        if look is None:
            return at
        if look.uid != owner:
            raise LinkOnTheWay(f"the link {path} leads to {at}, which is another account's")
        if not look.is_link:
            return at
        at = _led_to(at, files.read_link(at))
    raise LinkOnTheWay(f"too many links on the way at {path}")


def _led_to(link: WPath, target: str) -> WPath:
    if target.startswith("/"):
        split = link.style.split(target)
        if split is None:
            raise LinkOnTheWay(f"the link {link} leads to {target}, which is not followed")
        return WPath(link.style, *split)
    return link.parent.walked(target)


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
