"""A bag that is locked with a passphrase, in the age format (https://age-encryption.org/v1), by the package pyrage.

Every file of the payload is encrypted to a key made for this one bag; that key lies in the bag as `key.age`, encrypted with the
passphrase. So nothing but the key depends on the passphrase, and large files are written and read as streams.
"""

from __future__ import annotations

import contextlib
import errno
import re
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO, Any

from kleff.case.bag.reading import MOST_OF_A_TAG, read_whole
from kleff.errors import ActionFailed, DamagedCase, Refused, UsageError
from kleff.workstation.this_machine import host

KEY_FILE = "key.age"
ENDING = ".age"
PASSPHRASE = "passphrase of the bag"
PATIENCE = 30.0  # seconds to encrypt or decrypt what is still on its way
ENOUGH = 17  # doublings of the work a guess costs
_TRIES, _PAUSE = 24, 0.25  # to open the key on a workstation that is busy; seconds between two


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
        """What is written to the stream that is given goes to `out`, encrypted.

        Raises:
            OSError: `out` cannot be written.
        """
        reading, writing = host().pipe()
        worker = _Worker(lambda source: self.encrypt(source, out), reading)
        try:
            with writing as stream:
                yield stream
        except BrokenPipeError:
            worker.finish()  # says why it has ended
            raise
        except BaseException:
            worker.thread.join()
            raise
        worker.finish()

    @contextlib.contextmanager
    def unsealing(self, source: IO[bytes]) -> Iterator[IO[bytes]]:
        """A stream that gives what is in `source`, decrypted.

        Raises:
            Unsealable: it was not sealed with this key, or is damaged.
        """
        reading, writing = host().pipe()
        worker = _Worker(lambda sink: self.decrypt(source, sink), writing)
        ended = False
        try:
            with reading as stream:
                yield stream
                ended = not stream.read(1)
        finally:
            worker.thread.join()
        if ended:
            try:
                worker.finish()
            except OSError as error:
                raise Unsealable(str(error)) from None

    def encrypt(self, source: Any, sink: Any) -> None:
        """From one stream to another."""
        _age().encrypt_io(source, sink, [self._recipient])

    def decrypt(self, source: Any, sink: Any) -> None:
        """The inverse."""
        _age().decrypt_io(source, sink, [self._identity])


class Unsealable(Exception):
    """It was not sealed with this key, or is damaged."""


class _Worker:
    """Encrypts or decrypts in a thread of its own; the stream it is given is closed at its end."""

    def __init__(self, act: Callable[[Any], None], stream: Any) -> None:
        self._error: Exception | None = None
        self.thread = threading.Thread(target=self._run, args=(act, stream), daemon=True)
        self.thread.start()

    def _run(self, act: Callable[[Any], None], stream: Any) -> None:
        try:
            with contextlib.suppress(BrokenPipeError), stream:
                act(stream)
        except Exception as error:  # handed on by `finish`, in the thread that waits for it
            self._error = error

    def finish(self, seconds: float | None = None) -> None:
        """Wait for the end.

        Raises:
            OSError: it went wrong, or does not end.
        """
        self.thread.join(seconds)
        if self.thread.is_alive():
            raise OSError(errno.ETIMEDOUT, "what encrypts or decrypts does not end")
        if self._error is not None:
            raise self._error if isinstance(self._error, OSError) else OSError(errno.EIO, str(self._error))


def make_key(passphrase: str) -> BagKey:
    """A new key for a new bag."""
    identity = _age().x25519.Identity.generate()
    return BagKey(identity, _encrypt(str(identity).encode(), passphrase))


def _encrypt(data: bytes, passphrase: str) -> bytes:
    """Encrypted with a passphrase. A busy workstation measures too little of what it can do: the hardest to guess of a few tries."""
    best = b""
    for _ in range(4):
        made = bytes(_age().passphrase.encrypt(data, passphrase))
        best = max(best, made, key=work_of)
        if work_of(best) >= ENOUGH:
            break
    return best


def work_of(file: bytes) -> int:
    """How often the work of a guess is doubled, as it stands in the head of a file (age-encryption.org/v1); 0 if there is none."""
    found = re.match(rb"age-encryption\.org/v1\n-> scrypt \S+ (\d+)\n", file)
    return int(found[1]) if found else 0


def open_key(file: Path, passphrase: str) -> BagKey:
    """The key of a bag.

    Raises:
        Refused: the passphrase is another, the key is damaged, or this workstation is too slow for the work it asks for.
    """
    age, data = _age(), read_whole(file, MOST_OF_A_TAG)
    try:
        return BagKey(age.x25519.Identity.from_str(_decrypt(data, passphrase).decode()), data)
    except _TooMuchWork:
        raise Refused(
            "opening the bag's key asks for more work than this workstation can do now", where=str(file),
            remedy="close what keeps it busy and try again, or open the bag on a faster one; nothing was changed",
        ) from None  # fmt: skip
    except (age.DecryptError, age.IdentityError, UnicodeDecodeError):
        raise Refused("the passphrase does not open the bag", where=str(file), remedy="try again; nothing was changed") from None


class _TooMuchWork(Exception):
    """The key asks for more work than is done for one passphrase."""


def _decrypt(data: bytes, passphrase: str) -> bytes:
    """What a passphrase encrypts.

    How much work scrypt may ask for is measured anew each time, in a few milliseconds, and a busy workstation measures too little
    (https://age-encryption.org/v1, "The scrypt recipient type", leaves the limit to the program). So it is asked more than once.
    """
    age = _age()
    for left in reversed(range(_TRIES)):
        try:
            return bytes(age.passphrase.decrypt(data, passphrase))
        except age.DecryptError as error:
            if not str(error).startswith("Excessive work"):
                raise
            if left:
                time.sleep(_PAUSE)
    raise _TooMuchWork


class Passing:
    """A named pipe through which a program writes or reads what must not lie on the disk as it is.

    Args:
        at: where the pipe is made, if the system has such files; it is taken away in the end.

    Attributes:
        path: of the pipe, for a program; count: bytes that have gone in.
    """

    def __init__(self, at: Path) -> None:
        self.pipe = host().named_pipe(at)
        self.path = self.pipe.path
        self.count = 0

    @contextlib.contextmanager
    def into(self, file: Path, key: BagKey) -> Iterator[None]:
        """What is written to the pipe lies in `file`, encrypted, in the end.

        Raises:
            ActionFailed: it cannot be written.
        """
        with self._telling(), host().open_new(file) as out:
            worker = _Worker(lambda source: key.encrypt(source, out), _Late(self, self.pipe.open_reader))
            yield from self._around(worker)
            host().flush_file(out)

    @contextlib.contextmanager
    def out_of(self, source: IO[bytes], key: BagKey) -> Iterator[None]:
        """What is in `source` can be read from the pipe, decrypted.

        Raises:
            ActionFailed: it cannot be read.
        """
        with self._telling():
            worker = _Worker(lambda sink: key.decrypt(source, sink), _Late(self, self.pipe.open_writer))
            yield from self._around(worker)

    @contextlib.contextmanager
    def _telling(self) -> Iterator[None]:
        try:
            yield
        except OSError as error:
            raise ActionFailed(f"what goes through {self.path} is lost: {error.strerror}", remedy="make room, then resume") from None

    def _around(self, worker: _Worker) -> Iterator[None]:
        try:
            yield
        except ActionFailed:
            self.pipe.release()
            worker.finish(PATIENCE)  # if it has gone wrong itself, that is why the program ended badly
            raise
        except BaseException:
            self.pipe.release()
            raise
        self.pipe.release()
        worker.finish(PATIENCE)


class _Late(contextlib.AbstractContextManager[Any]):
    """One end of a named pipe, opened where it is first used: opening waits for the other end."""

    def __init__(self, passing: Passing, open_end: Callable[[], IO[bytes]]) -> None:
        self._passing = passing
        self._open_end = open_end
        self._file: IO[bytes] | None = None

    def _opened(self) -> IO[bytes]:
        if self._file is None:
            self._file = self._open_end()
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
