"""A bag that is locked with a passphrase, in the age format (https://age-encryption.org/v1), by the package pyrage.

Every file of the payload is encrypted to a key made for this one bag; that key lies in the bag as `key.age`, encrypted with the
passphrase. So nothing but the key depends on the passphrase, and large files are written and read as streams.
"""

from __future__ import annotations

import contextlib
import os
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import IO, Any

from kleff.errors import DamagedCase, Refused, UsageError

KEY_FILE = "key.age"
ENDING = ".age"
PASSPHRASE = "passphrase of the bag"


def _age() -> Any:
    try:
        import pyrage  # type: ignore[import-untyped]
    except ImportError:
        raise UsageError("a bag with a passphrase needs a further package", remedy="pip install 'kleff[secure]'") from None
    return pyrage


class BagKey:
    """The key of one bag.

    Attributes:
        file: what lies in the bag as `key.age`.
    """

    def __init__(self, identity: Any, file: bytes) -> None:
        self._identity = identity
        self._recipient = identity.to_public()
        self.file = file

    def seal(self, data: bytes) -> bytes:
        return bytes(_age().encrypt(data, [self._recipient]))

    def unseal(self, data: bytes, where: str) -> bytes:
        """The inverse.

        Raises:
            DamagedCase: it was not sealed with this key.
        """
        try:
            return bytes(_age().decrypt(data, [self._identity]))
        except _age().DecryptError as error:
            raise DamagedCase(f"cannot be decrypted: {error}", where=where, remedy="use an undamaged copy of the bag") from None

    @contextlib.contextmanager
    def sealing(self, out: IO[bytes]) -> Iterator[IO[bytes]]:
        """What is written to the stream that is given goes to `out`, encrypted."""
        reading, writing = os.pipe()
        worker = _Worker(lambda source: _age().encrypt_io(source, out, [self._recipient]), os.fdopen(reading, "rb"))
        with os.fdopen(writing, "wb", buffering=1 << 20) as stream:
            try:
                yield stream
            except BaseException:
                with contextlib.suppress(OSError):
                    stream.close()
                worker.thread.join()
                raise
        worker.finish()

    @contextlib.contextmanager
    def unsealing(self, source: IO[bytes]) -> Iterator[IO[bytes]]:
        """A stream that gives what is in `source`, decrypted.

        Raises:
            OSError: it was not sealed with this key, or is damaged.
        """
        reading, writing = os.pipe()
        worker = _Worker(lambda sink: _age().decrypt_io(source, sink, [self._identity]), os.fdopen(writing, "wb"))
        ended = False
        try:
            with os.fdopen(reading, "rb", buffering=1 << 20) as stream:
                yield stream
                ended = not stream.read(1)
        finally:
            worker.thread.join()
        if ended:
            worker.finish()


class _Worker:
    """Encrypts or decrypts in a thread of its own; the stream it is given is closed at its end."""

    def __init__(self, act: Any, stream: Any) -> None:
        self._error: Exception | None = None
        self.thread = threading.Thread(target=self._run, args=(act, stream), daemon=True)
        self.thread.start()

    def _run(self, act: Any, stream: Any) -> None:
        try:
            with contextlib.suppress(BrokenPipeError), stream:
                act(stream)
        except Exception as error:
            self._error = error

    def finish(self) -> None:
        """Wait for the end.

        Raises:
            OSError: it went wrong.
        """
        self.thread.join()
        if self._error is not None:
            raise self._error if isinstance(self._error, OSError) else OSError(None, str(self._error))


def make_key(passphrase: str) -> BagKey:
    """A new key for a new bag."""
    age = _age()
    identity = age.x25519.Identity.generate()
    return BagKey(identity, bytes(age.passphrase.encrypt(str(identity).encode(), passphrase)))


def open_key(file: Path, passphrase: str) -> BagKey:
    """The key of a bag.

    Raises:
        Refused: the passphrase is another, or the key is damaged.
    """
    age, data = _age(), file.read_bytes()
    try:
        return BagKey(age.x25519.Identity.from_str(bytes(age.passphrase.decrypt(data, passphrase)).decode()), data)
    except (age.DecryptError, age.IdentityError, UnicodeDecodeError):
        raise Refused("the passphrase does not open the bag", where=str(file), remedy="try again; nothing was changed") from None


class Passing:
    """A named pipe through which a program writes or reads what must not lie on the disk as it is.

    Args:
        at: where the pipe is made; it is taken away in the end.
    """

    def __init__(self, at: Path) -> None:
        self.path = at
        self.count = 0  # bytes that have gone in
        at.unlink(missing_ok=True)
        os.mkfifo(at, 0o600)

    @contextlib.contextmanager
    def into(self, file: Path, key: BagKey) -> Iterator[None]:
        """What is written to the pipe lies in `file`, encrypted, in the end."""
        with file.open("xb") as out:
            os.fchmod(out.fileno(), 0o600)
            worker = _Worker(lambda source: _age().encrypt_io(source, out, [key._recipient]), _Late(self, os.O_RDONLY))
            yield from self._around(worker, os.O_WRONLY)

    @contextlib.contextmanager
    def out_of(self, file: Path, key: BagKey) -> Iterator[None]:
        """What is in `file` can be read from the pipe, decrypted."""
        with file.open("rb") as source:
            worker = _Worker(lambda sink: _age().decrypt_io(source, sink, [key._identity]), _Late(self, os.O_WRONLY))
            yield from self._around(worker, os.O_RDONLY)

    def _around(self, worker: _Worker, other_end: int) -> Iterator[None]:
        try:
            yield
        finally:
            # A program that never opened the pipe leaves the thread waiting for the other end.
            with contextlib.suppress(OSError):
                os.close(os.open(self.path, other_end | os.O_NONBLOCK))
            self.path.unlink(missing_ok=True)
            worker.thread.join(30)
        worker.finish()


class _Late(contextlib.AbstractContextManager[Any]):
    """One end of a named pipe, opened where it is first used: opening waits for the other end."""

    def __init__(self, passing: Passing, flags: int) -> None:
        self._passing = passing
        self._flags = flags
        self._file: IO[bytes] | None = None

    def _opened(self) -> IO[bytes]:
        if self._file is None:
            self._file = os.fdopen(os.open(self._passing.path, self._flags), "rb" if self._flags == os.O_RDONLY else "wb")
        return self._file

    def read(self, size: int = -1) -> bytes:
        data = self._opened().read(size)
        self._passing.count += len(data)
        return data

    def write(self, data: bytes) -> int:
        return self._opened().write(data)

    def flush(self) -> None:
        if self._file is not None:
            self._file.flush()

    def __exit__(self, *error: object) -> None:
        if self._file is not None:
            self._file.close()
