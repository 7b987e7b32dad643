"""A bag that was carried here and that others can change is copied to where they cannot, before anything of it is believed."""

from __future__ import annotations

import contextlib
import shutil
from collections.abc import Iterator
from pathlib import Path

from kleff.case.bag.reading import PIECE, RELY, sizes_of
from kleff.case.record.trust import check_trusted
from kleff.errors import DamagedCase, Refused, remedy_for
from kleff.progress import Progress
from kleff.texts import plain, size
from kleff.workstation.facets import Workstation
from kleff.workstation.files.protocol import File, Folder
from kleff.workstation.host import Busy
from kleff.workstation.this_machine import host

NAME = "carried"  # of the copy, in the case that works with it


def can_be_changed(folder: Path, workstation: Workstation) -> bool:
    """Whether others than an administrator can change a bag, where that can be asked for."""
    if host().weak_spot(workstation.ground) is not None:
        return False
    return any(host().weak_spot(path) is not None for path in (folder, *(folder / name for name in sizes_of(folder))))


@contextlib.contextmanager
def in_safety(folder: Path, cases: Path, workstation: Workstation, progress: Progress) -> Iterator[Path]:
    """Where a bag can be read without being exchanged meanwhile: in its place, or in a copy in the folder of cases.

    In the end the copy is deleted, unless a case has taken it over.

    Raises:
        DamagedCase: something in it is neither a file nor a folder; nothing of it was opened.
        Refused: there is no room, or it cannot be copied.
    """
    if not can_be_changed(folder, workstation):
        yield folder
        return
    room = _room(cases, workstation)
    try:
        with host().lock(room / "lock", "a bag is copied here"):
            _check_space(folder, room)
            copy = room / NAME
            progress.say("others can change the bag: it is copied first")
            progress.start("copying the bag", size=sum(sizes_of(folder).values()))
            _copy_bag(folder, copy, progress)
            yield copy
    finally:
        shutil.rmtree(room, ignore_errors=True)


def take_over(copy: Path, case: Path) -> Path:
    """Give the copy to the case that works with it from now on; returns where it is then."""
    copy.rename(case / NAME)
    host().flush_folder(case)
    return case / NAME


def drop(case: Path) -> None:
    """Delete the copy of a case that is over: the bag itself is where it was."""
    shutil.rmtree(case / NAME, ignore_errors=True)


def _room(cases: Path, workstation: Workstation) -> Path:
    """A new folder of its own; those are deleted that a Kleff has left which was killed."""
    try:
        if not cases.is_dir():
            host().make_private(cases)
        check_trusted(cases, "the folder of cases", workstation)
        for old in cases.glob(f".{NAME}-*"):
            with contextlib.suppress(Busy, OSError), host().lock(old / "lock", ""):
                shutil.rmtree(old)
        number = next(n for n in range(1, 1000) if not (cases / f".{NAME}-{n}").exists())
        room = cases / f".{NAME}-{number}"
        host().make_private(room)
    except OSError as error:
        raise Refused(
            f"the bag cannot be copied there: {error.strerror}", where=str(cases), remedy="name another folder with --cases"
        ) from None
    return room


def _check_space(folder: Path, room: Path) -> None:
    needed, free = sum(sizes_of(folder).values()), shutil.disk_usage(room).free
    if needed > free:
        raise Refused(
            f"others can change the bag, so it is copied first: {size(needed)}, and {size(free)} are free", where=str(room.parent),
            remedy="make room, or name another folder with --cases",
        )  # fmt: skip


def _copy_bag(folder: Path, copy: Path, progress: Progress) -> None:
    try:
        with host().folder(folder) as source:
            _copy(source, copy, progress)
    except OSError as error:
        where, remedy = str(folder), remedy_for(error, "try again")
        raise Refused(f"the bag cannot be copied: {error.strerror}", where=where, remedy=remedy) from None


def _copy(source: Folder, target: Path, progress: Progress) -> None:
    target.mkdir(mode=0o700)
    for name in source.names():
        look = source.look_at(name)
        if look.is_folder:
            with source.folder(name) as below:
                _copy(below, target / name, progress)
        elif look.is_file:
            with source.file(name) as file:
                _copy_file(file, target / name, look.size, progress)
        else:
            raise DamagedCase(f"holds what no bag holds: {plain(name)}", where=str(target), remedy=RELY)


def _copy_file(file: File, target: Path, most: int, progress: Progress) -> None:
    """No more than it had when it was looked at: it may be growing, or be another thing by now."""
    if not file.look().is_file:
        what = f"{plain(target.name)} in the bag was exchanged while it was copied"
        raise Refused(what, where=str(target), remedy="take the bag to a place of your own")
    with host().open_new(target) as out:
        while most > 0 and (data := file.read(min(PIECE, most))):
            out.write(data)
            most -= len(data)
            progress.step(size=len(data))
