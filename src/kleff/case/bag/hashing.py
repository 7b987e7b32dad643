"""SHA-256 in a thread of its own, beside what reads, packs or unpacks: hashing is the slowest of them on many machines."""

from __future__ import annotations

import contextlib
import hashlib
import queue
import threading
from collections.abc import Iterator
from concurrent.futures import Future
from typing import Any

SMALL = 1 << 15  # bytes that are hashed quicker than they are handed over
WAITING = 8  # pieces that may wait for their turn


class Hasher:
    """Hashes one file after the other, given in pieces."""

    def __init__(self) -> None:
        self._queue: queue.Queue[bytes | Future[str] | None] = queue.Queue(WAITING)
        self._first: bytes | None = None  # a piece that is held back: it may be all there is
        self._began = False
        self._thread = threading.Thread(target=self._work, daemon=True)
        self._thread.start()

    def update(self, data: bytes) -> None:
        """The next piece of the file in hand."""
        if self._began or self._first is not None:
            self._hand_over(data)
        else:
            self._first = data

    def _hand_over(self, data: bytes) -> None:
        if self._first is not None:
            self._queue.put(self._first)
            self._first = None
        self._queue.put(data)
        self._began = True

    def finish(self) -> Future[str]:
        """The digest, as soon as it is there; the next file begins."""
        digest: Future[str] = Future()
        if not self._began and len(self._first or b"") <= SMALL:
            digest.set_result(hashlib.sha256(self._first or b"").hexdigest())
        else:
            if self._first is not None:
                self._queue.put(self._first)
            self._queue.put(digest)
        self._first, self._began = None, False
        return digest

    def close(self) -> None:
        self._queue.put(None)
        self._thread.join()

    def _work(self) -> None:
        sha256: Any = hashlib.sha256()
        while (item := self._queue.get()) is not None:
            if isinstance(item, Future):
                item.set_result(sha256.hexdigest())
                sha256 = hashlib.sha256()
            else:
                sha256.update(item)


@contextlib.contextmanager
def hashing() -> Iterator[Hasher]:
    """A hasher that is closed at the end."""
    hasher = Hasher()
    try:
        yield hasher
    finally:
        hasher.close()
