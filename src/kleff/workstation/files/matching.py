"""Finding what a pattern of a path means in a tree of files."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from itertools import islice

from kleff.errors import LinkOnTheWay
from kleff.procedure.globs import is_glob, literal, name_matches
from kleff.workstation.files.folders import real_folder
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import Look, WPath
from kleff.workstation.short_names import may_be_short


def expand(files: FileTree, volume: str, pattern: Sequence[str], limit: int) -> Iterator[WPath]:
    """See `FileTree.expand`."""
    fixed = 0
    while fixed < len(pattern) and not is_glob(pattern[fixed]):
        fixed += 1
    names = tuple(literal(p) for p in pattern[:fixed])
    if fixed == len(pattern):
        resolved = files.resolve(WPath(files.style, volume, names))
        if resolved.there and files.look(resolved.path) is not None:
            yield resolved.path
        return
    base = real_folder(files, WPath(files.style, volume, names))
    look = files.look(base)
    if look is not None and look.is_link:
        raise LinkOnTheWay(f"the folder {base} on the way is a link to {files.read_link(base)}")
    if look is None or not look.is_folder:
        return
    found = sorted(set(islice(_matches(files, base, _simplest(pattern[fixed:])), limit or None)), key=lambda p: p.parts)
    last: WPath | None = None
    for path in found:
        if last is None or not path.below(last):
            last = path
            yield path


def _simplest(pattern: Sequence[str]) -> list[str]:
    """The same with one `**` for several that follow one another."""
    return [part for n, part in enumerate(pattern) if part != "**" or n + 1 == len(pattern) or pattern[n + 1] != "**"]


def _matches(files: FileTree, base: WPath, pattern: Sequence[str]) -> Iterator[WPath]:
    """Every path that matches below a folder, in no order. Each folder is asked once for what each place in the pattern means there."""
    todo, seen = [(base, 0)], set[tuple[WPath, int]]()
    while todo:
        folder, at = todo.pop()
        if (folder, at) in seen:
            continue
        seen.add((folder, at))
        last = at == len(pattern) - 1
        if pattern[at] == "**" and not last:
            todo += [(folder, at + 1), *((below, at + 1) for below in _folders_below(files, folder, at, seen))]
            continue
        for name in files.names(folder):
            if pattern[at] == "**" or name_matches(pattern[at], name, files.style.folded) or _by_short(files, folder, name, pattern[at]):
                path = folder.child(name)
                if last:
                    yield path
                elif _is_folder(files, path):
                    todo.append((path, at + 1))


def _by_short(files: FileTree, folder: WPath, name: str, part: str) -> bool:
    """Whether a part of a pattern is a short name, and means this one. Wildcards mean long names alone: most short ones would match."""
    if not files.style.folded or not may_be_short(part):
        return False
    with suppress(OSError), files.folder(folder) as opened:
        return name_matches(part, opened.short_name(name), True)
    return False


def _folders_below(files: FileTree, top: WPath, at: int, seen: set[tuple[WPath, int]]) -> Iterator[WPath]:
    """The folders below one that no `**` at this place has come to yet; from now on it has."""
    mine = {top}

    def enter(path: WPath, look: Look) -> bool:
        return path in mine or (path, at) not in seen

    for path, look in files.walk(top, enter):
        if look.is_folder and path != top and (path, at) not in seen:
            mine.add(path)
            seen.add((path, at))
            yield path


def _is_folder(files: FileTree, path: WPath) -> bool:
    look = files.look(path)
    return look is not None and look.is_folder
