"""Building a binary package: an `ar` archive of `debian-binary`, a control archive and a data archive (deb(5), ar(5)).

Both archives are plain `tar` in the GNU format, which is what dpkg reads; nothing is compressed, since such a package lives
for the length of one installation.
"""

from __future__ import annotations

import errno
import io
import stat
import tarfile
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import IO

MAGIC = b"!<arch>\n"
VERSION = b"2.0\n"
LARGEST = 10**10 - 1  # bytes of one member: ar(5) gives its size ten decimal digits


@dataclass(frozen=True)
class DebItem:
    """One path of the data archive.

    Attributes:
        path: as the package knows it, absolute.
        mode: type and permissions, as in `st_mode`.
        mtime: in whole seconds.
        link: where a symbolic link leads; of a second name of a file, the path of its first.
        content: opens the content of a regular file; None for all else and for second names.
    """

    path: str
    mode: int
    uid: int = 0
    gid: int = 0
    mtime: int = 0
    size: int = 0
    link: str = ""
    content: Callable[[], IO[bytes]] | None = None


def write_deb(file: Path, control: dict[str, bytes], items: Iterable[DebItem]) -> None:
    """Write a package to a new file.

    Args:
        control: members of the control archive by name; `control` itself among them.
        items: in the order the package manager shall list them.

    Raises:
        OSError: a content cannot be read, the file not be written, or the data is larger than the format can tell.
    """
    with file.open("xb") as out:
        out.write(MAGIC)
        _member(out, b"debian-binary", lambda: out.write(VERSION))
        _member(out, b"control.tar", lambda: _write_control(out, control))
        _member(out, b"data.tar", lambda: _write_data(out, items))


def _member(out: IO[bytes], name: bytes, write: Callable[[], object]) -> None:
    """One member: its header (60 bytes), its content, padded to an even length."""
    head = out.tell()
    out.write(bytes(60))
    write()
    size = out.tell() - head - 60
    if size > LARGEST:
        raise OSError(errno.EFBIG, f"{size} bytes do not fit into one member of a package")
    if size % 2:
        out.write(b"\n")
    end = out.tell()
    out.seek(head)
    out.write(b"%-16s%-12d%-6d%-6d%-8o%-10d`\n" % (name, 0, 0, 0, 0o100644, size))
    out.seek(end)


def _write_control(out: IO[bytes], control: dict[str, bytes]) -> None:
    scripts = ("preinst", "postinst", "prerm", "postrm", "config")
    with tarfile.open(fileobj=out, mode="w", format=tarfile.GNU_FORMAT) as tar:
        tar.addfile(_info("/", stat.S_IFDIR | 0o755))
        for name, data in sorted(control.items()):
            info = _info(f"/{name}", stat.S_IFREG | (0o755 if name in scripts else 0o644))
            info.size, info.mtime = len(data), int(time.time())
            tar.addfile(info, io.BytesIO(data))


def _write_data(out: IO[bytes], items: Iterable[DebItem]) -> None:
    with tarfile.open(fileobj=out, mode="w", format=tarfile.GNU_FORMAT, errors="surrogateescape") as tar:
        for item in items:
            info = _info(item.path, item.mode, item)
            if item.content is None:
                tar.addfile(info)
            else:
                with item.content() as source:
                    tar.addfile(info, source)


def _info(path: str, mode: int, item: DebItem | None = None) -> tarfile.TarInfo:
    info = tarfile.TarInfo("." + (path if path != "/." else "/"))
    info.mode = stat.S_IMODE(mode)
    info.type = tarfile.DIRTYPE if stat.S_ISDIR(mode) else tarfile.SYMTYPE if stat.S_ISLNK(mode) else tarfile.REGTYPE
    if item is not None:
        info.uid, info.gid, info.mtime, info.linkname = item.uid, item.gid, item.mtime, item.link
        if item.link and stat.S_ISREG(mode):
            info.type, info.linkname = tarfile.LNKTYPE, "." + item.link
        info.size = item.size if item.content is not None else 0
    return info
