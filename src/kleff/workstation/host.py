"""The machine Kleff itself runs on: where cases lie, who may change them, and what is written there for good."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import IO, NamedTuple, Protocol

from kleff.workstation.files.protocol import Folder
from kleff.workstation.paths import Space
from kleff.workstation.things import Given, Known, Running


class Busy(Exception):
    """A file is locked by somebody else; says by whom, as far as that one told."""


class Places(NamedTuple):
    """Where Kleff keeps what is its own, of an administrator for the machine, of anybody else for the account."""

    cases: Path
    library: Path
    settings: Path


class NamedPipe(Protocol):
    """A pipe with a name, through which a program writes or reads what must not lie on the disk."""

    path: Path

    def open_reader(self) -> IO[bytes]:
        """Waits for a writer."""

    def open_writer(self) -> IO[bytes]:
        """Waits for a reader."""

    def release(self) -> None:
        """Let go whoever waits for the other end, and take the pipe away."""


class Host(Protocol):
    """What a case needs of the machine; what is written is on the disk when a call returns."""

    def is_admin(self) -> bool: ...

    def places(self) -> Places:
        """Where cases, procedures and settings are unless a technician says otherwise."""

    def draws(self, terminal: int) -> bool:
        """Whether a terminal takes signs for colours (ECMA-48). Args: terminal: its descriptor."""

    def account(self) -> int:
        """The number of the account Kleff works as, where the system has numbers."""

    def weak_spot(self, path: Path) -> Path | None:
        """The first of a path and its folders that others than an administrator can change; None for an ordinary account."""

    def write_new(self, file: Path, data: bytes) -> str:
        """Write a file that must not be there yet, for this account alone; returns its SHA-256."""

    def open_new(self, file: Path) -> IO[bytes]:
        """The same, to be written piece by piece; flushed by `flush_file`."""

    def flush_file(self, file: IO[bytes]) -> None: ...

    def write_atomic(self, file: Path, data: bytes, mode: int = 0o600) -> None:
        """Replace a file whole or not at all."""

    def write_in_place(self, file: Path, data: bytes) -> None:
        """Give a file that is there another content in the room that it has, with blanks up to its size; on disk when this returns.

        Raises:
            FileNotFoundError: it is not there.
        """

    def flush_folder(self, folder: Path) -> None:
        """Bring the names in a folder to the disk."""

    def reading(self, file: Path) -> IO[bytes]:
        """A regular file, opened for reading; no link is followed, and nothing that blocks is waited for.

        Raises:
            OSError: it is not there, not readable, or (EINVAL) no regular file.
        """

    def sha256(self, file: Path) -> str:
        """Of a regular file; no link is followed."""

    def mount_of(self, path: Path) -> str:
        """What tells the mount that a path lies on from a later one of the same volume."""

    def space(self, path: Path) -> Space:
        """What is left of the volume a path lies on."""

    def copy_new(self, source: Path, target: Path) -> str:
        """Copy a file to a new one, read back; returns its SHA-256.

        Raises:
            OSError: it cannot be read or written, or is not what was written.
        """

    def folder(self, path: Path) -> AbstractContextManager[Folder]:
        """A folder of this machine, opened."""

    def lock(self, file: Path, text: str) -> AbstractContextManager[None]:
        """Hold a lock that the system drops when its holder is gone; `text` tells others who that is.

        Raises:
            Busy: somebody else holds it.
        """

    def lock_holder(self, file: Path) -> str | None:
        """What whoever holds a lock has told; None if nobody holds it."""

    def wait_for_lock(self, file: Path) -> AbstractContextManager[None]:
        """The same, waiting for whoever holds it."""

    def make_private(self, folder: Path) -> None:
        """Make a folder for this account alone, and those above it that are missing.

        Raises:
            OSError: EEXIST, something is there; it cannot be made.
        """

    def make_state_folder(self, folder: Path) -> None:
        """Make Kleff's own folder on a workstation; the folder above keeps its times."""

    def memory(self) -> Path | None:
        """A folder that lies in memory, not on a disk, where there is one."""

    def pipe(self) -> tuple[IO[bytes], IO[bytes]]:
        """(reading end, writing end) of a new pipe."""

    def named_pipe(self, at: Path) -> NamedPipe:
        """A new one. Args: at: for which file it stands; a program whose output is to go there writes to the pipe."""

    # -- programs ---------------------------------------------------------------------------------------------

    def start_program(
        self, argv: Sequence[str], output: Path, environment: Mapping[str, str], given: Given | None = None, known: Known | None = None
    ) -> Running:
        """Start a program of this machine, as `Commands.start` says.

        Raises:
            ActionFailed: it cannot be started.
        """

    def find_program(self, last: Sequence[str], output: Path) -> Running | None:
        """A program that runs with these last arguments."""

    def wait_for_program(self, running: Running, seconds: float) -> bool:
        """As `Commands.wait`."""

    def program_busy(self, running: Running) -> bool:
        """As `Commands.busy`."""
