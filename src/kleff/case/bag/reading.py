"""Reading what lies in a bag: regular files alone, each opened once and looked at, and no more of it than a bag of Kleff's can have."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from pathlib import Path
from threading import Event
from typing import IO

from kleff.errors import DamagedCase, remedy_for
from kleff.texts import plain
from kleff.texts import size as sized
from kleff.workstation.files.protocol import Folder
from kleff.workstation.this_machine import host

RELY = "do not rely on this bag; nothing may be removed on its strength"
DEPTH = 8  # folders within each other; Kleff makes three
# Bytes of what is taken into memory whole: an index of some two million files.
MOST = 1 << 30
MOST_OF_A_TAG = 1 << 20  # bagit.txt and the like
MOST_OF_A_MANIFEST = 1 << 26  # more than half a million files
PIECE = 1 << 20


def sizes_of(folder: Path) -> dict[str, int]:
    """The size in bytes of each file of a bag, by its name below the bag. Nothing is opened but folders.

    Raises:
        DamagedCase: something in it is neither a file nor a folder, or it cannot be looked at.
    """
    found: dict[str, int] = {}
    try:
        with host().folder(folder) as opened:
            _look_into(opened, "", found, folder)
    except OSError as error:
        raise unreadable(folder, error) from None
    return found


def unreadable(file: Path, error: OSError) -> DamagedCase:
    """Something of a bag that cannot be read, with what to do by the cause."""
    return DamagedCase(f"cannot be read: {error.strerror}", where=str(file), remedy=f"{remedy_for(error, 'try again')}; until then {RELY}")


def _look_into(opened: Folder, above: str, found: dict[str, int], bag: Path) -> None:
    for name in opened.names():
        look = opened.look_at(name)
        if look.is_file:
            found[above + name] = look.size
        elif look.is_folder and above.count("/") < DEPTH:
            with opened.folder(name) as below:
                _look_into(below, f"{above}{name}/", found, bag)
        else:
            what = "folders within too many others" if look.is_folder else "neither a file nor a folder"
            raise DamagedCase(f"holds what no bag holds: {plain(above + name)} is {what}", where=str(bag), remedy=RELY)


def read_whole(file: Path, most: int = MOST) -> bytes:
    """A file of a bag, taken into memory.

    Raises:
        DamagedCase: it is too large, not a regular file, or cannot be read.
    """
    try:
        with host().reading(file) as source:
            pieces = list(_pieces(source, most))
    except OSError as error:
        raise unreadable(file, error) from None
    data = b"".join(pieces)
    if len(data) > most:
        raise DamagedCase(f"is larger than {sized(most)}", where=str(file), remedy=RELY)
    return data


def _pieces(source: IO[bytes], most: int) -> Iterator[bytes]:
    """What is in a file, and of one that is larger than that no more than shows it."""
    total = 0
    while total <= most and (data := source.read(PIECE)):
        total += len(data)
        yield data


def read_as_listed(file: Path, sha256: str) -> bytes:
    """The same, as its checksum says.

    Raises:
        DamagedCase: it cannot be read, or has changed.
    """
    data = read_whole(file)
    if hashlib.sha256(data).hexdigest() != sha256:
        raise DamagedCase("has changed since it was written", where=str(file), remedy=RELY)
    return data


def digest(source: IO[bytes], stop: Event | None = None) -> str:
    """The SHA-256 of an open file, from its first byte on; it stands at the first byte again.

    Args:
        stop: set when nobody wants to know any more.
    """
    sha256 = hashlib.sha256()
    while data := source.read(PIECE):
        if stop is not None and stop.is_set():
            break
        sha256.update(data)
    source.seek(0)
    return sha256.hexdigest()
