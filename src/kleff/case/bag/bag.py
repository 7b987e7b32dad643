"""The bag: saved data as a BagIt 1.0 bag (RFC 8493), so that anyone can check and open it without Kleff.

Layout: `data/NNN-label.index.json` says what an action saved, NNN being its number; beside it `data/NNN-label.tar.zst` for
files, `data/NNN-label/KKK.reg` and `KKK.json` for registry keys, `data/NNN-label/NAME` for what a command exported.
"""

from __future__ import annotations

import contextlib
import hashlib
import re
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from kleff import __version__
from kleff.case.bag.archive import MemberSource, check_archive, write_archive
from kleff.case.bag.encryption import ENDING, KEY_FILE, BagKey, Passing
from kleff.case.bag.index import FORMAT, SavedItem
from kleff.case.bag.opened import read_back, read_item
from kleff.case.record.exports import pack, read_checked, unpack, write_new
from kleff.case.record.folder import Case
from kleff.errors import ActionFailed, DamagedCase
from kleff.progress import Progress, Silent
from kleff.registry.regfile import RegKey, encode, format_tree
from kleff.registry.registry import KeyRef
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.this_machine import host


@dataclass
class Received:
    """What a command has written: `path` is what it writes to, `file` where it lies then, `size` its bytes as they were."""

    path: Path
    file: Path
    size: int = 0


class Bag:
    """The bag of a case. Nothing in it is ever overwritten; sealed, it takes nothing more."""

    def __init__(self, case: Case, key: BagKey | None = None) -> None:
        self._case = case
        self._key = key
        self._ending = ENDING if key else ""
        self._read_back: set[str] = set()  # names that this very process has read back
        self._stems: set[str] | None = None  # that are taken; one process alone works on a case
        self._saved: set[int] | None = None  # actions that are in the bag
        self.folder = case.folder / "bag"

    @property
    def sealed(self) -> bool:
        return self._case.text("bag") == "sealed"

    def _data(self) -> Path:
        if self.sealed:
            raise ActionFailed("the bag is sealed; nothing can be added", remedy="start a new case")
        data = self.folder / "data"
        if not data.is_dir():
            self.folder.mkdir(mode=0o700, exist_ok=True)
            if self._key and not (self.folder / KEY_FILE).exists():
                self._write_key(self._key)
            data.mkdir(mode=0o700)
            host().flush_folder(self.folder)
            host().flush_folder(self._case.folder)
        return data

    def _write_key(self, key: BagKey) -> None:
        """Whole or not at all: nothing could be read with half a key."""
        part = self.folder / f"{KEY_FILE}.part"
        part.unlink(missing_ok=True)
        write_new(part, key.file)
        part.rename(self.folder / KEY_FILE)

    def stem(self, action: int, label: str) -> str:
        """A name for what an action saves; a second try (after a kill) gets a name of its own."""
        safe = re.sub(r"[^a-z0-9]+", "-", label.lower()).strip("-")[:40] or "saved"
        data = self._data()
        if self._stems is None:
            self._stems = {p.name.split(".")[0] for p in data.iterdir()}
        for attempt in range(1, 1000):
            stem = f"{action:03d}-{safe}" + (f"-{attempt}" if attempt > 1 else "")
            if stem not in self._stems:
                self._stems.add(stem)
                return stem
        raise ActionFailed("too many tries to save this", remedy="start a new case")

    def drop_unrecorded(self, actions: set[int]) -> None:
        """Take away what killed tries of these actions left; it was never part of the bag."""
        data, self._stems = self.folder / "data", None
        recorded = {name for name, _, _, _ in self._case.journal.bag_items()}
        if data.is_dir() and actions and not self.sealed:
            begins = {f"{number:03d}" for number in actions}
            named = (p for p in data.rglob("*-*") if p.name.partition("-")[0] in begins)
            for path in sorted(named, key=lambda p: -len(p.parts)):
                for file in [path] if path.is_file() else sorted(path.iterdir()):
                    if file.relative_to(self.folder).as_posix() not in recorded:
                        file.unlink()
                if path.is_dir() and not any(path.iterdir()):
                    path.rmdir()

    def add_files(
        self,
        action: int,
        item: SavedItem,
        wanted: list[MemberSource],
        files: FileTree,
        admin: bool,
        progress: Progress,
        owners: dict[int, str],
    ) -> SavedItem:
        """Save files; read back before it counts. Returns what the index says."""
        data, stem = self._data(), self.stem(action, item.label or "files")
        archive = data / f"{stem}.tar.zst{self._ending}"
        members = write_archive(archive, wanted, files, admin, progress, owners, self._key)
        sha256 = check_archive(archive, members, Silent(), self._key)
        item = msgspec.structs.replace(item, archive=archive.name, members=members)
        self._record(action, stem, item, {archive: sha256})
        return item

    def add_keys(self, action: int, item: SavedItem, keys: list[tuple[KeyRef, RegKey]]) -> SavedItem:
        """Save registry keys. Returns what the index says."""
        stem = self.stem(action, item.label or item.object)
        folder = self._folder(stem)
        exports, written = [], {}
        for number, (key, tree) in enumerate(keys, 1):
            text = encode(format_tree(f"{key.hive}\\{key.path}", tree))
            for name, data in ((f"{number:03d}.reg", text), (f"{number:03d}.json", pack(key, tree))):
                file = folder / (name + self._ending)
                written[file] = self._write(file, data)
            _check_export(key, tree, str(folder))
            exports.append(f"{stem}/{number:03d}")
        item = msgspec.structs.replace(item, exports=exports)
        self._record(action, stem, item, written)
        return item

    @contextlib.contextmanager
    def receiving(self, action: int, folder: Path) -> Iterator[Received]:
        """Where a command writes what is saved with `add_output` then; with a key it goes through a pipe, and lies nowhere as it is."""
        path, locked = folder / f"export-{action:04d}", folder / f"export-{action:04d}{ENDING}"
        for file in (path, locked):  # of a try that was killed
            file.unlink(missing_ok=True)
        if self._key is None:
            received = Received(path, path)
            yield received
            received.size = path.stat().st_size
            return
        passing = Passing(path)
        received = Received(path, locked)
        with passing.into(locked, self._key):
            yield received
        received.size = passing.count

    def add_output(self, action: int, item: SavedItem, source: Path) -> SavedItem:
        """Save what a command wrote, under the item's name. Returns what the index says."""
        stem = self.stem(action, item.label or "export")
        target = self._folder(stem) / (re.sub(r"[^A-Za-z0-9._-]", "_", item.name) + self._ending)
        item = msgspec.structs.replace(item, file=f"{stem}/{target.name}")
        self._record(action, stem, item, {target: host().copy_new(source, target)})
        return item

    def add_settings(self, action: int, item: SavedItem) -> SavedItem:
        """Save what is known of something, in the index alone."""
        self._record(action, self.stem(action, item.label or item.object), item, {})
        return item

    def _folder(self, stem: str) -> Path:
        folder = self._data() / stem
        folder.mkdir(mode=0o700)
        host().flush_folder(folder.parent)
        return folder

    def _record(self, action: int, stem: str, item: SavedItem, written: dict[Path, str]) -> None:
        """In one commit: an action's items are in the bag whole or not at all.

        Args:
            written: files that are on disk and read back, with their SHA-256.
        """
        index = self._data() / f"{stem}.index.json{self._ending}"
        sha256 = self._write(index, msgspec.json.format(msgspec.json.encode(item), indent=1))
        if read_item(index, sha256, self._key) != item:
            raise DamagedCase("is not read back as what was saved", where=str(index), remedy="leave out this step, and tell us of it")
        items = [(p.relative_to(self.folder).as_posix(), action, sha, p.stat().st_size) for p, sha in {**written, index: sha256}.items()]
        self._case.journal.add_bag_items(items)
        if self._saved is not None:
            self._saved.add(action)
        self._read_back |= {name for name, _, _, _ in items}

    def _write(self, file: Path, data: bytes) -> str:
        """A new file, flushed and read back; returns its SHA-256."""
        sha256 = write_new(file, self._key.seal(data) if self._key else data)
        back = read_checked(file, sha256)
        if (self._key.unseal(back, str(file)) if self._key else back) != data:
            raise DamagedCase("is not what was written", where=str(file), remedy="check the disk; then resume")
        return sha256

    def holds(self, action: int) -> bool:
        """Whether what an action saves is in the bag, complete and read back."""
        if self._saved is None:
            self._saved = {number for _, number, _, _ in self._case.journal.bag_items()}
        return action in self._saved

    def seal(self) -> None:
        """Write the tag files, flush all, and read back what an earlier try has saved; the rest was read back just now.

        Raises:
            DamagedCase: what was read back differs.
        """
        items = self._case.journal.bag_items()
        if self.sealed or not items:
            self._case.journal.set(bag="sealed")
            return
        now = datetime.now(UTC)
        tags = {
            "bagit.txt": "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n",
            "bag-info.txt": (
                f"Source-Organization: Kleff {__version__}\nBagging-Date: {now:%Y-%m-%d}\nBag-Format: {FORMAT}\n"
                f"Product-Id: {self._case.text('product_id')}\nSystem: {self._case.text('system')}\n"
                f"External-Identifier: {self._case.id}\nExternal-Description: Saved from {self._case.text('host')} before "
                f"{self._case.text('product')} was removed\nPayload-Oxum: {sum(i[3] for i in items)}.{len(items)}\n"
            ),
            "manifest-sha256.txt": "".join(f"{sha256}  {name}\n" for name, _, sha256, _ in items),
        }
        sums = {name: hashlib.sha256(text.encode()).hexdigest() for name, text in tags.items()}
        if (self.folder / KEY_FILE).exists():
            sums[KEY_FILE] = host().sha256(self.folder / KEY_FILE)
        tags["tagmanifest-sha256.txt"] = "".join(f"{sha256}  {name}\n" for name, sha256 in sums.items())
        for name, text in tags.items():
            (self.folder / name).unlink(missing_ok=True)  # of a sealing that was cut off
            write_new(self.folder / name, text.encode())
        read_back(self.folder, self._read_back, self._key)
        self._case.journal.set(bag="sealed")


def _check_export(key: KeyRef, tree: RegKey, where: str) -> None:
    """An export as a restore reads it.

    Raises:
        DamagedCase: it is not what was saved.
    """
    found, back = unpack(pack(key, tree), where)
    if (found, back.keys, back.values) != (key, tree.keys, tree.values):
        raise DamagedCase(f"{key} is not read back as what was saved", where=where, remedy="leave out this step, and tell us of it")
