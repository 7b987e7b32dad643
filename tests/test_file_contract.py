"""What every file tree has to do, tried on generated acts: the one in memory answers as the one on the disk, errors too."""

from __future__ import annotations

import itertools
import os
import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from kleff.errors import LinkOnTheWay
from kleff.procedure.globs import POSIX, WINDOWS, PathStyle, fold
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.memory.tree import MemoryTree
from kleff.workstation.paths import WPath
from kleff.workstation.posix.tree import PosixTree
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.system.files.tree import NtTree
from support import IS_ROOT
from wine.fixtures import on_wine

NAMES = st.sampled_from(["a", "b", "A", "ä", "x y", ".hidden"])
PATHS = st.lists(NAMES, min_size=1, max_size=3).map(tuple)
ACTS = st.one_of(
    st.tuples(st.just("make_folder"), PATHS),
    st.tuples(st.just("create"), PATHS, st.binary(max_size=3)),
    st.tuples(st.just("make_link"), PATHS, st.sampled_from(["a", "../b", "b/A", "nowhere"])),
    *(st.tuples(st.just(verb), PATHS, PATHS) for verb in ("rename", "link", "copy_tree")),
    st.tuples(st.just("measure"), PATHS),
    *(st.tuples(st.just(verb), PATHS) for verb in ("remove", "remove_if_empty", "delete_tree", "remove_single", "set_mode")),
    *(st.tuples(st.just(verb), PATHS) for verb in ("look", "names", "read", "read_link", "resolve", "walk", "sha256", "spelled")),
)


def kind_of(files: FileTree, path: WPath, permissions: bool) -> object:
    look = files.look(path)
    if look is None:
        return None
    return (look.word, look.mode & 0o777 if permissions else 0, look.size if look.is_file else 0, look.links if look.is_file else 0)


class Does:
    """Acts on a tree, each a few verbs; what comes back can be compared between trees.

    Args:
        base: the folder in which it acts; permissions: those of a POSIX system are told.
    """

    def __init__(self, files: FileTree, base: tuple[str, ...] = (), permissions: bool = True) -> None:
        self.files = files
        self._base = base
        self._permissions = permissions

    def path(self, names: tuple[str, ...]) -> WPath:
        return WPath(self.files.style, next(iter(self.files.volumes)), (*self._base, *names))

    def act(self, verb: str, names: tuple[str, ...], more: Any = None) -> object:
        path, files = self.path(names), self.files
        looking: dict[str, Callable[[], object]] = {
            "look": lambda: kind_of(files, path, self._permissions),
            "names": lambda: files.names(path),
            "read": lambda: files.read(path),
            "read_link": lambda: files.read_link(path),
            "resolve": lambda: (files.resolve(path).path.parts, files.resolve(path).there, len(files.resolve(path).links)),
            "walk": lambda: sorted((p.parts, look.word) for p, look in files.walk(path)),
            "measure": lambda: files.measure(path),
            "sha256": lambda: files.sha256(path),
            "remove_single": lambda: files.remove_single(path),
        }
        if verb in looking:
            return looking[verb]()
        with files.parent(path) as (folder, name):
            return self._in(folder, name, verb, more)

    def _in(self, folder: Any, name: str, verb: str, more: Any) -> object:
        if verb == "spelled":
            return name
        if verb == "create":
            file = folder.create(name)
            file.write(more)
            file.close()
        elif verb == "set_mode":
            with folder.folder(name) as below:
                below.set_mode(0o711)
        elif verb == "make_link":
            folder.make_link(name, more)
        elif verb == "copy_tree" and not folder.look_at(name).is_folder:
            return "only folders are copied so"
        elif verb in ("rename", "link", "copy_tree"):
            with self.files.parent(self.path(more)) as (to, to_name):
                getattr(folder, verb)(name, to, to_name, *([lambda items, size: None] if verb == "copy_tree" else []))
        elif verb == "delete_tree":
            gone: list[int] = []
            folder.delete_tree(name, gone.append)
            return sum(gone)
        else:
            getattr(folder, verb)(name)
        return None


def told(does: Does, act: tuple[Any, ...]) -> object:
    """What an act gives, or how it fails."""
    try:
        return does.act(*act)
    except OSError as error:
        return next(kind for kind in type(error).__mro__ if kind.__module__ == "builtins"), error.errno
    except LinkOnTheWay:
        return "link on the way"


def below_itself(act: tuple[Any, ...]) -> bool:
    """A copy or move of something into itself, which no caller does."""
    return act[0] in ("rename", "copy_tree") and [fold(n) for n in act[2][: len(act[1])]] == [fold(n) for n in act[1]]


@pytest.mark.skipif(not IS_ROOT, reason="needs root: links are trusted that an administrator has made")
@pytest.mark.parametrize(("style", "volume"), [(POSIX, ""), (WINDOWS, "C:")])
@settings(max_examples=150, deadline=None)
@given(acts=st.lists(ACTS.filter(lambda act: not below_itself(act)), max_size=25))
def test_in_memory_as_on_the_disk(style: PathStyle, volume: str, acts: list[tuple[Any, ...]]) -> None:
    top = Path(tempfile.mkdtemp(dir="/dev/shm" if Path("/dev/shm").is_dir() else None))
    os.umask(0o022)
    try:
        disk, memory = Does(PosixTree(style, {volume: top})), Does(MemoryTree(style, (volume,)))
        for act in acts:
            assert told(memory, act) == told(disk, act), act
        everything = ("walk", ())
        assert told(memory, everything) == told(disk, everything)
    finally:
        shutil.rmtree(top)


BASE = itertools.count()


@pytest.mark.parametrize("_", [pytest.param("wine", marks=on_wine)])
@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(acts=st.lists(ACTS.filter(lambda act: not below_itself(act) and act[0] not in ("make_link", "read_link")), max_size=25))
def test_in_memory_as_on_a_running_windows(_: str, api: Api, prefix: Path, acts: list[tuple[Any, ...]]) -> None:
    """As far as Wine can show it: links and permissions it cannot."""
    base = (f"contract {next(BASE)}",)
    real, model = NtTree(api, {"C:": prefix / "drive_c"}), MemoryTree(WINDOWS, ("C:",))
    for files in (real, model):
        with files.folder(WPath(WINDOWS, "C:", ())) as top:
            top.make_folder(base[0])
    windows, memory = Does(real, base, False), Does(model, base, False)
    for act in (*acts, ("walk", ())):
        assert told(memory, act) == told(windows, act), act
