"""A workstation's files, asked through open handles: the verbs, whichever system answers them.

A handle is opaque. Every name is looked up in an open folder, one name at a time, and no link is followed. Errors are `OSError`
with the numbers of `errno`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import IO, Protocol

from kleff.procedure.globs import PathStyle
from kleff.workstation.paths import Look, Measure, Resolved, Space, WPath

RIGHTS = "windows.security"  # the attribute in which a Windows keeps whose a thing is, and who may do what with it
Owner = tuple[int, int] | None  # (uid, gid); None to leave it to the system


class Handle(Protocol):
    """What an open file and an open folder share."""

    def look(self) -> Look:
        """What it is, by the handle."""

    def attributes(self) -> dict[str, bytes]:
        """Extended attributes, access control lists among them; none where the file system has none."""

    def set_owner(self, uid: int, gid: int) -> None: ...

    def give_to(self, account: str) -> None:
        """Where rights go by ids and not by numbers: have it be an account's; for "" everybody's to read, administrators' to change."""

    def set_mode(self, mode: int) -> None:
        """Permissions. They are set after the owner and before attributes: each changes what stands before it."""

    def set_attribute(self, name: str, value: bytes) -> None: ...

    def set_times(self, times: tuple[int, int]) -> None:
        """Access and modification time, in ns."""

    def flush(self) -> None:
        """Bring it to the disk; of a folder, the names in it."""

    def close(self) -> None: ...


class File(Handle, Protocol):
    """An open regular file."""

    def read(self, size: int) -> bytes:
        """The next bytes, up to so many; nothing at the end."""

    def truncate(self, size: int) -> None: ...

    def write(self, data: bytes) -> None:
        """All of it, at the place in hand."""

    def write_at(self, data: bytes, at: int) -> None: ...


class Folder(Handle, Protocol):
    """An open folder. The names are of what is directly in it, spelled as on the disk."""

    def names(self) -> list[str]: ...

    def look_at(self, name: str) -> Look:
        """What is there.

        Raises:
            FileNotFoundError: nothing.
        """

    def folder(self, name: str) -> AbstractContextManager[Folder]:
        """A folder in it, closed in the end."""

    def file(self, name: str) -> AbstractContextManager[File]:
        """A file, opened for reading; nothing that blocks is waited for, and who opens it looks what it is."""

    def create(self, name: str) -> File:
        """A new file, the owner's alone."""

    def make_folder(self, name: str, mode: int = 0o700) -> None: ...

    def make_link(self, name: str, target: str) -> None: ...

    def read_link(self, name: str) -> str: ...

    def set_link(self, name: str, owner: Owner, times: tuple[int, int]) -> None:
        """Owner and times of a link itself, or of anything that is not opened."""

    def short_name(self, name: str) -> str:
        """The second, short name that a Windows has given to what has this one; "" if it has none."""

    def set_short_name(self, name: str, short: str) -> None:
        """Give it that one.

        Raises:
            OSError: EEXIST, another has it; or the volume or the system says no.
        """

    def remove(self, name: str) -> None:
        """A file or link."""

    def remove_if_empty(self, name: str) -> None:
        """A folder, if it is there and there is nothing in it."""

    def rename(self, name: str, to: Folder, to_name: str) -> None:
        """Move within one volume; never replaces anything.

        Raises:
            FileExistsError: something stands there.
            OSError: EXDEV, it cannot be moved, only copied.
        """

    def exchange(self, name: str, other: Folder, other_name: str) -> None:
        """Let two things, neither a folder, change places in one instant, within one volume.

        Raises:
            OSError: EOPNOTSUPP, its volume cannot do that.
        """

    def link(self, name: str, to: Folder, to_name: str) -> None:
        """A second name of a file."""

    def sha256(self, name: str) -> str:
        """Of a regular file."""

    def copy_file(self, name: str, to: Folder, to_name: str, look: Look, flush: bool = True) -> str:
        """Copy the regular file that was looked at, with holes, owner, mode, attributes and times.

        Args:
            flush: bring it to the disk too; else whoever copies many flushes the volume once.

        Returns:
            Its SHA-256.
        """

    def copy_tree(self, name: str, to: Folder, to_name: str, told: Callable[[int, int], None]) -> None:
        """Copy a folder with all below it, on disk and read back when this returns; `told` is given items and bytes."""

    def delete_copied(self, name: str, to: Folder, to_name: str) -> list[str]:
        """Delete what has been copied, as far as it is as in the copy. Returns what is left."""

    def delete_tree(self, name: str, told: Callable[[int], None]) -> None:
        """Delete with all below, never across a mount; done twice is done once. `told` is given how many items in it have gone.

        Raises:
            MountInside: something is mounted there.
        """

    def may_change(self) -> bool:
        """Whether Kleff may make and remove names in it."""

    def ours(self, name: str) -> bool:
        """Whether a folder in it is Kleff's own, and nobody else's: made by it, and entered by it alone."""

    def flush_volume(self) -> None:
        """Flush the whole file system it lies on."""


class MountInside(Exception):
    """Something is mounted within what was to be deleted; says where."""


class FileTree(Protocol):
    """A workstation's files, by path."""

    style: PathStyle
    volumes: dict[str, Path]

    def path(self, text: str) -> WPath | None:
        """The path a text stands for here; None if it is none of this system, or its volume is not here.

        Short names of what is there are put in their long form: both are the same thing.
        """

    def from_raw(self, raw: bytes) -> WPath:
        """A path from the bytes that are kept of it.

        Raises:
            DamagedCase: it can be none of this workstation.
        """

    def host(self, path: WPath) -> str:
        """Where a path lies on the machine Kleff runs on (for programs that need a path)."""

    def spelled(self, folder: Folder, name: str) -> str:
        """A name as it is spelled in an open folder, also if it is the short one; as given if nothing there is called so."""

    # -- opening ----------------------------------------------------------------------------------------------

    def open_folder(self, path: WPath) -> Folder:
        """An open folder; every step is opened in the one before and follows no link.

        Raises:
            OSError: ENOENT, or ENOTDIR/ELOOP where a step is no folder or a link.
        """

    def open_below(self, folder: Folder, name: str) -> Folder:
        """A folder in an open one, which is closed, also if it fails."""

    def folder(self, path: WPath) -> AbstractContextManager[Folder]:
        """As `open_folder`, and closed in the end."""

    def parent(self, path: WPath) -> AbstractContextManager[tuple[Folder, str]]:
        """The open parent folder of a path, and the name spelled as on the disk."""

    # -- one thing --------------------------------------------------------------------------------------------

    def look(self, path: WPath) -> Look | None:
        """What is there; None if nothing is.

        Raises:
            OSError: it cannot be looked at (EACCES ...), or a folder on the way is a link (ELOOP).
        """

    def names(self, path: WPath) -> list[str]:
        """The names in a folder, sorted; none if nothing stands there.

        Raises:
            OSError: it is no folder, a link neither, or it cannot be looked at.
        """

    def read(self, path: WPath, limit: int = 1 << 20) -> bytes:
        """The first `limit` bytes of a regular file.

        Raises:
            OSError: not there, not a regular file, not readable.
        """

    def reading(self, path: WPath) -> IO[bytes]:
        """A regular file, opened for reading; no link is followed, not for the last name either."""

    def sha256(self, path: WPath) -> str:
        """Of a regular file."""

    def read_link(self, path: WPath) -> str:
        """Where a symbolic link leads, as written in it."""

    def remove_single(self, path: WPath) -> None:
        """Delete one file or link, or a folder that is empty."""

    # -- links on the way, patterns ---------------------------------------------------------------------------

    def resolve(self, path: WPath) -> Resolved:
        """Resolve links on the way (not the last name) that only an administrator can change.

        Raises:
            LinkOnTheWay: a link below a folder that another account can write to.
        """

    def only_admin(self, path: WPath) -> bool:
        """Whether a folder, and every folder above it, can be changed by administrators alone."""

    def expand(self, volume: str, pattern: Sequence[str], limit: int = 0) -> Iterator[WPath]:
        """The topmost paths that match a pattern, in order; nothing below a match is listed again.

        Links on the way that only an administrator can change are resolved first.

        Args:
            limit: stop looking after so many matches; 0: never.

        Raises:
            LinkOnTheWay: the fixed part of the pattern leads through a link that others can change.
            OSError: a folder that cannot be read.
        """

    # -- trees ------------------------------------------------------------------------------------------------

    def walk(self, path: WPath, enter: Callable[[WPath, Look], bool] = ...) -> Iterator[tuple[WPath, Look]]:
        """Everything at and below a path, parents first, following no link.

        Args:
            enter: asked of each path once; what is in a folder comes only if it says so.
        """

    def find(self, path: WPath, wanted: Callable[[str], object]) -> Iterator[tuple[WPath, Look]]:
        """Files and links with a wanted name at and below a path; quicker than `walk`, as nothing else is looked at."""

    def measure(self, path: WPath, processes: int = 2) -> Measure:
        """Count and size what is at and below a path; a large tree in two processes."""

    # -- volumes ----------------------------------------------------------------------------------------------

    def mounts_in(self, path: WPath) -> list[str]:
        """Mount points at or below a path, bind mounts too."""

    def layered(self, path: WPath) -> bool:
        """Whether a path is a folder of an overlay, which cannot be renamed if it comes from a lower layer."""

    def mount_root(self, path: WPath) -> WPath:
        """The topmost folder, within the workstation, of the mount on which the parent of `path` lies."""

    def space(self, path: WPath) -> Space:
        """What is left of the volume a path lies on."""
