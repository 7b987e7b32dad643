"""A workstation on which single reads fail: what is looked at there may be found, or not be looked at; never not be there."""

from __future__ import annotations

import builtins
import errno
import io
import os
import sys
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any
from unittest import mock

CODES = {name: getattr(errno, name) for name in ("EACCES", "EIO", "ELOOP", "EFBIG", "ENOENT")}
CALLS: tuple[tuple[Any, str], ...] = (
    (os, "open"), (os, "stat"), (os, "lstat"), (os, "fstat"), (os, "scandir"), (os, "listdir"), (os, "readlink"), (os, "read"),
    (os, "getxattr"), (os, "listxattr"), (os, "pread"), (io, "open"), (builtins, "open"),
)  # fmt: skip


class Blind:
    """Fails the `at`-th read of a folder's things with one error, whoever makes it; counts them all.

    Args:
        at: from 1; 0 for none.
        for_good: all reads of that very name from then on.
    """

    def __init__(self, below: Path, at: int = 0, code: int = errno.EIO, for_good: bool = True) -> None:
        self.below, self.at, self.code, self.for_good = str(below), at, code, for_good
        self.count = 0
        self._listed: set[str] = set()
        self.failed = ""
        self.by: list[str] = []
        self.what = ""

    def __str__(self) -> str:
        once = "" if self.for_good else " once"
        return f"{self.what} of {self.failed} says {os.strerror(self.code)}{once}, asked by {' < '.join(self.by[:6])}"

    @contextmanager
    def armed(self) -> Iterator[None]:
        with ExitStack() as stack:
            for module, name in CALLS:
                stack.enter_context(mock.patch.object(module, name, self._wrapped(name, getattr(module, name))))
            yield

    def _wrapped(self, name: str, original: Callable[..., Any]) -> Callable[..., Any]:
        def call(*arguments: Any, **more: Any) -> Any:
            path = self._path(arguments, more)
            if path.startswith(self.below) and self._now(name, path):
                raise OSError(self.code, os.strerror(self.code), path)
            result = original(*arguments, **more)
            if name == "listdir" and path.startswith(self.below):
                self._listed.update(f"{path}/{below}" for below in result)
            return result

        return call

    def _now(self, name: str, path: str) -> bool:
        if self.failed:
            return self.for_good and path == self.failed
        if self.code == errno.ENOENT and path not in self._listed:
            return False
        self.count += 1
        if self.count != self.at:
            return False
        self.failed, self.what = path, name
        frame = sys._getframe(2)
        while frame is not None and len(self.by) < 40:
            if "/kleff/" in frame.f_code.co_filename:
                self.by.append(f"{frame.f_code.co_filename.rpartition('/kleff/')[2]}:{frame.f_lineno} {frame.f_code.co_name}")
            frame = frame.f_back  # type: ignore[assignment]
        return True

    def _path(self, arguments: tuple[Any, ...], more: dict[str, Any]) -> str:
        first = arguments[0] if arguments else more.get("path", ".")
        if isinstance(first, int):
            return _where(first)
        text = os.fsdecode(first)
        folder = more.get("dir_fd")
        return text if folder is None else f"{_where(folder)}/{text}"


_readlink = os.readlink


def _where(fd: int) -> str:
    try:
        return _readlink(f"/proc/self/fd/{fd}")
    except OSError:
        return ""
