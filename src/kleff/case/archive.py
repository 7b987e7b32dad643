"""Archives of a bag: `tar` (POSIX.1-2001 pax) in zstd (RFC 8878), each with one index that says what every member was.

A file is read once: hashed while it is packed. No link is followed. Member names are our own ASCII.
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import io
import os
import stat
import tarfile
from base64 import b64encode
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any
from urllib.parse import quote_from_bytes

import msgspec

from kleff.errors import ActionFailed, DamagedCase
from kleff.progress import Progress
from kleff.texts import plain
from kleff.workstation.common.files import FileTree
from kleff.workstation.common.posix import closing_fd
from kleff.workstation.facets import Account
from kleff.workstation.paths import Look, WPath, look_of

LEVEL = 3
NO_ROOM = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)


class Member(msgspec.Struct, kw_only=True, omit_defaults=True):
    """One saved thing.

    Attributes:
        member: its name in the archive; "" for what cannot be packed (sockets, devices), which is only listed.
        path: where it was, for people; path_b64: the exact bytes.
        variable, base: the variable the step hung it on and what that stood for; relative_b64: the rest.
        mtime: in ns.
    """

    member: str
    path: str
    path_b64: str
    type: str
    label: str = ""
    account: str = ""
    account_id: str = ""
    variable: str = ""
    base: str = ""
    relative_b64: str = ""
    mode: int = 0
    uid: int = 0
    gid: int = 0
    mtime: int = 0
    size: int = 0
    sha256: str = ""
    link: str = ""


class Index(msgspec.Struct, kw_only=True):
    """The index of one archive."""

    format: int = 1
    archive: str
    members: list[Member]


@dataclass(frozen=True)
class Wanted:
    """A path to be saved with all below it, and what it hangs on."""

    path: WPath
    account: Account | None = None
    variable: str = ""
    base: WPath | None = None


class _Hashing(io.RawIOBase):
    """Reads a file and hashes it in passing; gives exactly `size` bytes or fails."""

    def __init__(self, fd: int, path: WPath, size: int, progress: Progress) -> None:
        self._fd = fd
        self._path = path
        self._left = size
        self._progress = progress
        self.sha256 = hashlib.sha256()

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        data = os.read(self._fd, self._left if size < 0 else min(size, self._left))
        if not data and self._left:
            raise ActionFailed(f"{self._path} became shorter while it was saved", remedy="close what writes to it, then resume")
        self._left -= len(data)
        self.sha256.update(data)
        self._progress.step(size=len(data))
        return data


class ArchiveWriter:
    """Writes one archive.

    Args:
        out: where to; flushed by the caller.
        admin: apply the rule for administrators on files with several hard links.
    """

    def __init__(self, out: IO[bytes], files: FileTree, label: str, admin: bool, progress: Progress) -> None:
        import zstandard

        self._files = files
        self._label = label
        self._admin = admin
        self._progress = progress
        self._stream = zstandard.ZstdCompressor(level=LEVEL, write_checksum=True).stream_writer(out, closefd=False)
        self._tar = tarfile.TarFile.open(fileobj=self._stream, mode="w|", format=tarfile.PAX_FORMAT)
        self._linked: dict[tuple[int, int], Member] = {}
        self.members: list[Member] = []

    def add(self, wanted: Wanted) -> None:
        """Save a path with all below it.

        Raises:
            ActionFailed: something in it cannot be read whole; named.
        """
        for path, look in self._files.walk(wanted.path):
            try:
                self._add(path, look, wanted)
            except OSError as error:
                if error.errno in NO_ROOM:
                    raise
                raise ActionFailed(
                    f"{path} cannot be saved: {error.strerror}", remedy="check the rights and what uses it; then resume"
                ) from None

    def close(self) -> None:
        self._tar.close()
        self._stream.close()  # type: ignore[no-untyped-call]

    def _add(self, path: WPath, look: Look, wanted: Wanted) -> None:
        member = self._member(path, look, wanted)
        if look.is_folder:
            self._tar.addfile(self._info(member, tarfile.DIRTYPE, self._attributes(path)))
        elif look.is_link:
            member.link = plain(self._files.read_link(path))
            info = self._info(member, tarfile.SYMTYPE, {})
            info.linkname = os.fsencode(self._files.read_link(path)).decode("utf-8", "surrogateescape")
            self._tar.addfile(info)
        elif look.is_file:
            self._add_file(member, path, look, wanted)
        else:
            member.member, member.type = "", "special"
        self.members.append(member)

    def _add_file(self, member: Member, path: WPath, look: Look, wanted: Wanted) -> None:
        owner = wanted.account.uid if wanted.account else None
        if look.links > 1:
            if self._admin and look.uid not in (0, os.geteuid(), owner):
                raise ActionFailed(f"{path} is another account's file under a second name; not read", remedy="look at it by hand")
            first = self._linked.get(look.identity)
            if first is not None:
                member.type, member.link, member.sha256 = "hard link", first.member, first.sha256
                info = self._info(member, tarfile.LNKTYPE, {})
                info.linkname = first.member
                self._tar.addfile(info)
                return
            self._linked[look.identity] = member
        with self._files.parent(path) as (parent, name):
            flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
            with closing_fd(os.open(name, flags, dir_fd=parent)) as fd:
                now = look_of(os.fstat(fd))
                if now.identity != look.identity or not now.is_file:
                    raise ActionFailed(f"{path} was replaced while it was saved", remedy="close what writes to it, then resume")
                member.size = now.size
                info = self._info(member, tarfile.REGTYPE, _extended(fd))
                info.size = now.size
                reader = _Hashing(fd, path, now.size, self._progress)
                self._tar.addfile(info, reader)
                member.sha256 = reader.sha256.hexdigest()
                after = look_of(os.fstat(fd))
                if (after.size, after.times[1]) != (now.size, now.times[1]):
                    raise ActionFailed(f"{path} changed while it was saved", remedy="close what writes to it, then resume")
        self._progress.step(items=1)

    def _member(self, path: WPath, look: Look, wanted: Wanted) -> Member:
        base = wanted.base
        relative = path.parts[len(base.parts) :] if base and base.holds(path) else path.parts
        return Member(
            member=self._name(path, wanted, relative),
            path=plain(str(path)),
            path_b64=path.b64,
            type=look.word,
            label=self._label,
            account=wanted.account.name if wanted.account else "",
            account_id=wanted.account.id if wanted.account else "",
            variable=wanted.variable,
            base=plain(str(base)) if base else "",
            relative_b64=b64encode(b"\0".join(os.fsencode(p) for p in relative)).decode(),
            mode=stat.S_IMODE(look.mode),
            uid=look.uid,
            gid=look.gid,
            mtime=look.times[1],
        )

    def _name(self, path: WPath, wanted: Wanted, relative: tuple[str, ...]) -> str:
        head = [wanted.account.name] if wanted.account else []
        head += [wanted.variable.replace("user.", "")] if wanted.variable else [path.volume.rstrip(":")] if path.volume else ["root"]
        return "/".join(quote_from_bytes(os.fsencode(p), safe=" !#$&'()+,-.;=@[]^_`{}~") for p in (*head, *relative))

    def _info(self, member: Member, kind: bytes, headers: dict[str, str]) -> tarfile.TarInfo:
        info = tarfile.TarInfo(member.member)
        info.type = kind
        info.mode, info.uid, info.gid = member.mode, member.uid, member.gid
        info.mtime = member.mtime // 10**9
        info.pax_headers = {"mtime": f"{member.mtime // 10**9}.{member.mtime % 10**9:09d}", **headers}
        return info

    def _attributes(self, path: WPath) -> dict[str, str]:
        with self._files.folder(path) as fd:
            return _extended(fd)


def _extended(fd: int) -> dict[str, str]:
    """Extended attributes as pax headers, under the name other tar programs use for them."""
    headers = {}
    with contextlib.suppress(OSError):
        for name in os.listxattr(fd):
            headers[f"SCHILY.xattr.{name}"] = os.getxattr(fd, name).decode("utf-8", "surrogateescape")
    return headers


def write_archive(file: Path, wanted: Iterable[Wanted], files: FileTree, label: str, admin: bool, progress: Progress) -> list[Member]:
    """Write an archive to a new file and flush it; a failed one is taken away again.

    Raises:
        ActionFailed: something cannot be saved, or the disk is full.
    """
    fd = os.open(file, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
    try:
        with os.fdopen(fd, "wb") as out:
            writer = ArchiveWriter(out, files, label, admin, progress)
            for one in wanted:
                writer.add(one)
            writer.close()
            out.flush()
            os.fsync(out.fileno())
    except BaseException as error:
        file.unlink(missing_ok=True)
        if isinstance(error, OSError):
            raise ActionFailed(
                f"the archive cannot be written: {error.strerror}", remedy="make room, or name another folder with --cases"
            ) from None
        raise
    return writer.members


def check_archive(file: Path, index: Index, progress: Progress) -> None:
    """Read an archive back and compare every member with the index.

    Raises:
        DamagedCase: any difference.
    """
    import zstandard

    remedy = "save again; nothing was removed"
    expected: dict[str, Member] = {m.member: m for m in index.members if m.member}
    seen: dict[str, Any] = {}
    try:
        with file.open("rb") as raw, zstandard.ZstdDecompressor().stream_reader(raw) as stream:
            with tarfile.open(fileobj=stream, mode="r|") as tar:
                for info in tar:
                    seen[info.name] = _digest(tar, info, progress)
            while stream.read(1 << 16):
                pass
    except (tarfile.TarError, zstandard.ZstdError, OSError, EOFError) as error:
        raise DamagedCase(f"the archive cannot be read back: {error}", where=str(file), remedy=remedy) from None
    for name, member in expected.items():
        if name not in seen:
            raise DamagedCase(f"{name} is missing in the archive", where=str(file), remedy=remedy)
        if member.type == "file" and seen[name] != member.sha256:
            raise DamagedCase(f"{name} in the archive is not what was saved", where=str(file), remedy=remedy)
    if len(seen) != len(expected):
        raise DamagedCase("the archive holds more than its index", where=str(file), remedy=remedy)


def _digest(tar: tarfile.TarFile, info: tarfile.TarInfo, progress: Progress) -> str:
    source = tar.extractfile(info) if info.isreg() else None
    if source is None:
        return ""
    sha256 = hashlib.sha256()
    while data := source.read(1 << 18):
        sha256.update(data)
        progress.step(size=len(data))
    return sha256.hexdigest()
