"""Archives of a bag: `tar` (POSIX.1-2001 pax) in zstd (RFC 8878), each with one index that says what every member was.

A file is read once: hashed while it is packed. No link is followed. Member names are our own ASCII.
"""

from __future__ import annotations

import contextlib
import errno
import io
import os
import stat
from base64 import b64encode
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path
from typing import IO
from urllib.parse import quote_from_bytes

from kleff.case.aside.area import names_aside
from kleff.case.bag import pax
from kleff.case.bag.encryption import BagKey, Unsealable
from kleff.case.bag.hashing import Hasher, hashing
from kleff.case.bag.index import Member
from kleff.case.bag.reading import unreadable
from kleff.errors import ActionFailed, DamagedCase, remedy_for
from kleff.progress import Progress
from kleff.texts import plain
from kleff.workstation.files.last_folder import LastFolder
from kleff.workstation.files.protocol import File, FileTree
from kleff.workstation.paths import Look, WPath
from kleff.workstation.things import Account
from kleff.workstation.this_machine import host

LEVEL = 3
WINDOW = 1 << 25  # bytes that unpacking may keep in memory; packing at this level needs 2 MiB
# What goes wrong where the archive is written, not where a file is read; EPIPE: what encrypts it has ended.
NO_ROOM = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG, errno.EPIPE)
PIECE = 1 << 19
TAR_TYPES = {"folder": pax.FOLDER, "file": pax.FILE, "link": pax.LINK, "hard link": pax.HARD_LINK}
AGAIN = "close what writes to it, then resume"


@dataclass(frozen=True)
class MemberSource:
    """A path to be saved with all below it, and what it hangs on; `leave_out` says what of it is not saved."""

    path: WPath
    account: Account | None = None
    variable: str = ""
    base: WPath | None = None
    leave_out: Callable[[WPath, Look], bool] = lambda path, look: False


class ArchiveWriter:
    """Writes one archive.

    Args:
        out: where to; flushed by the caller.
        admin: apply the rule for administrators on files with several hard links.
        owners: names of uids.
    """

    def __init__(self, out: IO[bytes], files: FileTree, admin: bool, progress: Progress, owners: dict[int, str], hasher: Hasher) -> None:
        import zstandard

        self._files = files
        self._aside: dict[tuple[str, tuple[str, ...]], Counter[tuple[int, int]]] = {}
        self._admin, self._owners = admin, owners
        self._progress, self._hasher = progress, hasher
        self._stream = zstandard.ZstdCompressor(level=LEVEL, write_checksum=True, threads=1).stream_writer(out, closefd=False)
        self._written = 0
        self._linked: dict[tuple[int, int], Member] = {}
        self._digests: list[tuple[Member, Future[str]]] = []
        self._folders = LastFolder(files)
        self.members: list[Member] = []

    def add(self, wanted: MemberSource) -> None:
        """Save a path with all below it. Raises ActionFailed: something in it cannot be read whole; named."""
        for path, look in self._files.walk(wanted.path, lambda path, look: not wanted.leave_out(path, look)):
            if wanted.leave_out(path, look):
                continue
            try:
                self._add(path, look, wanted)
            except OSError as error:
                if error.errno in NO_ROOM:
                    raise
                raise ActionFailed(f"{path} cannot be saved: {error.strerror}", remedy=remedy_for(error)) from None

    def close(self) -> None:
        self._write(pax.END)
        self._write(bytes(-self._written % pax.RECORD))
        self._stream.close()  # type: ignore[no-untyped-call]
        self._folders.close()
        for member, digest in self._digests:
            member.sha256 = digest.result()
        firsts = {m.member: m for m in self.members}
        for member in self.members:
            if member.type == "hard link":
                member.sha256 = firsts[member.link].sha256

    def _write(self, data: bytes) -> None:
        self._stream.write(data)
        self._written += len(data)

    def _add(self, path: WPath, look: Look, wanted: MemberSource) -> None:
        member = self._member(path, look, wanted)
        if look.is_folder:
            self._put(member, self._folders.at(path).attributes())
        elif look.is_link:
            target = os.fsencode(self._files.read_link(path))
            member.link = b64encode(target).decode()
            self._put(member, link=target)
        elif look.is_file:
            self._add_file(member, path, look, wanted)
        else:
            member.member, member.type = "", "special"
        self.members.append(member)

    def _put(self, member: Member, attributes: dict[str, bytes] | None = None, link: bytes = b"") -> None:
        member.attributes = {name: b64encode(value).decode() for name, value in (attributes or {}).items()}
        header = pax.Header(
            member.member.encode("ascii"), TAR_TYPES[member.type], member.size if member.type == "file" else 0, member.mode, member.uid,
            member.gid, member.mtime, link, member.owner.encode("utf-8", "replace"),
            # Under the name other tar programs use for them.
            {b"SCHILY.xattr." + os.fsencode(name): value for name, value in (attributes or {}).items()},
        )  # fmt: skip
        self._write(pax.pack(header))

    def _names_aside(self, path: WPath) -> Counter[tuple[int, int]]:
        top = self._files.mount_root(path).key
        if top not in self._aside:
            self._aside[top] = names_aside(self._files, path)
        return self._aside[top]

    def _add_file(self, member: Member, path: WPath, look: Look, wanted: MemberSource) -> None:
        owner = wanted.account.uid if wanted.account else None
        if look.links > 1:
            others = self._admin and look.uid not in (0, host().account(), owner)
            if others and look.links - self._names_aside(path)[look.identity] > 1:
                raise ActionFailed(f"{path} is another account's file under a second name; not read", remedy="look at it by hand")
            first = self._linked.get(look.identity)
            if first is not None:
                member.type, member.link = "hard link", first.member
                self._put(member, link=first.member.encode("ascii"))
                return
            self._linked[look.identity] = member
        with self._folders.at(path.parent).file(path.name) as file:
            now = file.look()
            if now.identity != look.identity or not now.is_file:
                raise ActionFailed(f"{path} was replaced while it was saved", remedy=AGAIN)
            member.size, member.sparse = now.size, now.room < now.size
            self._put(member, file.attributes())
            self._content(file, path, now.size)
            self._digests.append((member, self._hasher.finish()))
            after = file.look()
            if (after.size, after.times[1]) != (now.size, now.times[1]):
                raise ActionFailed(f"{path} changed while it was saved", remedy=AGAIN)
        self._progress.step(items=1)

    def _content(self, file: File, path: WPath, size: int) -> None:
        left = size
        while left:
            data = file.read(min(PIECE, left))
            if not data:
                raise ActionFailed(f"{path} became shorter while it was saved", remedy=AGAIN)
            left -= len(data)
            self._hasher.update(data)
            self._write(data)
            self._progress.step(size=len(data))
        self._write(pax.fill(size))

    def _member(self, path: WPath, look: Look, wanted: MemberSource) -> Member:
        base = wanted.base
        relative = path.parts[len(base.parts) :] if base and base.holds(path) else path.parts
        return Member(
            member=self._name(path, wanted, relative),
            path=plain(str(path)),
            path_b64=path.b64,
            type="folder" if look.is_folder else "link" if look.is_link else "file",
            relative_b64=b64encode(b"\0".join(os.fsencode(p) for p in relative)).decode(),
            mode=stat.S_IMODE(look.mode),
            uid=look.uid,
            gid=look.gid,
            owner=self._owners.get(look.uid, ""),
            mtime=look.times[1],
        )

    def _name(self, path: WPath, wanted: MemberSource, relative: tuple[str, ...]) -> str:
        header = [wanted.account.name] if wanted.account else []
        header += [wanted.variable.replace("user.", "")] if wanted.variable else [path.volume.rstrip(":")] if path.volume else ["root"]
        return "/".join(quote_from_bytes(os.fsencode(p), safe=" !#$&'()+,-.;=@[]^_`{}~") for p in (*header, *relative))


def write_archive(
    file: Path,
    wanted: Iterable[MemberSource],
    files: FileTree,
    admin: bool,
    progress: Progress,
    owners: dict[int, str] | None = None,
    key: BagKey | None = None,
) -> list[Member]:
    """Write an archive to a new file and flush it; a failed one is taken away again.

    Raises:
        ActionFailed: something cannot be saved, or the disk is full.
    """
    out = host().open_new(file)
    try:
        with out, hashing() as hasher:
            with key.sealing(out) if key else contextlib.nullcontext(out) as stream:
                writer = ArchiveWriter(stream, files, admin, progress, owners or {}, hasher)
                for one in wanted:
                    writer.add(one)
                writer.close()
            host().flush_file(out)
    except BaseException as error:
        file.unlink(missing_ok=True)
        if isinstance(error, OSError):
            raise ActionFailed(
                f"the archive cannot be written: {error.strerror}", remedy="make room, or name another folder with --cases"
            ) from None
        raise
    return writer.members


@dataclass
class Opened:
    """An archive that is read: its members in order, and what hashes what is read from the disk."""

    reader: pax.Reader
    hashers: tuple[Hasher, Hasher]
    whole: Hasher
    _files: int = 0

    @property
    def hasher(self) -> Hasher:
        """For the file in hand."""
        return self.hashers[self._files % 2]

    def end_file(self) -> Future[str]:
        """The digest of the file in hand; the next one is hashed beside it."""
        digest = self.hasher.finish()
        self._files += 1
        return digest

    def finish(self) -> str:
        """The SHA-256 of the archive itself, once all of it has been read."""
        return self.whole.finish().result()


@contextlib.contextmanager
def reading_archive(file: Path, remedy: str, whole: bool = True, key: BagKey | None = None) -> Iterator[Opened]:
    """Open an archive for reading from front to back.

    Args:
        whole: also hash the archive itself.

    Raises:
        DamagedCase: it cannot be read, also while it is read within.
    """
    import zstandard

    try:
        with _opened(file) as raw, hashing() as one, hashing() as other, hashing() as itself, ExitStack() as stack:
            noted = _Noting(raw, itself) if whole else raw
            source = stack.enter_context(key.unsealing(noted)) if key else noted  # type: ignore[arg-type]
            raw_stream = zstandard.ZstdDecompressor(max_window_size=WINDOW).stream_reader(source, read_size=PIECE)  # type: ignore[arg-type]
            stream = io.BufferedReader(raw_stream, PIECE)

            def read(size: int) -> bytes:
                try:
                    return stream.read(size)
                except OSError as error:
                    raise unreadable(file, error) from None
                except (zstandard.ZstdError, EOFError) as error:
                    raise pax.BadArchive(str(error)) from None

            yield Opened(pax.Reader(read), (one, other), itself)
    except (pax.BadArchive, Unsealable) as error:
        raise DamagedCase(f"the archive cannot be read back: {error}", where=str(file), remedy=remedy) from None


def _opened(file: Path) -> IO[bytes]:
    try:
        return host().reading(file)
    except OSError as error:
        raise unreadable(file, error) from None


class _Noting:
    """Hands on what is read from a file, and hashes it."""

    def __init__(self, raw: IO[bytes], whole: Hasher) -> None:
        self._raw = raw
        self._whole = whole

    def read(self, size: int = -1) -> bytes:
        data = self._raw.read(size)
        self._whole.update(data)
        return data


def check_archive(file: Path, members: list[Member], progress: Progress, key: BagKey | None = None) -> str:
    """Read an archive back and compare every member with the index. Returns the SHA-256 of the archive itself.

    Raises:
        DamagedCase: any difference.
    """
    remedy = "save again; nothing was removed"
    expected = iter([m for m in members if m.member])
    digests: list[tuple[Member, Future[str]]] = []
    with reading_archive(file, remedy, key=key) as opened:
        for header in opened.reader.headers():
            member = next(expected, None)
            wrong = differs(header, member) if member else "the archive holds more than its index"
            if wrong:
                raise DamagedCase(wrong, where=str(file), remedy=remedy)
            for piece in opened.reader.content():
                opened.hasher.update(piece)
                progress.step(size=len(piece))
            if member and member.type == "file":
                digests.append((member, opened.end_file()))
        left = next(expected, None)
        if left is not None:
            raise DamagedCase(f"{plain(left.member)} is missing in the archive", where=str(file), remedy=remedy)
        for member, digest in digests:
            if digest.result() != member.sha256:
                raise DamagedCase(f"{plain(member.member)} in the archive is not what was saved", where=str(file), remedy=remedy)
        return opened.finish()


def differs(header: pax.Header, member: Member) -> str:
    """What an archive says otherwise than its index of one member; "" if nothing."""
    name = _shown(header.name)
    if header.name != member.member.encode("utf-8", "surrogateescape"):
        return f"{plain(member.member)} is missing in the archive, or not in its place"
    if TAR_TYPES.get(member.type) != header.kind or (member.type == "file" and header.size != member.size):
        return f"{name} is of another kind or size in the archive than in its index"
    return ""


def _shown(name: bytes) -> str:
    return plain(name.decode("utf-8", "surrogateescape"))
