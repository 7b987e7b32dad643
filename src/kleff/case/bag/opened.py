"""A finished bag, opened for reading: verified whole before anything of it is believed.

SHA-256 manifests find damage, not forgery: a bag that was made elsewhere is hostile input, whatever its checksums say.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO

import msgspec

from kleff.case.bag.archive import check_archive
from kleff.case.bag.encryption import ENDING, KEY_FILE, BagKey, Passing
from kleff.case.bag.index import FORMAT, SavedItem
from kleff.case.bag.manifests import comparing, info_of, some
from kleff.case.bag.members import check_members
from kleff.case.bag.reading import RELY, digest, read_as_listed, unreadable
from kleff.case.record.exports import unpack
from kleff.errors import DamagedCase, Refused
from kleff.progress import Progress, Silent
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef
from kleff.texts import plain
from kleff.workstation.this_machine import host

INDEX = ".index.json"
Unlock = Callable[[Path], BagKey]


@dataclass
class SavedBag:
    """A bag that was verified.

    Attributes:
        info: `bag-info.txt`.
        items: what each action saved, by the stem of its files.
        sums: SHA-256 of every payload file, by its name below the bag.
        original: where the bag is that this is a copy of.
    """

    folder: Path
    info: dict[str, str] = field(default_factory=dict)
    items: dict[str, SavedItem] = field(default_factory=dict)
    sums: dict[str, str] = field(default_factory=dict)
    key: BagKey | None = None
    original: Path | None = None

    def payload(self, name: str) -> Path:
        return self.folder / "data" / name

    @contextlib.contextmanager
    def feeding(self, name: str, at: Path) -> Iterator[tuple[Path, IO[bytes] | None]]:
        """A payload file for a program to read, as it was verified: its path, and the very file that was compared with its checksum.
        With a key only a path: that of a pipe, made at `at`.

        Raises:
            DamagedCase: it is not what it was when the bag was verified.
        """
        payload = self.payload(name)
        try:
            source = host().reading(payload)
        except OSError as error:
            raise unreadable(payload, error) from None
        with source:
            if digest(source) != self.sums[f"data/{name}"]:
                raise DamagedCase("has changed since it was verified", where=str(payload), remedy=RELY)
            if self.key is None:
                yield payload, source
                return
            passing = Passing(at)
            with passing.out_of(source, self.key):
                yield passing.path, None

    def read_key(self, export: str) -> tuple[KeyRef, RegKey]:
        """A registry export, as it was when the bag was verified."""
        name = f"{export}.json{ENDING if self.key else ''}"
        data = read_as_listed(self.payload(name), self.sums[f"data/{name}"])
        return unpack(self.key.unseal(data, name) if self.key else data, str(self.payload(name)))


def open_bag(folder: Path, progress: Progress | None = None, contents: bool = True, unlock: Unlock | None = None) -> SavedBag:
    """Verify a bag whole and read what it says.

    Args:
        contents: also unpack every archive and compare it with its index; for a bag that Kleff wrote itself where nobody else could
            have changed it, the checksum of the archive says as much.
        unlock: gives the key of a bag that is locked.

    Raises:
        DamagedCase: any file is missing, changed, not listed or not what its index says.
    """
    info = info_of(folder)
    with comparing(folder) as sums:  # large archives are hashed while their indexes are read
        return _read(SavedBag(folder, info, sums=sums), progress, contents, unlock)


def read_back(folder: Path, known: Collection[str], key: BagKey | None) -> None:
    """Read a bag as a restore would that has just been written, but for archives that were read back.

    Args:
        known: payload files that were read back a moment ago.

    Raises:
        DamagedCase: any file is missing, changed, not listed or not what its index says.
    """
    with comparing(folder, known) as sums:
        _read(SavedBag(folder, info_of(folder), sums=sums), None, False, None if key is None else lambda file: key)


def read_item(file: Path, sha256: str, key: BagKey | None) -> SavedItem:
    """An index as a restore reads it, each member with it.

    Raises:
        DamagedCase: it cannot be read, or leads out.
    """
    item = _item(file, sha256, key)
    check_members(item, file)
    return item


def _read(bag: SavedBag, progress: Progress | None, contents: bool, unlock: Unlock | None) -> SavedBag:
    """What the indexes say, each compared with its checksum and with what it names."""
    folder = bag.folder
    if (folder / KEY_FILE).exists():
        if unlock is None:
            raise Refused("the bag is locked with a passphrase", where=str(folder), remedy="give it, on a terminal or as docs/bag.md says")
        bag.key = unlock(folder / KEY_FILE)
    ending = ENDING if bag.key else ""
    if bag.info.get("Bag-Format") != str(FORMAT):
        raise _other_format(bag.info.get("Bag-Format") or "another", folder)
    named: set[str] = set()
    for name in sorted(bag.sums):
        if name.endswith(INDEX + ending):
            item = read_item(folder / name, bag.sums[name], bag.key)
            stem = name.removeprefix("data/").removesuffix(INDEX + ending)
            belongs = set(_payload(item, ending))
            lacks = belongs - set(bag.sums)
            if lacks or belongs & named:
                why = f"names what is not in the bag, or twice: {some(lacks or belongs)}"
                raise DamagedCase(why, where=str(folder / name), remedy=RELY)
            named |= {name, *belongs}
            bag.items[stem] = item
            if item.archive and contents:
                archive = bag.payload(item.archive)
                if check_archive(archive, item.members, progress or Silent(), bag.key) != bag.sums[f"data/{item.archive}"]:
                    raise DamagedCase("has changed while it was read", where=str(archive), remedy=RELY)
    if named != set(bag.sums):
        raise DamagedCase(f"holds what no index names: {some(set(bag.sums) - named)}", where=str(folder), remedy=RELY)
    return bag


def _other_format(found: str, where: Path) -> DamagedCase:
    return DamagedCase(
        f"the bag has format {plain(found)}; this Kleff knows {FORMAT}", where=str(where), remedy="use the Kleff that made it"
    )


def _payload(item: SavedItem, ending: str) -> Iterator[str]:
    if item.archive:
        yield f"data/{item.archive}"
    if item.file:
        yield f"data/{item.file}"
    for export in item.exports:
        yield f"data/{export}.json{ending}"
        yield f"data/{export}.reg{ending}"


def _item(file: Path, sha256: str, key: BagKey | None) -> SavedItem:
    data = read_as_listed(file, sha256)
    try:
        item = msgspec.json.decode(key.unseal(data, str(file)) if key else data, type=SavedItem)
    except (msgspec.MsgspecError, ValueError, RecursionError) as error:
        raise DamagedCase(f"cannot be read: {plain(str(error))}", where=str(file), remedy=RELY) from None
    if item.format != FORMAT:
        raise _other_format(str(item.format), file)
    return item
