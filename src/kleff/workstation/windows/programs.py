"""Programs of a Windows workstation: where one is found that is called by its name alone, and whether it may be run."""

from __future__ import annotations

from collections.abc import Sequence

from kleff.procedure.globs import fold
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath

ENDINGS = ("", ".exe", ".com", ".cmd", ".bat")


def find_program(files: FileTree, search: Sequence[str], registered: Sequence[str], name: str) -> str | None:
    """See `Commands.find`.

    Args:
        search: the folders in which it is looked for; registered: the names that are registered as programs besides.
    """
    known = {fold(one) for one in registered}
    if any(fold(name + ending) in known for ending in ENDINGS):
        return f"{name} (registered program)"
    for folder in search:
        path = files.path(folder)
        for ending in ENDINGS:
            look = files.look(path.child(name + ending)) if path else None
            if path and look and look.is_file:
                return str(path.child(name + ending))
    return None


def objection(files: FileTree, program: WPath) -> str | None:
    """See `Commands.objection`."""
    look = files.look(program)
    if look is None or not look.is_file:
        return f"{program} is not there"
    if not files.only_admin(program.parent):
        return f"others than an administrator can change {program}"
    return None
