"""Where the system's own programs lie."""

from __future__ import annotations

from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath

# What administrators alone can change on any system (Filesystem Hierarchy Standard 3.0, 3.4, 3.16, 4.4, 4.10).
OWN = ("/usr/sbin", "/usr/bin", "/sbin", "/bin")


def program_folders(files: FileTree) -> tuple[WPath, ...]:
    """Where the system's own programs lie."""
    return tuple(path for text in OWN if (path := files.path(text)) is not None)
