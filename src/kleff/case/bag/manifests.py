"""What a bag's tag files say, and whether every file is as they say (RFC 8493, section 2)."""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from threading import Event

from kleff.case.bag.reading import MOST_OF_A_MANIFEST, MOST_OF_A_TAG, RELY, digest, read_whole, sizes_of, unreadable
from kleff.errors import DamagedCase
from kleff.texts import plain
from kleff.workstation.this_machine import host

LARGE = 1 << 22  # bytes from which a file is hashed beside other work


def info_of(folder: Path) -> dict[str, str]:
    """`bag-info.txt`.

    Raises:
        DamagedCase: the folder is no bag.
    """
    try:
        if not read_whole(folder / "bagit.txt", MOST_OF_A_TAG).startswith(b"BagIt-Version: "):
            raise ValueError
        lines = read_whole(folder / "bag-info.txt", MOST_OF_A_TAG).decode().splitlines()
    except (DamagedCase, ValueError):
        raise DamagedCase(
            "is no bag: bagit.txt or bag-info.txt is missing or damaged", where=str(folder), remedy="name a case, or the folder bag in it"
        ) from None
    return {name.strip(): value.strip() for name, _, value in (line.partition(":") for line in lines)}


@contextlib.contextmanager
def comparing(folder: Path, known: Collection[str] = ()) -> Iterator[dict[str, str]]:
    """Compare every file of a bag with its checksum, large ones beside what is done within. Gives the payload's checksums.

    Args:
        known: payload files that were read back a moment ago, and are only looked for.

    Raises:
        DamagedCase: any file is missing, changed, not listed or no regular file.
    """
    sizes = sizes_of(folder)  # before anything is opened
    listed = _manifest(folder / "manifest-sha256.txt")
    _check_present(folder, sizes, listed)
    stop, told = Event(), []
    with ThreadPoolExecutor(2) as pool:
        try:
            for name, sha256 in {**listed, **_manifest(folder / "tagmanifest-sha256.txt")}.items():
                if name not in sizes:
                    raise _missing(folder / name)
                if name in known:
                    continue
                if sizes[name] > LARGE:
                    told.append((folder / name, sha256, pool.submit(_hashed, folder / name, stop)))
                else:
                    _compare(folder / name, sha256, _hashed(folder / name, stop))
            yield listed
            for file, sha256, found in told:
                _compare(file, sha256, found.result())
        finally:
            stop.set()


def _check_present(folder: Path, sizes: dict[str, int], listed: dict[str, str]) -> None:
    present = {name for name in sizes if name.startswith("data/")}
    for name in listed:
        if name not in present:
            raise _missing(folder / name)
    if len(present) > len(listed):
        raise DamagedCase(f"holds files that are not listed: {some(present - set(listed))}", where=str(folder), remedy=RELY)


def _missing(file: Path) -> DamagedCase:
    return DamagedCase("is missing in the bag", where=str(file), remedy=RELY)


def _hashed(file: Path, stop: Event) -> str:
    try:
        with host().reading(file) as source:
            return digest(source, stop)
    except OSError as error:
        raise unreadable(file, error) from None


def _compare(file: Path, sha256: str, found: str) -> None:
    if found != sha256:
        raise DamagedCase("does not match its checksum", where=str(file), remedy=RELY)


def _manifest(file: Path) -> dict[str, str]:
    found = {}
    try:
        lines = read_whole(file, MOST_OF_A_MANIFEST).decode().splitlines()
    except UnicodeDecodeError:
        raise DamagedCase("cannot be read: it is not UTF-8", where=str(file), remedy=RELY) from None
    for line in lines:
        sha256, _, name = line.partition("  ")
        if name.startswith(("/", "~")) or ".." in Path(name).parts:
            raise DamagedCase(f"lists a path outside the bag: {plain(name)}", where=str(file), remedy=RELY)
        found[name] = sha256
    return found


def some(names: Collection[str]) -> str:
    """The first few of them, for people."""
    return plain(", ".join(sorted(names)[:3]))


def saved_size(folder: Path) -> int:
    """Bytes on disk of a bag (or any folder)."""
    return sum(p.lstat().st_size for p in folder.rglob("*") if p.is_file()) if folder.is_dir() else 0
