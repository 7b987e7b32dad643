"""The lowest layer gone wrong: system calls that fail once, for `kleff` in a child process."""

from __future__ import annotations

import errno
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import kleff.__main__
import kleff.workstation.posix.calls as calls
import kleff.workstation.posix.handles as handles

CODES = {name: getattr(errno, name) for name in ("ENOSPC", "EACCES", "EIO", "EROFS", "EBUSY", "ETXTBSY", "ENOENT")}


class Event:
    """Just before the `at`-th counted call of one system call, something happens to the tree, as another program would do it."""

    def __init__(self, call: str, at: int, below: Path, happen: Callable[[], None]) -> None:
        self._fault = Fault(call, at, 0, below)
        self._fault.happen = happen

    def arm(self) -> None:
        self._fault.arm()


class Fault:
    """Fails the `at`-th call of one system call with one error, whoever makes it.

    Args:
        call: `rename`, `mkdir`, `fsync`, `open`, `read`, `write`, `stat`, `replace`, `unlink` or `link`.
        below: only calls about names below this folder count (descriptors are looked up).
        for_good: that call and all that follow.
    """

    def __init__(self, call: str, at: int, code: int, below: Path, for_good: bool = False) -> None:
        self.call, self.at, self.code, self.below, self.for_good = call, at, code, str(below), for_good
        self.count = 0
        self.happen: Callable[[], None] | None = None

    def arm(self) -> None:
        if self.call == "rename":
            original = calls.rename_noreplace
            for module in (calls, handles):
                module.rename_noreplace = self._wrapped(original, 1)  # type: ignore[attr-defined]
        else:
            setattr(os, self.call, self._wrapped(getattr(os, self.call), 0))

    def _wrapped(self, original: Callable[..., Any], name_at: int) -> Callable[..., Any]:
        def call(*arguments: Any, **more: Any) -> Any:
            if self._counts(arguments, more, name_at):
                self.count += 1
                if self.count == self.at and self.happen is not None:
                    self.happen()
                elif self.happen is None and (self.count == self.at or (self.for_good and self.count > self.at)):
                    raise OSError(self.code, os.strerror(self.code), str(arguments[name_at]))
            return original(*arguments, **more)

        return call

    def _counts(self, arguments: tuple[Any, ...], more: dict[str, Any], name_at: int) -> bool:
        fd = arguments[0] if isinstance(arguments[0], int) else more.get("dir_fd", more.get("src_dir_fd"))
        if isinstance(fd, int):
            try:
                return os.readlink(f"/proc/self/fd/{fd}").startswith(self.below)
            except OSError:
                return False
        return str(arguments[name_at]).startswith(self.below)


def main(words: list[str]) -> None:
    """`python3 faulty.py CALL AT ERROR BELOW FOR_GOOD kleff-words...`: Kleff with one fault, where no test process can be its parent."""
    call, at, code, below, for_good, *rest = words
    Fault(call, int(at), CODES[code], Path(below), for_good == "True").arm()
    sys.argv = ["kleff", *rest]
    kleff.__main__.main()


if __name__ == "__main__":
    main(sys.argv[1:])
