"""One open folder: what lies in the same one usually comes together, and need not be walked to again for each name."""

from __future__ import annotations

import os
from types import TracebackType

from kleff.workstation.common.files import FileTree
from kleff.workstation.common.posix import sha256_at
from kleff.workstation.paths import Look, WPath, look_of


class LastFolder:
    """Keeps the folder open that was asked for last; used in a `with`."""

    def __init__(self, files: FileTree) -> None:
        self._files = files
        self._open: tuple[WPath, int] | None = None

    def __enter__(self) -> LastFolder:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        if self._open is not None:
            os.close(self._open[1])
            self._open = None

    def at(self, folder: WPath) -> int:
        """Its open descriptor, until another is asked for.

        Raises:
            OSError: as `FileTree.folder`.
        """
        if self._open is not None and self._open[0] == folder:
            return self._open[1]
        before, self._open = self._open, None
        if before is not None and folder.parts and before[0] == folder.parent:
            fd = self._files.step_down(before[1], folder.name)
        else:
            if before is not None:
                os.close(before[1])
            fd = self._files.open_folder(folder)
        self._open = folder, fd
        return fd

    def look(self, path: WPath) -> Look | None:
        """What is there; None if nothing is.

        Raises:
            OSError: as `FileTree.look`.
        """
        try:
            fd = self.at(path.parent)
            return look_of(os.stat(self._files.spelled(fd, path.name), dir_fd=fd, follow_symlinks=False))
        except FileNotFoundError:
            return None
        except NotADirectoryError:
            return self._files.look(path)

    def sha256(self, path: WPath) -> str:
        """The SHA-256 of a regular file; no link is followed.

        Raises:
            OSError: as `FileTree.reading`.
        """
        fd = self.at(path.parent)
        return sha256_at(fd, self._files.spelled(fd, path.name))
