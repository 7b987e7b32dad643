"""What folders have named: who comes to such a name and finds nothing is not told that nothing is there."""

from __future__ import annotations

import errno
from collections.abc import Callable, Iterator, Sequence
from typing import TypeVar

from kleff.procedure.globs import fold
from kleff.workstation.paths import Look, WPath

MOST_OF_ONE, MOST = 4096, 1 << 17  # names that are kept, of one folder and of all; what was listed longer ago is asked for no more
T = TypeVar("T")


class Vanished(OSError):
    """A folder names something, and it cannot be found: a damaged disk, a volume that has gone, a protection program."""

    def __init__(self, path: object) -> None:
        super().__init__(errno.ESTALE, "its folder names it, and it cannot be found", str(path))


def no_folder(path: WPath, look: Look) -> OSError:
    """What stands where a folder is looked for is something else: who lists it must not take that for an empty one."""
    if look.is_link:
        return OSError(errno.ELOOP, "it is a link", str(path))
    return NotADirectoryError(errno.ENOTDIR, "it is no folder", str(path))


class Named:
    """What was listed last.

    Args:
        listed: the names in a folder now.
        stands: what stands at a path. Both raise FileNotFoundError where nothing does.
    """

    def __init__(self, listed: Callable[[WPath], list[str]], stands: Callable[[WPath], object]) -> None:
        self._listed = listed
        self._stands = stands
        self._count = 0
        self._names: dict[tuple[str, tuple[str, ...]], frozenset[str]] = {}

    def note(self, folder: WPath, names: Sequence[str]) -> None:
        """A folder has just named these."""
        if len(names) > MOST_OF_ONE:
            self._names.pop(folder.key, None)
            return
        self._count += len(names)
        if self._count > MOST:
            self._names.clear()
            self._count = len(names)
        self._names[folder.key] = frozenset(map(self._key(folder), names))

    def seen(self, path: WPath, look: Callable[[], T]) -> T:
        """What a look gives; done twice where the folder names what was not found, since another may have exchanged it just then.

        Raises:
            FileNotFoundError: nothing is there.
            Vanished: the folder names it still.
        """
        try:
            return look()
        except FileNotFoundError:
            if not any(self._was_named(one) for one in _line(path)):
                raise
        try:
            return look()
        except FileNotFoundError:
            if self._still_names(path):
                raise Vanished(path) from None
            raise

    def _still_names(self, path: WPath) -> bool:
        """Whether the folder of what is missing of a path named it, and does so now. It is asked once: it may go on changing."""
        for one in filter(self._was_named, _line(path)):
            try:
                self._stands(one)
                return False  # what is missing is below it, and nobody has named that
            except FileNotFoundError:
                pass
            try:
                now = self._listed(one.parent)
            except FileNotFoundError:
                continue  # with its folder
            if one.name in now or self._key(path)(one.name) in map(self._key(path), now):
                return True
            self._names.pop(one.parent.key, None)
            return False
        return False

    def _was_named(self, path: WPath) -> bool:
        return self._key(path)(path.name) in self._names.get(path.parent.key, ())

    @staticmethod
    def _key(path: WPath) -> Callable[[str], str]:
        return fold if path.style.folded else str


def _line(path: WPath) -> Iterator[WPath]:
    """A path, and all that hold it but the root of its volume."""
    return (WPath(path.style, path.volume, path.parts[:count]) for count in range(len(path.parts), 0, -1))
