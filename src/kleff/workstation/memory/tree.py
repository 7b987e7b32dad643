"""A workstation's files in memory."""

from __future__ import annotations

import errno
import io
import stat
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from kleff.errors import LinkOnTheWay
from kleff.procedure.globs import PathStyle
from kleff.workstation.files.by_path import ByPath
from kleff.workstation.files.protocol import Folder
from kleff.workstation.memory.handles import MemoryFolder, node_of
from kleff.workstation.memory.nodes import Node, entered, error
from kleff.workstation.paths import PRIVILEGED, Look, Measure, Resolved, Space, WPath
from kleff.workstation.short_names import Shorts

FREE = 1 << 40  # bytes that a volume has room for
MAX_LINKS = 40


class MemoryTree(ByPath):
    """Files of some volumes; implements `FileTree`.

    Args:
        style: how paths are written there.
        names: of the volumes.
        private: whether an account other than an administrator can write below a path, by the path alone.
        shorts: of the volumes, those that give short names.
    """

    def __init__(
        self, style: PathStyle, names: Sequence[str], private: Callable[[WPath], bool] = lambda path: False, shorts: Sequence[str] = ()
    ) -> None:
        self.style = style
        self.volumes = {name: Path("/nonexistent") / (name or "root") for name in names}
        self.roots = {name: Node(stat.S_IFDIR | 0o755, number, style.folded) for number, name in enumerate(names, 1)}
        for name in shorts:
            self.roots[name].shorts = Shorts()
        self._private = private

    # -- making it --------------------------------------------------------------------------------------------

    def add(self, text: str, content: bytes | str = b"", uid: int = 0, mode: int = 0o644, target: str = "", folder: bool = False) -> WPath:
        """A file, a link to `target`, or a folder, with the folders above it."""
        path = self.path(text)
        assert path is not None, text
        node = self.roots[path.volume]
        for name in path.parts[:-1]:
            if node.key(node.spelled(name)) not in node.below:
                node.put(name, node.new(stat.S_IFDIR | 0o755))
                node.get(name).uid = uid
            node = node.get(name)
        if folder and node.key(path.name) in node.below:
            return path
        kind = stat.S_IFDIR | 0o755 if folder else stat.S_IFLNK | 0o777 if target else stat.S_IFREG | mode
        new = node.new(kind, target=target)
        new.data, new.uid = content.encode() if isinstance(content, str) else content, uid
        node.put(path.name, new)
        return path

    def hold(self, text: str, held: bool = True) -> None:
        """A program has it open and lets nobody rename it; or has closed it."""
        path = self.path(text)
        assert path is not None
        self._node(path.parent).get(path.name).held, Node.some_held = held, True

    def snapshot(self) -> dict[tuple[str, ...], tuple[object, ...]]:
        """Everything there is outside Kleff's own areas, to be compared."""
        found: dict[tuple[str, ...], tuple[object, ...]] = {}

        def take(node: Node, names: tuple[str, ...]) -> None:
            for name, below in node.below.values():
                if name == ".kleff":
                    continue
                found[(*names, name)] = (below.mode, below.uid, below.gid, below.data, below.target, below.changed, below.links)
                take(below, (*names, name))

        for volume, root in self.roots.items():
            take(root, (volume,))
        return found

    # -- names ------------------------------------------------------------------------------------------------

    def host(self, path: WPath) -> str:
        return str(self.volumes[path.volume].joinpath(*path.parts))

    def spelled(self, folder: Folder, name: str) -> str:
        return node_of(folder).spelled(name)

    # -- opening ----------------------------------------------------------------------------------------------

    def _node(self, path: WPath) -> Node:
        node = self.roots[path.volume]
        for part in path.parts:
            node = entered(node, part)
        return node

    def open_folder(self, path: WPath) -> Folder:
        return MemoryFolder(self._node(path))

    def open_below(self, folder: Folder, name: str) -> Folder:
        return MemoryFolder(entered(node_of(folder), name))

    @contextmanager
    def folder(self, path: WPath) -> Iterator[Folder]:
        yield self.open_folder(path)

    @contextmanager
    def parent(self, path: WPath) -> Iterator[tuple[Folder, str]]:
        folder = self.open_folder(path.parent)
        yield folder, self.spelled(folder, path.name)

    # -- one thing --------------------------------------------------------------------------------------------

    def _stands(self, path: WPath) -> Look | None:
        try:
            return (self._node(path.parent).get(path.name) if path.parts else self._node(path)).look()
        except NotADirectoryError:
            above = (self.look(WPath(self.style, path.volume, path.parts[:end])) for end in range(1, len(path.parts)))
            if any(look is not None and look.is_link for look in above):
                raise error(errno.ELOOP, str(path)) from None
            return None

    def _list(self, path: WPath) -> list[str]:
        return sorted(self.open_folder(path).names())

    def read(self, path: WPath, limit: int = 1 << 20) -> bytes:
        return self.reading(path).read(limit)

    def _reading(self, path: WPath) -> IO[bytes]:
        node = self._node(path.parent).get(path.name)
        if not stat.S_ISREG(node.mode):
            raise error(errno.ELOOP if stat.S_ISLNK(node.mode) else errno.EINVAL, path.name)
        return io.BytesIO(node.data)

    def sha256(self, path: WPath) -> str:
        return self.open_folder(path.parent).sha256(path.name)

    def read_link(self, path: WPath) -> str:
        return self.open_folder(path.parent).read_link(path.name)

    def remove_single(self, path: WPath) -> None:
        folder = self.open_folder(path.parent)
        if not folder.look_at(path.name).is_folder:
            folder.remove(path.name)
            return
        folder.remove_if_empty(path.name)
        if self.look(path) is not None:
            raise error(errno.ENOTEMPTY, path.name)

    # -- links on the way, patterns ---------------------------------------------------------------------------

    def resolve(self, path: WPath) -> Resolved:
        return self._resolve(path.volume, path.parts, (), 0)

    def _resolve(self, volume: str, parts: tuple[str, ...], links: tuple[str, ...], depth: int) -> Resolved:
        node, names = self.roots[volume], list[str]()
        for index, part in enumerate(parts):
            name, below = node.below.get(node.key(node.spelled(part)), (part, None))
            last = index == len(parts) - 1
            link = below is not None and stat.S_ISLNK(below.mode)
            if below is None or (not last and not below.is_folder and not link):
                return Resolved(WPath(self.style, volume, (*names, *parts[index:])), links, below is not None)
            names.append(name)
            if link and not last:
                return self._follow(WPath(self.style, volume, tuple(names)), below, parts[index + 1 :], links, depth)
            node = below
        return Resolved(WPath(self.style, volume, tuple(names)), links, True)

    def _follow(self, link: WPath, node: Node, rest: tuple[str, ...], links: tuple[str, ...], depth: int) -> Resolved:
        if node.uid or not self.only_admin(link.parent):
            raise LinkOnTheWay(f"the folder {link} on the way is a link to {node.target}, which others than an administrator can change")
        split = self.style.split(node.target)
        if depth > MAX_LINKS or (split is not None and split[0] not in self.volumes):
            raise LinkOnTheWay(f"the link {link} leads nowhere")
        volume, base = split if split is not None else (link.volume, link.parent.walked(node.target).parts)
        return self._resolve(volume, base + rest, (*links, f"{link} -> {node.target}"), depth + 1)

    def only_admin(self, path: WPath) -> bool:
        node = self.roots[path.volume]
        for index in range(len(path.parts) + 1):
            if node.uid or node.mode & (stat.S_IWOTH | stat.S_IWGRP) or self._private(WPath(self.style, path.volume, path.parts[:index])):
                return False
            if index < len(path.parts):
                node = entered(node, path.parts[index])
        return True

    # -- trees ------------------------------------------------------------------------------------------------

    def walk(self, path: WPath, enter: Callable[[WPath, Look], bool] = lambda path, look: True) -> Iterator[tuple[WPath, Look]]:
        look = self.look(path)
        if look is None:
            return
        yield path, look
        if enter(path, look) and look.is_folder:
            for name in self.names(path):
                yield from self.walk(path.child(name), enter)

    def find(self, path: WPath, wanted: Callable[[str], object]) -> Iterator[tuple[WPath, Look]]:
        for found, look in self.walk(path):
            if not look.is_folder and wanted(found.name):
                yield found, look

    def measure(self, path: WPath, processes: int = 2) -> Measure:
        found = {look.identity: look for _, look in self.walk(path)}.values()
        files = [look for look in found if look.is_file]
        return Measure(len(found), len(files), sum(f.size for f in files), sum(1 for f in files if f.mode & PRIVILEGED))

    # -- volumes ----------------------------------------------------------------------------------------------

    def mounts_in(self, path: WPath) -> list[str]:
        return []

    def layered(self, path: WPath) -> bool:
        return False

    def mount_root(self, path: WPath) -> WPath:
        return WPath(self.style, path.volume, ())

    def space(self, path: WPath) -> Space:
        return Space(self.roots[path.volume].volume, FREE)
