"""The bin of each account: what lies in it, and where it came from.

`$Recycle.Bin\\SID\\$R......` is a thing that was thrown away; `$I......` beside it tells where it was, in two versions: 1 with a name of
260 characters, 2 (since Windows 10) with one of any length. The format is not documented; it stands on what others have published of it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from struct import unpack_from

from kleff.procedure.globs import fold
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath

BIN = "$Recycle.Bin"
TOLD, THING = "$I", "$R"  # before the same letters
FIXED = 520  # bytes of a name in the first version
MOST = 1 << 16  # bytes of what tells of one thing


@dataclass(frozen=True)
class Thrown:
    """A thing in a bin.

    Attributes:
        account: the SID of whose bin it is; was: where the thing lay before.
        thing, told: where it lies now, and the file that tells of it.
        size: bytes.
    """

    account: str
    was: str
    thing: WPath
    told: WPath
    size: int


def thrown_away(files: FileTree, account: str = "") -> Iterator[Thrown]:
    """What lies in the bins of an account, or of all, on all drives; what is damaged, or has lost its other half, is nobody's to judge.

    Raises:
        OSError: a bin of theirs, or what is told of a thing in it, cannot be looked at.
    """
    for volume in files.volumes:
        top = WPath(files.style, volume, (BIN,))
        for owner in files.names(top):
            if account and fold(owner) != fold(account):
                continue
            folder = top.child(owner)
            names = set(files.names(folder))
            for name in sorted(names):
                thing = THING + name.removeprefix(TOLD)
                if name.startswith(TOLD) and thing in names:
                    try:
                        was, size = read_told(files.read(folder.child(name), MOST))
                    except ValueError:
                        continue
                    yield Thrown(owner, was, folder.child(thing), folder.child(name), size)


def read_told(data: bytes) -> tuple[str, int]:
    """(where a thing was, how many bytes it has).

    Raises:
        ValueError: that is not told.
    """
    if len(data) < 28:
        raise ValueError("too short")
    version, size = unpack_from("<QQ", data)
    if version == 1:
        name = data[24 : 24 + FIXED]
    elif version == 2:
        (letters,) = unpack_from("<I", data, 24)
        name = data[28 : 28 + 2 * letters]
        if len(name) != 2 * letters:
            raise ValueError("too short")
    else:
        raise ValueError("of a version that is not known here")
    return name.decode("utf-16-le", "surrogatepass").partition("\0")[0], size
