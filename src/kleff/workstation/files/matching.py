"""Finding what a pattern of a path means in a tree of files."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice

from kleff.errors import LinkOnTheWay
from kleff.procedure.globs import is_glob, literal, name_matches
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath


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
    base = files.resolve(WPath(files.style, volume, (*names, "-"))).path.parent
    look = files.look(base)
    if look is not None and look.is_link:
        raise LinkOnTheWay(f"the folder {base} on the way is a link to {files.read_link(base)}")
    found = sorted(set(islice(_matches(files, base, tuple(pattern[fixed:])), limit or None)), key=lambda p: p.parts)
    last: WPath | None = None
    for path in found:
        if last is None or not path.below(last):
            last = path
            yield path


def _matches(files: FileTree, base: WPath, pattern: tuple[str, ...]) -> Iterator[WPath]:
    head, rest = pattern[0], pattern[1:]
    if head == "**" and rest:
        yield from _matches(files, base, rest)
        for path, look in files.walk(base):
            if look.is_folder and path != base:
                yield from _matches(files, path, rest)
        return
    for name in files.names(base):
        if head == "**" or name_matches(head, name, files.style.folded):
            path = base.child(name)
            if not rest:
                yield path
            elif _is_folder(files, path):
                yield from _matches(files, path, rest)


def _is_folder(files: FileTree, path: WPath) -> bool:
    look = files.look(path)
    return look is not None and look.is_folder
