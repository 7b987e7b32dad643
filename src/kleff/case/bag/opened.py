"""A finished bag, opened for reading: verified whole before anything of it is believed.

SHA-256 manifests find damage, not forgery: a bag that was made elsewhere is hostile input, whatever its checksums say.
"""

from __future__ import annotations

import contextlib
import os
from base64 import b64decode
from collections.abc import Callable, Collection, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path

import msgspec

from kleff.case.bag.archive import check_archive
from kleff.case.bag.encryption import ENDING, KEY_FILE, BagKey, Passing
from kleff.case.bag.index import FORMAT, Member, SavedItem
from kleff.case.bag.links import Names, below_a_link, leads_out, own_place
from kleff.case.record.exports import read_checked, unpack
from kleff.errors import DamagedCase, Refused
from kleff.progress import Progress, Silent
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef
from kleff.texts import plain
from kleff.workstation.this_machine import host

RELY = "do not rely on this bag; nothing may be removed on its strength"
INDEX = ".index.json"
Unlock = Callable[[Path], BagKey]
LARGE = 1 << 22  # bytes from which a file is hashed beside other work
UNSAFE = 0o7000  # runs with its owner's or group's rights


@dataclass
class SavedBag:
    """A bag that was verified.

    Attributes:
        info: `bag-info.txt`.
        items: what each action saved, by the stem of its files.
        sums: SHA-256 of every payload file, by its name below the bag.
    """

    folder: Path
    info: dict[str, str] = field(default_factory=dict)
    items: dict[str, SavedItem] = field(default_factory=dict)
    sums: dict[str, str] = field(default_factory=dict)
    key: BagKey | None = None

    def payload(self, name: str) -> Path:
        return self.folder / "data" / name

    @contextlib.contextmanager
    def feeding(self, name: str, at: Path) -> Iterator[Path]:
        """A payload file for a program to read, as it was; with a key through a pipe, made at `at`."""
        if self.key is None:
            yield self.payload(name)
            return
        passing = Passing(at)
        with passing.out_of(self.payload(name), self.key):
            yield passing.path

    def read_key(self, export: str) -> tuple[KeyRef, RegKey]:
        """A registry export, as it was when the bag was verified."""
        name = f"{export}.json{ENDING if self.key else ''}"
        data = read_checked(self.payload(name), self.sums[f"data/{name}"])
        return unpack(self.key.unseal(data, name) if self.key else data, str(self.payload(name)))


def check_bag(folder: Path) -> int:
    """Read a whole bag back against its manifests; returns the number of payload files.

    Raises:
        DamagedCase: any file is missing, changed or not listed.
    """
    return len(open_bag(folder).sums)


def open_bag(folder: Path, progress: Progress | None = None, contents: bool = True, unlock: Unlock | None = None) -> SavedBag:
    """Verify a bag whole and read what it says.

    Args:
        contents: also unpack every archive and compare it with its index; for a bag that Kleff wrote itself where nobody else could
            have changed it, the checksum of the archive says as much.
        unlock: gives the key of a bag that is locked.

    Raises:
        DamagedCase: any file is missing, changed, not listed or not what its index says.
    """
    info = _info(folder)
    with ThreadPoolExecutor(2) as pool:  # large archives are hashed while their indexes are read
        sums, large = _check_small(folder, ())
        told = [(file, sha256, pool.submit(host().sha256, file)) for file, sha256 in large]
        bag = _read(SavedBag(folder, info, sums=sums), progress, contents, unlock)
        for file, sha256, found in told:
            _compare(file, sha256, found.result())
    return bag


def read_back(folder: Path, known: Collection[str], key: BagKey | None) -> None:
    """Read a bag as a restore would that has just been written, but for archives that were read back.

    Args:
        known: payload files that were read back a moment ago.

    Raises:
        DamagedCase: any file is missing, changed, not listed or not what its index says.
    """
    sums = check_files(folder, known)
    _read(SavedBag(folder, _info(folder), sums=sums), None, False, None if key is None else lambda file: key)


def read_item(file: Path, sha256: str, key: BagKey | None) -> SavedItem:
    """An index as a restore reads it, each member with it.

    Raises:
        DamagedCase: it cannot be read, or leads out.
    """
    item = _item(file, sha256, key)
    _check_members(item, file)
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
                why = f"names what is not in the bag, or twice: {_some(lacks or belongs)}"
                raise DamagedCase(why, where=str(folder / name), remedy=RELY)
            named |= {name, *belongs}
            bag.items[stem] = item
            if item.archive and contents:
                archive = bag.payload(item.archive)
                if check_archive(archive, item.members, progress or Silent(), bag.key) != bag.sums[f"data/{item.archive}"]:
                    raise DamagedCase("has changed while it was read", where=str(archive), remedy=RELY)
    if named != set(bag.sums):
        raise DamagedCase(f"holds what no index names: {_some(set(bag.sums) - named)}", where=str(folder), remedy=RELY)
    return bag


def _other_format(found: str, where: Path) -> DamagedCase:
    return DamagedCase(
        f"the bag has format {plain(found)}; this Kleff knows {FORMAT}", where=str(where), remedy="use the Kleff that made it"
    )


def _some(names: Collection[str]) -> str:
    return plain(", ".join(sorted(names)[:3]))


def _payload(item: SavedItem, ending: str) -> Iterator[str]:
    if item.archive:
        yield f"data/{item.archive}"
    if item.file:
        yield f"data/{item.file}"
    for export in item.exports:
        yield f"data/{export}.json{ending}"
        yield f"data/{export}.reg{ending}"


def _item(file: Path, sha256: str, key: BagKey | None) -> SavedItem:
    data = read_checked(file, sha256)
    try:
        item = msgspec.json.decode(key.unseal(data, str(file)) if key else data, type=SavedItem)
    except (msgspec.MsgspecError, ValueError, RecursionError) as error:
        raise DamagedCase(f"cannot be read: {plain(str(error))}", where=str(file), remedy=RELY) from None
    if item.format != FORMAT:
        raise _other_format(str(item.format), file)
    return item


def _info(folder: Path) -> dict[str, str]:
    try:
        if not (folder / "bagit.txt").read_text("utf-8").startswith("BagIt-Version: "):
            raise ValueError
        lines = (folder / "bag-info.txt").read_text("utf-8").splitlines()
    except (OSError, ValueError):
        raise DamagedCase(
            "is no bag: bagit.txt or bag-info.txt is missing or damaged", where=str(folder), remedy="name a case, or the folder bag in it"
        ) from None
    return {name.strip(): value.strip() for name, _, value in (line.partition(":") for line in lines)}


def check_files(folder: Path, known: Collection[str] = ()) -> dict[str, str]:
    """Compare every file of a bag with its checksum; returns the payload's checksums.

    Args:
        known: payload files that were read back a moment ago, and are only looked for.

    Raises:
        DamagedCase: any file is missing, changed or not listed.
    """
    listed, large = _check_small(folder, known)
    for file, sha256 in large:
        _compare(file, sha256, host().sha256(file))
    return listed


def _compare(file: Path, sha256: str, found: str) -> None:
    if found != sha256:
        raise DamagedCase("does not match its checksum", where=str(file), remedy=RELY)


def _check_small(folder: Path, known: Collection[str]) -> tuple[dict[str, str], list[tuple[Path, str]]]:
    """All that is listed must be there, and nothing else. Returns the payload's checksums, and those of large files, not compared yet."""
    listed, large = _manifest(folder / "manifest-sha256.txt"), []
    for name, sha256 in {**listed, **_manifest(folder / "tagmanifest-sha256.txt")}.items():
        file = folder / name
        if not file.is_file() or file.is_symlink():
            raise DamagedCase("is missing in the bag", where=str(file), remedy=RELY)
        if name in known:
            continue
        if file.lstat().st_size > LARGE:
            large.append((file, sha256))
        else:
            _compare(file, sha256, host().sha256(file))
    present = {str(p.relative_to(folder)) for p in (folder / "data").rglob("*") if not p.is_dir() or p.is_symlink()}
    if present != set(listed):
        raise DamagedCase(f"holds files that are not listed: {_some(present - set(listed))}", where=str(folder), remedy=RELY)
    return listed, large


def _manifest(file: Path) -> dict[str, str]:
    try:
        lines = file.read_text("utf-8").splitlines()
    except (OSError, UnicodeDecodeError):
        raise DamagedCase("cannot be read", where=str(file), remedy="do not rely on this bag") from None
    found = {}
    for line in lines:
        sha256, _, name = line.partition("  ")
        if name.startswith(("/", "~")) or ".." in Path(name).parts:
            raise DamagedCase(f"lists a path outside the bag: {plain(name)}", where=str(file), remedy="do not rely on this bag")
        found[name] = sha256
    return found


def saved_size(folder: Path) -> int:
    """Bytes on disk of a bag (or any folder)."""
    return sum(p.lstat().st_size for p in folder.rglob("*") if p.is_file()) if folder.is_dir() else 0


def _check_members(item: SavedItem, file: Path) -> None:
    """Members must be told apart, come after what they hang on, and lead nowhere else."""
    files: set[str] = set()
    names: set[str] = set()
    places: set[tuple[str, ...]] = set()
    for member in item.members:
        place = relative_names(member)
        wrong = ""
        if member.member and member.member in names:
            wrong = "is named twice"
        elif place in places:
            wrong = "stands in one place with another"
        elif member.type == "hard link" and member.link not in files:
            wrong = "shares its content with nothing before it"
        elif bool(member.member) != (member.type != "special"):
            wrong = "is in the archive as nothing, or is nothing and in the archive"
        if wrong:
            raise DamagedCase(f"{plain(member.path)} {wrong}", where=str(file), remedy=RELY)
        names.add(member.member)
        places.add(place)
        if member.type == "file":
            files.add(member.member)


# -- what a bag from elsewhere may hold ------------------------------------------------------------------------


NO_NAMES = frozenset((b"", b".", b".."))


def relative_names(member: Member) -> tuple[str, ...]:
    """The names of a member below its item's base; () for the base itself.

    Raises:
        DamagedCase: a name leads elsewhere.
    """
    raw = b64decode(member.relative_b64)
    names = raw.split(b"\0") if raw else []
    if b"/" in raw or not NO_NAMES.isdisjoint(names):
        raise DamagedCase(f"{member.path} leads out of its folder", remedy="do not use this bag")
    return tuple(os.fsdecode(n) for n in names)


def check_harmless(bag: SavedBag) -> None:
    """Refuse a bag from elsewhere whole if anything in it could do harm where it is put.

    Raises:
        Refused: naming the thing.
    """
    for item in bag.items.values():
        links = {relative_names(m): os.fsdecode(b64decode(m.link)) for m in item.members if m.type == "link"}
        folders = {relative_names(m) for m in item.members if m.type == "folder"}
        for member in item.members:
            why = _harm(member) or _harm_of_links(item, member, links, folders)
            if why:
                raise Refused(f"the bag is not used: {plain(member.path)} {why}", where=str(bag.folder), remedy="look at it by hand")


def _harm(member: Member) -> str:
    if member.mode & UNSAFE:
        return "would run with the rights of its owner (setuid, setgid or sticky)"
    if any(name == "security.capability" or name.startswith("trusted.") for name in member.attributes):
        return "carries rights of its own (a capability or the like)"
    return ""


def _harm_of_links(item: SavedItem, member: Member, links: dict[Names, str], folders: set[Names]) -> str:
    """A link stays within what its item hangs on; where that is nothing, within the item's own topmost folder."""
    names = relative_names(member)
    if below_a_link(names, links):
        return "lies below a link of the same bag"
    top = 0 if item.variable else own_place(names, folders)
    if member.type == "link" and leads_out(names, links[names], links, top):
        return f"is a link that leads out, to {plain(links[names])}"
    return ""
