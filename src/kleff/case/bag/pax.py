"""Reading and writing the blocks of a `tar` archive in pax form (POSIX.1-2001, "pax Interchange Format").

Only what a bag's archives have: files, folders, symbolic and hard links, each with an extended header. The reader takes
nothing else: an archive may come from anywhere.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

BLOCK = 512
END = bytes(2 * BLOCK)
RECORD = 20 * BLOCK  # an archive is a whole number of these
FILE, HARD_LINK, LINK, FOLDER, EXTENDED = b"0", b"1", b"2", b"5", b"x"
KNOWN = (FILE, HARD_LINK, LINK, FOLDER)
FIELDS = struct.Struct("100s8s8s8s12s12s8s1s100s6s2s32s32s8s8s155s12x")
MOST = 1 << 20  # bytes of an extended header; extended attributes are smaller than that
PIECE = 1 << 18

Read = Callable[[int], bytes]


class BadArchive(Exception):
    """Not an archive as Kleff writes them."""


@dataclass
class Header:
    """What an archive says of one member; `size` in bytes, `mtime` in ns, names and links as raw bytes."""

    name: bytes
    kind: bytes
    size: int = 0
    mode: int = 0
    uid: int = 0
    gid: int = 0
    mtime: int = 0
    link: bytes = b""
    owner: bytes = b""
    extended: dict[bytes, bytes] = field(default_factory=dict)


def pack(header: Header) -> bytes:
    """The blocks that go before a member's content."""
    extended = {b"mtime": b"%d.%09d" % (header.mtime // 10**9, header.mtime % 10**9), **header.extended}
    if header.mtime < 0:
        extended[b"mtime"] = b"-%d.%09d" % (-header.mtime // 10**9, -header.mtime % 10**9)
    for key, value, most in ((b"path", header.name, 100), (b"linkpath", header.link, 100), (b"uname", header.owner, 31)):
        if len(value) > most:
            extended[key] = value
    for key, number, most in ((b"size", header.size, 8**11), (b"uid", header.uid, 8**7), (b"gid", header.gid, 8**7)):
        if number >= most:
            extended[key] = b"%d" % number
    if any(not _is_text(v) for v in extended.values()):
        extended = {b"hdrcharset": b"BINARY", **extended}
    records = b"".join(_record(key, value) for key, value in extended.items())
    first = _block(Header(header.name[:80] + b".pax", EXTENDED, len(records), 0o600))
    return first + records + fill(len(records)) + _block(header)


def _is_text(value: bytes) -> bool:
    try:
        value.decode()
    except UnicodeDecodeError:
        return False
    return True


def _record(key: bytes, value: bytes) -> bytes:
    """`LENGTH KEY=VALUE` and a newline, the length counting itself."""
    rest = len(key) + len(value) + 3
    length = rest + len(str(rest))
    if len(str(length)) > len(str(rest)):
        length += 1
    return b"%d %b=%b\n" % (length, key, value)


def _block(header: Header) -> bytes:
    seconds = max(header.mtime // 10**9, 0)
    fields = (
        header.name[:100], _octal(header.mode, 8), _octal(header.uid, 8), _octal(header.gid, 8), _octal(header.size, 12),
        _octal(seconds, 12), b" " * 8, header.kind, header.link[:100], b"ustar\0", b"00", header.owner[:31], b"", b"", b"", b"",
    )  # fmt: skip
    block = FIELDS.pack(*fields)
    return block[:148] + b"%06o\0 " % sum(block) + block[156:]


def _octal(number: int, width: int) -> bytes:
    text = b"%0*o\0" % (width - 1, number)
    return text if len(text) == width else b"7" * (width - 1) + b"\0"  # the extended header says it


def fill(size: int) -> bytes:
    """What fills the last block of so many bytes."""
    return bytes(-size % BLOCK)


class Reader:
    """Reads an archive from front to back.

    Args:
        read: gives up to so many bytes, nothing at the end.
    """

    def __init__(self, read: Read) -> None:
        self._read = read
        self._left = 0  # of the content of the member in hand, and of what fills its last block
        self._pad = 0

    def headers(self) -> Iterator[Header]:
        """Each member in order; its content is read with `content` before the next is asked for, or passed over.

        Raises:
            BadArchive.
        """
        while True:
            self._pass_over()
            header = self._next()
            if header is None:
                return
            self._left = header.size if header.kind == FILE else 0
            self._pad = -self._left % BLOCK
            yield header

    def content(self) -> Iterator[bytes]:
        """The content of the member in hand, in pieces."""
        while self._left:
            piece = self._read(min(self._left, PIECE))
            if not piece:
                raise BadArchive("it ends in the middle of a file")
            self._left -= len(piece)
            yield piece

    def _pass_over(self) -> None:
        for _ in self.content():
            pass
        self._exactly(self._pad)
        self._pad = 0

    def _next(self) -> Header | None:
        block = self._exactly(BLOCK)
        if block == bytes(BLOCK):
            rest = self._read(RECORD + 1)
            if len(rest) > RECORD or rest.strip(b"\0") or self._read(1):
                raise BadArchive("there is something behind its end")
            return None
        extended: dict[bytes, bytes] = {}
        header = _unpack(block)
        if header.kind == EXTENDED:
            if header.size > MOST:
                raise BadArchive("an extended header is too large")
            extended = _records(self._exactly(header.size))
            self._exactly(-header.size % BLOCK)
            header = _unpack(self._exactly(BLOCK))
        if header.kind not in KNOWN:
            raise BadArchive(f"it holds a member of the kind {header.kind!r}")
        return _extend(header, extended)

    def _exactly(self, size: int) -> bytes:
        data = b""
        while len(data) < size:
            piece = self._read(size - len(data))
            if not piece:
                raise BadArchive("it ends too early")
            data += piece
        return data


def _unpack(block: bytes) -> Header:
    fields = FIELDS.unpack(block)
    if fields[9][:5] != b"ustar":
        raise BadArchive("it is no archive of this kind")
    numbers = [_number(fields[n]) for n in (1, 2, 3, 4, 5, 6)]
    if sum(block[:148]) + sum(block[156:]) + 8 * 32 != numbers[5]:
        raise BadArchive("a header does not match its checksum")
    mode, uid, gid, size, seconds, _ = numbers
    name, link, owner = (fields[n].rstrip(b"\0") for n in (0, 8, 11))
    return Header(name, fields[7], size, mode, uid, gid, seconds * 10**9, link, owner)


def _number(text: bytes) -> int:
    digits = text.strip(b"\0 ")
    try:
        return int(digits, 8) if digits else 0
    except ValueError:
        raise BadArchive("a header holds something else than a number") from None


def _records(data: bytes) -> dict[bytes, bytes]:
    found, at = {}, 0
    try:
        while at < len(data):
            space = data.index(b" ", at, at + 8)
            length = int(data[at:space])
            record = data[at : at + length]
            key, equals, value = record[space - at + 1 : -1].partition(b"=")
            if not equals or record[-1:] != b"\n" or length < 5:
                raise ValueError
            found[key] = value
            at += length
    except ValueError:
        raise BadArchive("an extended header is damaged") from None
    return found


def _extend(header: Header, extended: dict[bytes, bytes]) -> Header:
    try:
        header.name = extended.pop(b"path", header.name)
        header.link = extended.pop(b"linkpath", header.link)
        header.owner = extended.pop(b"uname", header.owner)
        header.size = int(extended.pop(b"size", b"%d" % header.size))
        header.uid = int(extended.pop(b"uid", b"%d" % header.uid))
        header.gid = int(extended.pop(b"gid", b"%d" % header.gid))
        if b"mtime" in extended:
            text = extended.pop(b"mtime")
            whole, _, part = text.lstrip(b"-").partition(b".")
            header.mtime = (int(whole) * 10**9 + int(part.ljust(9, b"0")[:9])) * (-1 if text.startswith(b"-") else 1)
    except ValueError:
        raise BadArchive("an extended header is damaged") from None
    if header.size < 0:
        raise BadArchive("a size is below zero")
    extended.pop(b"hdrcharset", None)
    header.extended = extended
    return header
