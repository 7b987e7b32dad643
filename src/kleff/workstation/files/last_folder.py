"""One open folder: what lies in the same one usually comes together, and need not be walked to again for each name."""

from __future__ import annotations

from types import TracebackType

from kleff.workstation.files.protocol import FileTree, Folder
from kleff.workstation.paths import Look, WPath


class LastFolder:
    """Keeps the folder open that was asked for last; used in a `with`."""

    def __init__(self, files: FileTree) -> None:
        self._files = files
        self._open: tuple[WPath, Folder] | None = None

    def __enter__(self) -> LastFolder:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        if self._open is not None:
            self._open[1].close()
            self._open = None

    def at(self, path: WPath) -> Folder:
        """The open folder, until another is asked for.

        Raises:
            OSError: as `FileTree.open_folder`.
        """
        if self._open is not None and self._open[0] == path:
            return self._open[1]
        before, self._open = self._open, None
        if before is not None and path.parts and before[0] == path.parent:
            folder = self._files.open_below(before[1], path.name)
        else:
            if before is not None:
                before[1].close()
            folder = self._files.open_folder(path)
        self._open = path, folder
        return folder

    def look(self, path: WPath) -> Look | None:
        """What is there; None if nothing is.

        Raises:
            OSError: as `FileTree.look`.
        """
        try:
            folder = self.at(path.parent)
            return folder.look_at(self._files.spelled(folder, path.name))
        except (FileNotFoundError, NotADirectoryError):
            return self._files.look(path)

    def sha256(self, path: WPath) -> str:
        """The SHA-256 of a regular file; no link is followed.

        Raises:
            OSError: as `FileTree.reading`.
        """
        folder = self.at(path.parent)
        return folder.sha256(self._files.spelled(folder, path.name))
