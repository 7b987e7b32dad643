"""The file tree that fits the machine Kleff runs on."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path

from kleff.procedure.globs import PathStyle
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath
from kleff.workstation.short_names import ShortNames


def open_tree(
    style: PathStyle, volumes: dict[str, Path], private: Callable[[WPath], bool] = lambda path: False,
    held: Callable[[], dict[tuple[int, int], int]] | None = None, shorts: ShortNames | None = None,
) -> FileTree:  # fmt: skip
    """Files under one folder of this machine for each volume.

    Args:
        style: how paths are written there.
        volumes: volume name -> folder on this machine that is its root.
        private: whether an account other than an administrator can write below a path, by the path alone.
        held: what simulated programs hold, by identity, with the error that renaming it comes to; on Windows itself they hold nothing.
        shorts: simulated short names; Windows itself has its own.

    Raises:
        NoSuchWorkstation: Kleff does not run on this system.
    """
    if sys.platform == "win32":
        from kleff.workstation.windows.host.opened import nt_path
        from kleff.workstation.windows.native import here
        from kleff.workstation.windows.system.files.tree import NtTree

        return NtTree(here.api(), volumes, {volume: nt_path(top) for volume, top in volumes.items()}, private)
    from kleff.workstation.posix.tree import PosixTree

    return PosixTree(style, volumes, private, held, shorts)
