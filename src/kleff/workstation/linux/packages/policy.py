"""Keeping maintainer scripts from starting and stopping services for a while."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath

# invoke-rc.d asks this file before it touches a service (Debian policy 9.3.3.1); 101: do nothing.
POLICY = "#!/bin/sh\n# placed by kleff for the time of one removal\nexit 101\n"
PLACE = ("usr", "sbin")
NAME = "policy-rc.d"


class Policy:
    """The policy file of a workstation. Ours is told from an administrator's by its content, also after a kill."""

    def __init__(self, files: FileTree) -> None:
        self._files = files
        self._folder = WPath(files.style, "", PLACE)

    @contextlib.contextmanager
    def no_service_starts(self) -> Iterator[None]:
        """In a tree that is not running, they would be those of this machine; while packages are put back, their own, whose data is not in
        place yet.
        """
        self.clear()
        placed = self._place()
        try:
            yield
        finally:
            if placed:
                self.clear()

    def _place(self) -> bool:
        with contextlib.suppress(FileNotFoundError, FileExistsError), self._files.folder(self._folder) as folder:
            before = folder.look().times
            file = folder.create(NAME)
            try:
                file.write(POLICY.encode("ascii"))
                file.set_mode(0o755)
            finally:
                file.close()
            folder.set_times(before)
            return True
        return False

    def stands(self) -> bool:
        """Whether our own file is there."""
        try:
            return self._files.read(self._folder.child(NAME)) == POLICY.encode()
        except OSError:
            return False

    def clear(self) -> None:
        """Take away our own file. The folder seems unchanged, since it is."""
        if self.stands():
            with contextlib.suppress(FileNotFoundError), self._files.folder(self._folder) as folder:
                before = folder.look().times
                folder.remove(NAME)
                folder.set_times(before)
