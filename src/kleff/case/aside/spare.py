"""The spare: a second set of a product's files and keys, taken before an uninstaller runs, so that even what the
uninstaller removes can be brought back.

Large files are hard links in the set-aside area (no space, near instant), small ones copies, since those are what is changed or
wiped in place. What was linked and is changed in place is told by its size and time, a copy by its hash; neither is passed off as
the original.
"""

from __future__ import annotations

import contextlib
import json
import stat
from base64 import b64decode
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import IO

import msgspec

from kleff.case.aside.area import Area
from kleff.case.aside.around import Around
from kleff.case.aside.as_it_was import differs, settle, settle_file
from kleff.case.aside.short_name import give_short_name
from kleff.case.aside.spare_index import Made, SpareDifference, SparedItem, SparedKey, SpareIndex, Taken, state_of
from kleff.case.aside.spare_plan import SparePlan, leave_out
from kleff.case.aside.spare_taking import Taking
from kleff.case.record.exports import export, read_checked, read_export, write_new
from kleff.errors import ActionFailed, Refused
from kleff.procedure.globs import fold
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef, Registry
from kleff.texts import plain, plural
from kleff.workstation.files.protocol import FileTree, Folder
from kleff.workstation.identity import packed
from kleff.workstation.paths import Look, WPath
from kleff.workstation.things import Source

TOLD = 5  # of what could not be brought back, in one message


class Spare:
    """The spare of one effect of a case.

    Args:
        number: of the effect; names the spare everywhere.
        folder: the case folder.
    """

    def __init__(self, files: FileTree, registry: Registry | None, area: Area, folder: Path, number: int) -> None:
        self._files = files
        self._registry = registry
        self._area = area
        self._folder = folder / "undo"
        self._stem = f"{number:04d}-spare"
        self._special = 0
        self._failed: list[str] = []
        self.around = Around(files, area, self._stem)

    # -- making -----------------------------------------------------------------------------------------------

    def areas(self, plan: SparePlan) -> list[WPath]:
        """Where it will lie, one folder per volume; nothing is made."""
        places = (*plan.places, *plan.singles, *plan.around.all)
        return list({a.key: a for a in map(self._area.folder_for, places)}.values())

    def make(self, plan: SparePlan) -> str:
        """Take the spare. Returns the SHA-256 of its index.

        Raises:
            OSError, ActionFailed: something cannot be linked, copied or read; the uninstaller must not run then.
        """
        areas = self.areas(plan)
        self._area.make(set(areas))
        for area in areas:
            self._area.make_below(area, self._stem)
        taking = Taking(self._files, self._area, plan, self._stem)
        things, above = taking.things(), taking.above()
        around = self.around.take(plan.around.copied, plan.around.linked, plan.around.alone)
        keys = list(self._export(plan))
        index = SpareIndex(areas=[packed(a) for a in areas], things=things, above=above, keys=keys, around=around)
        # The standard library's writer: link targets may hold bytes that are not text, which it escapes.
        return write_new(self._folder / f"{self._stem}.json", json.dumps(msgspec.to_builtins(index)).encode("ascii"))

    def _export(self, plan: SparePlan) -> Iterator[SparedKey]:
        for number, key in enumerate(plan.keys, 1):
            tree = self._registry.tree(key) if self._registry else None
            if tree is not None:
                plan.settle_before(key, tree)
                stem = f"{self._stem}-{number:03d}"
                yield SparedKey(stem=stem, sha256=export(self._folder, stem, key, tree))
        for number, (key, name) in enumerate(plan.values, len(plan.keys) + 1):
            value = self._registry.value(key, name) if self._registry else None
            if value is not None:
                stem = f"{self._stem}-{number:03d}"
                single = RegKey(key.parts[-1], {fold(value.name): value})
                yield SparedKey(stem=stem, sha256=export(self._folder, stem, key, single))

    # -- afterwards -------------------------------------------------------------------------------------------

    def index(self, sha256: str) -> SpareIndex:
        """Read the index back.

        Raises:
            DamagedCase: missing or changed.
        """
        data = read_checked(self._folder / f"{self._stem}.json", sha256)
        return msgspec.convert(json.loads(data), SpareIndex)

    def difference(self, sha256: str) -> SpareDifference:
        """What is gone, changed or left since the spare was taken."""
        result = SpareDifference()
        index = self.index(sha256)
        for kept in index.things:
            path = self._path(kept.path)
            look = self._files.look(path)
            if look is None or stat.S_IFMT(look.mode) != stat.S_IFMT(kept.mode):
                result.removed.append(plain(str(path)))
                result.gone.append(kept.path)
            elif self._changed(kept, look):
                result.changed.append(plain(str(path)))
                result.altered.append(kept.path)
            else:
                result.left += 1
                if not look.is_link and differs(kept, look):
                    result.touched[kept.path] = (look.uid, look.gid, stat.S_IMODE(look.mode))
        result.around = self.around.changed(index.around)
        for key in index.keys:
            ref, _ = read_export(self._folder, key.stem, key.sha256)
            if self._registry is not None and not self._registry.exists(ref):
                result.keys_removed.append(plain(str(ref)))
        return result

    def _changed(self, kept: SparedItem, look: Look) -> bool:
        return stat.S_ISREG(kept.mode) and (look.size, look.times[1]) != (kept.size, kept.mtime)

    def _path(self, raw: str) -> WPath:
        return self._files.from_raw(b64decode(raw))

    # -- bringing back ----------------------------------------------------------------------------------------

    def bring_back(
        self,
        sha256: str,
        made: Made | None = None,
        taken: Taken | None = None,
        own: Sequence[tuple[KeyRef, str]] = (),
    ) -> list[str]:
        """Put back what is gone; never over anything. Done twice is done once.

        Args:
            made: what the undo itself has had made anew. As long as it is that very thing, it gives way to the original.
            own: values (key, name) that this case has changed and has yet to give back; those that are there are left.
            taken: what the removal did; what else is missing now went otherwise, and is left. None: not known.

        Returns:
            What could not be brought back as it was, for the technician.
        """
        index, made = self.index(sha256), made or {}
        concerned = {k.path for k in index.things} if taken is None else {*taken.gone, *made, *self._still(taken)}
        stays: list[str] = []
        for kept in (k for k in index.things if k.path in concerned):
            if kept.path in made:
                self._clear_way(kept, made[kept.path])
            stays += self._bring(kept) or self._called(kept)
        parents = {packed(self._path(path).parent) for path in concerned}
        for kept in reversed([k for k in index.things if stat.S_ISDIR(k.mode) and (k.path in concerned or k.path in parents)]):
            self._settle(kept)
        for kept in index.above:  # not the product's own: only the times its going has changed
            with contextlib.suppress(FileNotFoundError, NotADirectoryError), self._files.folder(self._path(kept.path)) as folder:
                folder.set_times((kept.atime, kept.mtime))
        for key in index.keys:
            ref, tree = read_export(self._folder, key.stem, key.sha256)
            if self._registry is not None:
                there = [(k, name) for k, name in own if self._registry.value(k, name) is not None]
                leave_out(ref, tree, [k for k, _ in there], [name for _, name in there])
                stays += self._registry.write_tree(ref, tree)
                self._registry.api.flush()
        return stays

    def _still(self, taken: Taken) -> Iterator[str]:
        """What the removal gave another owner or mode, and what has been as that left it since."""
        for path, left in taken.touched.items():
            look = self._files.look(self._path(path))
            if look is not None and (look.uid, look.gid, stat.S_IMODE(look.mode)) == tuple(left):
                yield path

    def check_failed(self) -> None:
        """After something was brought back: whether another try may bring back more.

        Raises:
            ActionFailed: naming what the system did not let be brought back.
        """
        failed = [*self._failed, *self.around.failed]
        if failed:
            more = f"; and {len(failed) - TOLD} more" if len(failed) > TOLD else ""
            raise ActionFailed("; ".join(failed[:TOLD]) + more, remedy="see to that; then undo again")

    @property
    def not_back(self) -> str:
        """What was not brought back and needs not be, in words; many in one."""
        return f"; without {plural(self._special, 'dead socket or pipe', 'dead sockets and pipes')}" if self._special else ""

    def bring_back_some(self, sha256: str, wanted: set[str]) -> list[str]:
        """The same for some paths and the folders among them, of which nothing else is touched.

        Args:
            wanted: as `SparedItem.path`.
        """
        things = [k for k in self.index(sha256).things if k.path in wanted]
        stays = [text for kept in things for text in self._bring(kept)]
        for kept in reversed([k for k in things if stat.S_ISDIR(k.mode)]):
            self._settle(kept)
        return stays

    def _bring(self, kept: SparedItem) -> list[str]:
        path = self._path(kept.path)
        try:
            look = self._files.look(path)
            if look is not None:
                return self._settle_standing(kept, path, look)
            with self._files.parent(path) as (folder, name):
                if stat.S_ISDIR(kept.mode):
                    folder.make_folder(name)
                elif stat.S_ISLNK(kept.mode):
                    folder.make_link(name, kept.link)
                    folder.set_link(name, (kept.uid, kept.gid), (kept.atime, kept.mtime))
                elif kept.lies:
                    return self._bring_file(kept, path, folder, name)
                else:
                    self._special += 1  # a socket or pipe of a program that is gone; it makes its own anew
                folder.flush()
        except OSError as error:
            self._failed.append(f"{path} cannot be brought back: {error.strerror}")
        return []

    def _called(self, kept: SparedItem) -> list[str]:
        """What its short name has become, if that cannot be given back."""
        with contextlib.suppress(FileNotFoundError, NotADirectoryError):
            if text := give_short_name(self._files, self._path(kept.path), kept.short):
                return [text]
        return []

    def _settle_standing(self, kept: SparedItem, path: WPath, look: Look) -> list[str]:
        """What is there: a program may have lost its rights already when whoever was about to unlink it was killed."""
        if self._changed(kept, look):
            return [f"{path} was changed in place and is left as it is"]
        if look.is_file and stat.S_ISREG(kept.mode):
            with self._files.parent(path) as (folder, name):
                settle_file(folder, name, kept)
        return []

    def _clear_way(self, kept: SparedItem, made: tuple[int, int, int]) -> None:
        """Take away what our own undo has made, or changed, where the original is about to come back."""
        path = self._path(kept.path)
        with contextlib.suppress(OSError):  # then it stays, and `_bring` says what stands there
            look = self._files.look(path)
            if look is None or look.is_folder or stat.S_ISDIR(kept.mode) or state_of(look) != made:
                return
            held = self._files.look(self._path(kept.lies)) if kept.lies else None
            if stat.S_ISLNK(kept.mode) or (held is not None and not self._changed(kept, held)):
                self._files.remove_single(path)

    def source(self, sha256: str) -> Source:
        """For packages that are built anew: what is in the spare of a path, or already back in its place."""
        things = {kept.path: kept for kept in self.index(sha256).things}

        def find(text: str) -> tuple[Look, Callable[[], IO[bytes]] | None, str] | None:
            path = self._files.path(text)
            try:
                path = self._files.resolve(path).path if path else None
            except Refused:
                return None
            kept = things.get(packed(path)) if path else None
            if kept is None or path is None:
                there = self._files.look(path) if path else None
                return None if there is None or there.is_file else (there, None, "")
            held = self._path(kept.lies) if kept.lies else path
            look = self._files.look(held) or self._files.look(path)
            as_it_was = Look(look.identity if look else (0, 0), kept.mode, look.size if look else 0, kept.uid, kept.gid,
                             look.links if look else 1, (kept.atime, kept.mtime))  # fmt: skip
            if not stat.S_ISREG(kept.mode):
                return as_it_was, None, kept.link
            there_now = held if self._files.look(held) else path
            return (as_it_was, lambda: self._files.reading(there_now), "") if look else None

        return find

    def standing(self, sha256: str) -> Made:
        """Which things of the spare are where they were, and how."""
        found = ((k.path, self._files.look(self._path(k.path))) for k in self.index(sha256).things)
        return {path: state_of(look) for path, look in found if look is not None}

    def made(self, sha256: str, before: Made) -> Made:
        """What is there now and was not, or was there as the original and is changed."""
        now = self.standing(sha256)
        originals = {k.path: (k.size, k.mtime) for k in self.index(sha256).things}
        return {
            path: state for path, state in now.items()
            if path not in before or (before[path] != state and before[path][1:] == originals[path])
        }  # fmt: skip

    def foreign(self, sha256: str, before: Made) -> set[str]:
        """What stood there before the undo and is not the original."""
        found = set()
        for kept in (k for k in self.index(sha256).things if k.path in before and not stat.S_ISDIR(k.mode)):
            path = self._path(kept.path)
            look = self._files.look(path)
            same = look is not None and stat.S_IFMT(look.mode) == stat.S_IFMT(kept.mode) and not self._changed(kept, look)
            if not same or (kept.link and self._files.read_link(path) != kept.link):
                found.add(str(path))
        return found

    def copy_back(self, sha256: str, paths: set[str]) -> None:
        """Copies of some files to where they were, unless something stands there; the spare keeps its own.

        Raises:
            OSError.
        """
        for kept in self.index(sha256).things:
            path, held = self._path(kept.path), self._path(kept.lies) if kept.lies else None
            if str(path) not in paths or held is None or self._files.look(path) is not None:
                continue
            look = self._files.look(held)
            if look is not None:
                with self._files.parent(held) as (folder, name), self._files.parent(path) as (to, to_name):
                    folder.copy_file(name, to, to_name, look)

    def _bring_file(self, kept: SparedItem, path: WPath, to: Folder, name: str) -> list[str]:
        held = self._path(kept.lies)
        look = self._files.look(held)
        if look is None:
            return [f"{path}: its spare is gone"]
        if self._changed(kept, look):
            return [f"{path}: it was changed before it was removed; what there is of it is left in {held}"]
        with self._files.parent(held) as (folder, from_name):
            folder.rename(from_name, to, name)
            settle_file(to, name, kept)
            to.flush()
        return []

    def _settle(self, kept: SparedItem) -> None:
        """Owner, mode, attributes and times of a folder as they were."""
        with contextlib.suppress(FileNotFoundError, NotADirectoryError), self._files.folder(self._path(kept.path)) as folder:
            settle(folder, kept)
