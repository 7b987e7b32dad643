"""Files that programs of a lab hold: they cannot be renamed, and what was told to the system instead is done when the lab starts anew."""

from __future__ import annotations

import contextlib
import errno
from collections.abc import Callable

from kleff.registry.registry import Registry
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.lab.lab import Lab
from kleff.workstation.paths import WPath
from kleff.workstation.windows.renames import PendingRenames


def locked_files(lab: Lab) -> list[str]:
    """The files that programs which run now hold."""
    return [text for process in lab.state().processes for text in process.get("locks", [])]


def held_by(lab: Lab, files: Callable[[], FileTree]) -> Callable[[], dict[tuple[int, int], int]] | None:
    """What cannot be renamed, by identity, with the error as on Windows: of a file that it is in use, of the folders above that it may not.

    Args:
        files: the lab's, once they are open.
    """
    if not any(process.locks for process in lab.file.process):
        return None

    def held() -> dict[tuple[int, int], int]:
        found: dict[tuple[int, int], int] = {}
        for text in locked_files(lab):
            path = files().path(text)
            for depth in range(len(path.parts), 0, -1) if path is not None else ():
                assert path is not None
                look = files().look(WPath(path.style, path.volume, path.parts[:depth]))
                if look is None:
                    break
                found[look.identity] = errno.EBUSY if depth == len(path.parts) else errno.EACCES
        return found

    return held


def carry_out(registry: Registry, files: FileTree) -> None:
    """Do what the list of pending renames says, as a system does before any program runs; what cannot be done is passed over, and gone."""
    renames = PendingRenames(registry)
    for place, to in renames.all():
        path, new = files.path(place), files.path(to) if to else None
        if path is not None and files.look(path) is not None:
            with contextlib.suppress(OSError):
                _carry_out(files, path, new, to)
        renames.remove(place, to)


def _carry_out(files: FileTree, path: WPath, new: WPath | None, to: str) -> None:
    with files.parent(path) as (folder, name):
        if not to and folder.look_at(name).is_folder:
            folder.remove_if_empty(name)
        elif not to:
            folder.remove(name)
        elif new is not None:
            with files.parent(new) as (other, other_name):
                folder.rename(name, other, other_name)
