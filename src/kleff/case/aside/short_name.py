"""Giving one thing the short name that it had: a Windows makes it anew whenever something comes into a folder, by the order of that."""

from __future__ import annotations

from kleff.procedure.globs import fold
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath


def give_short_name(files: FileTree, path: WPath, short: str) -> str:
    """Have what stands in its place be called so again: what is registered may go by that. The folder it lies in keeps its times.

    Raises:
        FileNotFoundError: nothing stands there.

    Returns:
        "" or what could not be done, for the technician.
    """
    if not short:
        return ""
    with files.parent(path) as (folder, name):
        folder.look_at(name)  # or it is not there
        now = folder.short_name(name)
        if fold(now) == fold(short):
            return ""
        times = folder.look().times
        try:
            folder.set_short_name(name, short)
        except OSError as error:
            what = f"its short name was {short} and is {now or 'none'} now ({error.strerror})"
            return f"{path}: {what}; what is registered by it means another thing, or nothing"
        finally:
            folder.set_times(times)
    return ""
