"""Folders with cases in them, packed into one file, unpacked elsewhere, and made to belong there.

A case knows its workstation by the folder it lies in and what is set aside by its inode number, and both are others after
unpacking: `settle` writes the new ones into the journals. Nothing else of a case is changed.
"""

from __future__ import annotations

import contextlib
import hashlib
import io
import json
import os
import re
import sqlite3
import stat
import tarfile
from base64 import b64decode
from pathlib import Path
from typing import Any

import zstandard


def pack(folder: Path, file: Path) -> None:
    """Everything below a folder, with times in ns and extended attributes, as `tar` (pax) in zstd."""
    raw = io.BytesIO()
    with tarfile.open(fileobj=raw, mode="w", format=tarfile.PAX_FORMAT) as tar:
        for path in sorted(folder.rglob("*")):
            name = str(path.relative_to(folder))
            info = tar.gettarinfo(path, name)
            if info is None:  # a socket
                continue
            status = path.lstat()
            info.pax_headers = {"KLEFF.mtime": str(status.st_mtime_ns)}
            for key in os.listxattr(path, follow_symlinks=False):
                info.pax_headers[f"KLEFF.xattr.{key}"] = os.getxattr(path, key, follow_symlinks=False).hex()
            with path.open("rb") if info.isreg() else contextlib.nullcontext() as content:
                tar.addfile(info, content)
    file.write_bytes(zstandard.ZstdCompressor(level=19).compress(raw.getvalue()))


def unpack(file: Path, folder: Path) -> None:
    """The inverse of `pack`; folders get their times last."""
    raw = zstandard.ZstdDecompressor().stream_reader(io.BytesIO(file.read_bytes())).read()
    folders: list[tuple[Path, int]] = []
    with tarfile.open(fileobj=io.BytesIO(raw)) as tar:
        for info in tar:
            path, mtime = folder / info.name, int(info.pax_headers["KLEFF.mtime"])
            if info.isdir():
                path.mkdir(parents=True)
                folders.append((path, mtime))
            elif info.issym():
                path.symlink_to(info.linkname)
            elif info.islnk():
                os.link(folder / info.linkname, path)
                continue
            else:
                content = tar.extractfile(info)
                assert content is not None
                path.write_bytes(content.read())
            if os.geteuid() == 0:
                os.lchown(path, info.uid, info.gid)
            if not info.issym():
                path.chmod(info.mode)
            for key, value in info.pax_headers.items():
                if key.startswith("KLEFF.xattr."):
                    os.setxattr(path, key[12:], bytes.fromhex(value), follow_symlinks=False)
            os.utime(path, ns=(mtime, mtime), follow_symlinks=False)
    for path, mtime in reversed(folders):
        os.utime(path, ns=(mtime, mtime))


def settle(folder: Path) -> None:
    """Make the cases below a folder belong to the workstation that lies beside them."""
    lab, tree = folder / "lab", folder / "tree"
    for database in sorted((folder / "cases").glob("*/case.db")):
        with contextlib.closing(sqlite3.connect(database)) as db:
            spec = f"lab:{lab}" if lab.exists() else f"root:{tree}"
            _set(db, "workstation", spec)
            if tree.exists():
                status = tree.stat()
                machine = (tree / "etc/machine-id").read_text().strip()
                _set(db, "identity", f"root {status.st_dev}:{status.st_ino} {machine}")
            for key in ("library", "bag_folder"):
                found = db.execute("SELECT value FROM meta WHERE key=?", (key,)).fetchone()
                if found and found[0]:
                    _set(
                        db,
                        key,
                        str(folder / "cases" / Path(found[0]).parent.name / "bag") if key == "bag_folder" else str(folder / "library"),
                    )
            for number, place, text in db.execute("SELECT id, place, data FROM effects").fetchall():
                data = json.loads(text)
                if "identity" in data:
                    _renumber(data, [b64decode(data["aside"]), place], folder)
                    db.execute("UPDATE effects SET data=? WHERE id=?", (json.dumps(data), number))
            db.commit()
    state = lab / "state/kleff" if lab.exists() else tree / "var/lib/kleff"
    mark = state / "unfinished.json"
    if mark.exists():
        told = json.loads(mark.read_bytes())
        mark.write_text(json.dumps({**told, "folder": str(folder / "cases" / told["case"])}))


def _set(db: sqlite3.Connection, key: str, value: str) -> None:
    db.execute("UPDATE meta SET value=? WHERE key=?", (value, key))


def _renumber(data: dict[str, Any], places: list[bytes], folder: Path) -> None:
    for raw in places:
        volume, *names = raw.split(b"\0")
        top = folder / "lab/files" / volume.decode().rstrip(":") if volume else folder / "tree"
        with contextlib.suppress(FileNotFoundError):
            inode = os.lstat(os.path.join(os.fsencode(top), *names)).st_ino
            key = "copy" if data.get("copy") else "identity"
            data[key] = [data[key][0], inode]
            return


def state(folder: Path) -> dict[str, Any]:
    """What is on the workstation: files by mode, size and content, registry as text, what runs. Kleff's own is left out."""
    lab, tree = folder / "lab", folder / "tree"
    if lab.exists():
        live = json.loads((lab / "state/state.json").read_bytes())
        running = [p["name"] for p in live["processes"]]
        return {
            "files": _files(lab / "files"),
            "registry": {str(p.relative_to(lab)): _hive(p) for p in sorted((lab / "registry").rglob("*.reg"))},
            "live": [sorted(running), sorted(live["running_services"]), sorted(live["disabled_tasks"])],
        }  # fmt: skip
    return {"files": _files(tree, ("var/lib/kleff", "var/log", "var/lib/dpkg"))}


def _hive(file: Path) -> str:
    text = file.read_bytes()[2:].decode("utf-16-le", "surrogatepass")
    return text.encode("utf-8", "backslashreplace").decode()


def _digest(file: Path) -> str:
    """Of a file's content, as of the day on which the cases were made: what is written beside rescued files tells the day."""
    content = file.read_bytes()
    if file.name == "Where these files came from.txt":
        content = re.sub(rb" on \d{4}-\d\d-\d\d\.", b" on 2026-11-25.", content, count=1)
    return hashlib.sha256(content).hexdigest()[:16]


def _files(top: Path, without: tuple[str, ...] = ()) -> dict[str, str]:
    found = {}
    for path in sorted(top.rglob("*")):
        name = str(path.relative_to(top)).encode("utf-8", "backslashreplace").decode()
        if ".kleff" in path.parts or name.startswith(without):
            continue
        status = path.lstat()
        content = os.readlink(path) if path.is_symlink() else _digest(path) if path.is_file() else ""
        when = f" {status.st_mtime_ns}" if stat.S_ISREG(status.st_mode) else ""
        found[name] = f"{status.st_mode:o}{when} {content}"
    return found
