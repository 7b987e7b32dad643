"""System calls Python's standard library does not offer, and small file helpers that reach the disk."""

from __future__ import annotations

import contextlib
import ctypes
import errno
import fcntl
import hashlib
import os
import stat
import time
from collections.abc import Callable, Iterator
from functools import lru_cache
from pathlib import Path

from kleff.errors import Unflushed, remedy_for
from kleff.workstation.paths import Look, Space

RENAME_NOREPLACE, RENAME_EXCHANGE = 1, 2  # linux/fs.h; renameat2(2)
FOLDER_FLAGS = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC


def open_volume(folder: Path) -> int:
    """The topmost folder of a volume. That it is not there says nothing of what lies on it.

    Raises:
        OSError: it cannot be opened; never FileNotFoundError.
    """
    try:
        return os.open(folder, FOLDER_FLAGS)
    except FileNotFoundError as error:
        raise OSError(errno.ESTALE, "the volume is not there any more", str(folder)) from error


@lru_cache(maxsize=1)
def _libc() -> ctypes.CDLL:
    return ctypes.CDLL(None, use_errno=True)


def rename_noreplace(from_fd: int, from_name: str, to_fd: int, to_name: str) -> None:
    """renameat2(2) with RENAME_NOREPLACE: never replaces what stands at the new name.

    Raises:
        OSError: as the system says; EEXIST if the new name is taken, EOPNOTSUPP if the file system has no such rename.
    """
    # Some file systems have none; a plain rename could replace what has just appeared.
    _rename(from_fd, from_name, to_fd, to_name, RENAME_NOREPLACE, "its volume has no rename that never replaces")


def exchange(fd: int, name: str, other_fd: int, other_name: str) -> None:
    """renameat2(2) with RENAME_EXCHANGE: two things change places.

    Raises:
        OSError: as the system says; EOPNOTSUPP if the file system has no such rename.
    """
    _rename(fd, name, other_fd, other_name, RENAME_EXCHANGE, "its volume cannot exchange two files")


def _rename(from_fd: int, from_name: str, to_fd: int, to_name: str, flag: int, lacking: str) -> None:
    if _libc().renameat2(from_fd, os.fsencode(from_name), to_fd, os.fsencode(to_name), flag) != 0:
        code = ctypes.get_errno()
        if code in (errno.EINVAL, errno.ENOSYS):
            raise OSError(errno.EOPNOTSUPP, lacking, from_name)
        raise OSError(code, os.strerror(code), from_name)


def mount_id(fd: int) -> int:
    """The id of the mount an open file lies on, bind mounts told apart (proc(5), fdinfo)."""
    with open(f"/proc/self/fdinfo/{fd}", encoding="ascii") as info:
        for line in info:
            if line.startswith("mnt_id:"):
                return int(line.split()[1])
    raise OSError(errno.ENOSYS, "no mnt_id in fdinfo")


def remove_if_empty(fd: int, name: str) -> None:
    """Take away a folder in an open one, if there is nothing in it."""
    try:
        os.rmdir(name, dir_fd=fd)
    except OSError as error:
        if error.errno not in (errno.ENOTEMPTY, errno.ENOENT, errno.EEXIST):
            raise


def mount_type(mount: int) -> str:
    """The type of file system of a mount (proc(5), mountinfo)."""
    with open("/proc/self/mountinfo", encoding="utf-8", errors="surrogateescape") as table:
        for line in table:
            fields, _, rest = line.partition(" - ")
            if int(fields.split(" ", 1)[0]) == mount:
                return rest.split(" ", 1)[0]
    return ""


NETWORK = ("nfs", "cifs", "smb", "afs", "ceph", "gluster", "fuse.sshfs", "fuse.gluster", "fuse.davfs", "autofs", "ncpfs")


def network_devices() -> set[int]:
    """The device numbers of what is mounted from another machine (proc(5), mountinfo)."""
    found = set()
    with open("/proc/self/mountinfo", encoding="utf-8", errors="surrogateescape") as table:
        for line in table:
            fields, _, rest = line.partition(" - ")
            major, minor = fields.split(" ")[2].split(":")
            if rest.startswith(NETWORK):
                found.add(os.makedev(int(major), int(minor)))
    return found


@contextlib.contextmanager
def locked_file(file: Path, seconds: float) -> Iterator[None]:
    """A file is locked for writing (fcntl(2)) meanwhile; it is made if it is not there.

    Raises:
        OSError: EAGAIN, another program has had it for so many seconds.
    """
    with closing_fd(os.open(file, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)) as fd:
        deadline = time.monotonic() + seconds
        while True:
            try:
                fcntl.lockf(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except OSError:
                if time.monotonic() > deadline:
                    raise OSError(errno.EAGAIN, "another program works on it", str(file)) from None
                time.sleep(0.1)
        yield


def flushed(fd: int, flush: Callable[[int], None]) -> None:
    """Bring what is open to the disk.

    Raises:
        Unflushed: it cannot be. The system then shows what may not be on the disk, and the next flush may say that all is well (fsync(2)).
    """
    try:
        flush(fd)
    except OSError as error:
        where = host_path(fd)
        raise Unflushed(
            f"what was done cannot be brought to the disk: {error.strerror}", volume=mount_of(fd), where=where,
            remedy=remedy_for(error, "mount it anew or restart the workstation", "see what is wrong with the volume"),
        ) from None  # fmt: skip


def mount_of(fd: int) -> str:
    """What tells the mount that something open lies on from a later mount of the same volume: the boot, the mount's number, and where the
    file system has one the number of its entry in sysfs, which is new for each mount (proc(5), mountinfo).
    """
    status = os.fstat(fd)
    device = f"{os.major(status.st_dev)}:{os.minor(status.st_dev)}"
    found: list[str] = []
    with open("/proc/self/mountinfo", encoding="utf-8", errors="surrogateescape") as table:
        for line in table:
            words = line.split()
            if words[2] != device:
                continue
            kind, source = words[words.index("-") + 1 : words.index("-") + 3]
            with contextlib.suppress(OSError):
                found.append(f"{kind} {os.stat(f'/sys/fs/{kind}/{os.path.basename(source)}').st_ino}")
            found.append(words[0])
    return f"{boot_id()} {device} {' '.join(sorted(found))}"


def mount_points() -> list[str]:
    """Every mount point of this process's namespace (proc(5), mountinfo), octal escapes resolved."""
    points = []
    with open("/proc/self/mountinfo", encoding="utf-8", errors="surrogateescape") as table:
        for line in table:
            point = line.split(" ")[4]
            for code, char in (("\\040", " "), ("\\011", "\t"), ("\\012", "\n"), ("\\134", "\\")):
                point = point.replace(code, char)
            points.append(point)
    return points


def mounts_below(fd: int) -> list[str]:
    """Mount points at or below an open folder, bind mounts too."""
    here = host_path(fd)
    return [p for p in mount_points() if p == here or p.startswith(here.rstrip("/") + "/")]


def host_path(fd: int) -> str:
    """Where an open folder lies on the machine Kleff runs on."""
    return os.readlink(f"/proc/self/fd/{fd}")


def sync_folder(path: str | Path) -> None:
    """Flush a folder, so that names in it are on disk."""
    fd = os.open(path, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(fd)
    finally:
        os.close(fd)


def sync_volume(fd: int) -> None:
    """Flush the file system an open file lies on (syncfs(2)).

    Raises:
        OSError: it could not be written.
    """
    if _libc().syncfs(fd) != 0:
        code = ctypes.get_errno()
        raise OSError(code, os.strerror(code))


def write_atomic(path: Path, data: bytes, mode: int = 0o600) -> None:
    """Replace a file whole or not at all: written beside it, flushed, renamed, folder flushed."""
    beside = path.with_name(f".{path.name}.{os.getpid()}.part")
    with contextlib.suppress(FileNotFoundError):
        os.unlink(beside)  # of one that was cut off: after a restart numbers of processes come again
    fd = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, mode)
    try:
        with os.fdopen(fd, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        os.replace(beside, path)
    except BaseException:
        with contextlib.suppress(OSError):
            os.unlink(beside)
        raise
    sync_folder(path.parent)


def space_of(path: str) -> Space:
    """What is left of a volume (statvfs(3)); what is kept back for an administrator is his."""
    status = os.statvfs(path)
    root = os.geteuid() == 0
    names = (status.f_ffree if root else status.f_favail) if status.f_files else None
    return Space(os.lstat(path).st_dev, (status.f_bfree if root else status.f_bavail) * status.f_frsize, names)


def sha256_of(file: Path) -> str:
    """The SHA-256 of a regular file; no link is followed."""
    fd = os.open(file, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    with os.fdopen(fd, "rb") as source:
        return hashlib.file_digest(source, "sha256").hexdigest()


def open_regular(folder: int | None, name: str) -> int:
    """Open a regular file, in an open folder or by its path, for reading; no link is followed, and nothing that blocks is waited for.

    Raises:
        OSError: not there, not a regular file (EINVAL), not readable.
    """
    fd = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=folder)
    if not stat.S_ISREG(os.fstat(fd).st_mode):
        os.close(fd)
        raise OSError(errno.EINVAL, "not a regular file", name)
    return fd


def sha256_at(folder: int, name: str) -> str:
    """The SHA-256 of a regular file in an open folder.

    Raises:
        OSError: as `open_regular`.
    """
    sha256 = hashlib.sha256()
    with closing_fd(open_regular(folder, name)) as fd:
        while piece := os.read(fd, 1 << 18):
            sha256.update(piece)
    return sha256.hexdigest()


@contextlib.contextmanager
def closing_fd(fd: int) -> Iterator[int]:
    """Close a descriptor at the end."""
    try:
        yield fd
    finally:
        os.close(fd)


def boot_id() -> str:
    """The kernel's id of this boot (random(4)); uptime is not enough, it may be another machine's."""
    return Path("/proc/sys/kernel/random/boot_id").read_text(encoding="ascii").strip()


def look_of(result: os.stat_result) -> Look:
    """A `Look` from what `os.stat` gives."""
    return Look(
        (result.st_dev, result.st_ino),
        result.st_mode,
        result.st_size,
        result.st_uid,
        result.st_gid,
        result.st_nlink,
        (result.st_atime_ns, result.st_mtime_ns),
        result.st_blocks * 512,
    )
