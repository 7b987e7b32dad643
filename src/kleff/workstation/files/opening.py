"""The file tree that fits the machine Kleff runs on."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path

from kleff.errors import NoSuchWorkstation
from kleff.procedure.globs import PathStyle
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath


def open_tree(style: PathStyle, volumes: dict[str, Path], private: Callable[[WPath], bool] = lambda path: False) -> FileTree:
    """Files under one folder of this machine for each volume.

    Args:
        style: how paths are written there.
        volumes: volume name -> folder on this machine that is its root.
        private: whether an account other than an administrator can write below a path, by the path alone.

    Raises:
        NoSuchWorkstation: Kleff does not run on this system.
    """
    if sys.platform == "win32":
        raise NoSuchWorkstation("files of this system cannot be worked on yet", remedy="run Kleff on a Linux machine")
    from kleff.workstation.posix.tree import PosixTree

    return PosixTree(style, volumes, private)
