"""The bag: saved data as a BagIt 1.0 bag (RFC 8493), so that anyone can check and open it without Kleff.

Layout: `data/NNN-label.tar.zst` and `data/NNN-label.index.json` for files; `data/NNN-label/KKK.reg` and `KKK.json` for
registry keys; `data/NNN-label/NAME` for exports by a command. NNN is the number of the action.
"""

from __future__ import annotations

import hashlib
import os
import re
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from kleff import __version__
from kleff.case.archive import Index, Wanted, check_archive, write_archive
from kleff.case.exports import export, read_export, write_new
from kleff.case.folder import Case
from kleff.errors import ActionFailed, DamagedCase
from kleff.progress import Progress, Silent
from kleff.workstation.common.files import FileTree
from kleff.workstation.common.posix import sync_folder
from kleff.workstation.windows.regfile import RegKey
from kleff.workstation.windows.registry import KeyRef


class Bag:
    """The bag of a case. Nothing in it is ever overwritten; sealed, it takes nothing more."""

    def __init__(self, case: Case) -> None:
        self._case = case
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
            data.mkdir(mode=0o700)
            sync_folder(self.folder)
            sync_folder(self._case.folder)
        return data

    def stem(self, action: int, label: str) -> str:
        """A name for what an action saves; a second try (after a kill) gets a name of its own."""
        safe = re.sub(r"[^a-z0-9]+", "-", label.lower()).strip("-")[:40] or "saved"
        data = self._data()
        for attempt in range(1, 1000):
            stem = f"{action:03d}-{safe}" + (f"-{attempt}" if attempt > 1 else "")
            if not any(p.name.split(".")[0] == stem for p in data.iterdir()):
                return stem
        raise ActionFailed("too many tries to save this", remedy="start a new case")

    def drop_unrecorded(self, action: int) -> None:
        """Take away what a killed try of this action left; it was never part of the bag."""
        data = self.folder / "data"
        recorded = {name for name, _, _, _ in self._case.journal.bag_items()}
        if data.is_dir() and not self.sealed:
            for path in sorted(data.rglob(f"{action:03d}-*"), key=lambda p: -len(p.parts)):
                for file in [path] if path.is_file() else sorted(path.iterdir()):
                    if str(file.relative_to(self.folder)) not in recorded:
                        file.unlink()
                if path.is_dir() and not any(path.iterdir()):
                    path.rmdir()

    def add_files(
        self, action: int, label: str, wanted: list[Wanted], files: FileTree, admin: bool, progress: Progress
    ) -> tuple[str, int, int]:
        """Save files; read back before it counts. Returns (archive name, files, bytes)."""
        data, stem = self._data(), self.stem(action, label)
        archive = data / f"{stem}.tar.zst"
        index = Index(archive=archive.name, members=write_archive(archive, wanted, files, label, admin, progress))
        check_archive(archive, index, Silent())
        write_new(data / f"{stem}.index.json", msgspec.json.format(msgspec.json.encode(index), indent=1))
        self._record(action, [archive, data / f"{stem}.index.json"])
        saved = [m for m in index.members if m.type in ("file", "hard link")]
        return archive.name, len(saved), sum(m.size for m in saved)

    def add_keys(self, action: int, label: str, keys: list[tuple[KeyRef, RegKey]]) -> tuple[str, int]:
        """Save registry keys. Returns (folder name, keys)."""
        data, stem = self._data(), self.stem(action, label)
        folder = data / stem
        folder.mkdir(mode=0o700)
        count = 0
        for number, (key, tree) in enumerate(keys, 1):
            name = f"{number:03d}"
            sha256 = export(folder, name, key, tree)
            read_export(folder, name, sha256)
            count += tree.count()[0]
        sync_folder(data)
        self._record(action, sorted(folder.iterdir()))
        return stem, count

    def add_output(self, action: int, label: str, name: str, source: Path) -> tuple[str, int]:
        """Save what a command wrote. Returns (name in the bag, bytes)."""
        data, stem = self._data(), self.stem(action, label)
        folder = data / stem
        folder.mkdir(mode=0o700)
        safe = re.sub(r"[^A-Za-z0-9._-]", "_", name)
        content = source.read_bytes()
        write_new(folder / safe, content)
        sync_folder(data)
        self._record(action, [folder / safe])
        return f"{stem}/{safe}", len(content)

    def _record(self, action: int, paths: list[Path]) -> None:
        """In one commit: an action's items are in the bag whole or not at all."""
        items = [(str(p.relative_to(self.folder)), action, _sha256(p), p.stat().st_size) for p in paths]
        self._case.journal.add_bag_items(items)

    def holds(self, action: int) -> bool:
        """Whether what an action saves is in the bag, complete and read back."""
        return any(item[1] == action for item in self._case.journal.bag_items())

    def seal(self) -> None:
        """Write the tag files, flush all, and read the whole bag back.

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
                f"Source-Organization: Kleff {__version__}\nBagging-Date: {now:%Y-%m-%d}\n"
                f"External-Identifier: {self._case.id}\nExternal-Description: Saved from {self._case.text('host')} before "
                f"{self._case.text('product')} was removed\nPayload-Oxum: {sum(i[3] for i in items)}.{len(items)}\n"
            ),
            "manifest-sha256.txt": "".join(f"{sha256}  {name}\n" for name, _, sha256, _ in items),
        }
        tags["tagmanifest-sha256.txt"] = "".join(f"{hashlib.sha256(t.encode()).hexdigest()}  {n}\n" for n, t in tags.items())
        for name, text in tags.items():
            (self.folder / name).unlink(missing_ok=True)  # of a sealing that was cut off
            write_new(self.folder / name, text.encode())
        check_bag(self.folder)
        self._case.journal.set(bag="sealed")


def check_bag(folder: Path) -> int:
    """Read a whole bag back against its manifests; returns the number of payload files.

    Raises:
        DamagedCase: any file is missing, changed or not listed.
    """
    remedy = "do not rely on this bag; nothing may be removed on its strength"
    listed = _manifest(folder / "manifest-sha256.txt")
    for name, sha256 in {**listed, **_manifest(folder / "tagmanifest-sha256.txt")}.items():
        file = folder / name
        if not file.is_file() or file.is_symlink():
            raise DamagedCase("is missing in the bag", where=str(file), remedy=remedy)
        if _sha256(file) != sha256:
            raise DamagedCase("does not match its checksum", where=str(file), remedy=remedy)
    present = {str(p.relative_to(folder)) for p in (folder / "data").rglob("*") if not p.is_dir()}
    if present != set(listed):
        raise DamagedCase(f"holds files that are not listed: {', '.join(sorted(present - set(listed)))}", where=str(folder), remedy=remedy)
    for archive in sorted((folder / "data").glob("*.tar.zst")):
        index = msgspec.json.decode(archive.with_name(archive.name.replace(".tar.zst", ".index.json")).read_bytes(), type=Index)
        check_archive(archive, index, Silent())
    return len(listed)


def _manifest(file: Path) -> dict[str, str]:
    try:
        lines = file.read_text("utf-8").splitlines()
    except (OSError, UnicodeDecodeError):
        raise DamagedCase("cannot be read", where=str(file), remedy="do not rely on this bag") from None
    found = {}
    for line in lines:
        sha256, _, name = line.partition("  ")
        if name.startswith(("/", "~")) or ".." in Path(name).parts:
            raise DamagedCase(f"lists a path outside the bag: {name}", where=str(file), remedy="do not rely on this bag")
        found[name] = sha256
    return found


def _sha256(file: Path) -> str:
    with file.open("rb") as source:
        return hashlib.file_digest(source, "sha256").hexdigest()


def saved_size(folder: Path) -> int:
    """Bytes on disk of a bag (or any folder)."""
    return sum(os.lstat(p).st_size for p in folder.rglob("*") if p.is_file()) if folder.is_dir() else 0
