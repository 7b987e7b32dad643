"""Short names on a lab, whose files have none of their own: made by the rule in the order in which things came, or as `lab.toml` says.

Each is kept in `state/short.json`, by where it stands; what is renamed gets a new one, as on a Windows.
"""

from __future__ import annotations

import errno
import os
from itertools import islice

import msgspec

from kleff.procedure.globs import fold
from kleff.workstation.lab.lab import Lab
from kleff.workstation.short_names import Shorts
from kleff.workstation.this_machine import host

MOST = 64  # names in a folder; in a larger one of a lab nothing has a short name, so that nothing here is quadratic


class LabShorts:
    """Implements `ShortNames`."""

    def __init__(self, lab: Lab) -> None:
        self._lab = lab
        self._file = lab.folder / "state" / "short.json"
        self._files = f"{os.path.realpath(lab.folder / 'files')}/"
        self._tops = [self._files + drive[:1] for drive in lab.file.short_names]

    def long(self, fd: int, short: str) -> str:
        """What is called so; "" for nothing."""
        names = _some(fd)
        shorts = self._table(fd, names)
        key = shorts.whose(fold(short)) if shorts is not None else ""
        return next((name for name in names if fold(name) == key), "")

    def of(self, fd: int, name: str) -> str:
        shorts = self._table(fd, _some(fd))
        return shorts.of(fold(name)) if shorts is not None else ""

    def give(self, fd: int, name: str, short: str) -> None:
        names = _some(fd)
        shorts = self._table(fd, names)
        if shorts is None:
            raise OSError(errno.EOPNOTSUPP, "has no short names", name)
        if shorts.whose(fold(short)) not in ("", fold(name)) or fold(short) in {fold(n) for n in names} - {fold(name)}:
            raise OSError(errno.EEXIST, "another has this short name", short)
        self._change(self._given() | {self._place(fd, name): fold(short)})

    def left(self, fd: int, name: str) -> None:
        """It has another name now, or another folder."""
        place, given = self._place(fd, name), self._given()
        if given.pop(place, ""):
            self._change(given)

    def _table(self, fd: int, names: list[str]) -> Shorts | None:
        """None where there are none."""
        if len(names) > MOST or not any(_where(fd).startswith(top) for top in self._tops):
            return None
        folder, given, shorts, others = self._folder(fd), self._given(), Shorts(), {fold(name) for name in names}
        for name in names:
            if short := given.get(folder + fold(name)):
                shorts.give(fold(name), short)
        for name in sorted(names, key=lambda name: (_came(fd, name), name)):
            if not shorts.of(fold(name)):
                shorts.came(name, others)
        self._remember(folder, given, {fold(name): short for name in names if (short := shorts.of(fold(name)))})
        return shorts

    def _remember(self, folder: str, given: dict[str, str], now: dict[str, str]) -> None:
        """Each keeps its own for as long as it stands there, whatever goes or comes beside it; what has gone has none."""
        there = {folder + name: short for name, short in now.items()}
        before = {place: short for place, short in given.items() if place.rpartition("/")[0] == folder[:-1]}
        if there != before:
            self._change({place: short for place, short in given.items() if place not in before} | there)

    def _place(self, fd: int, name: str) -> str:
        return self._folder(fd) + fold(name)

    def _folder(self, fd: int) -> str:
        """Where an open folder lies in the lab, with a separator behind."""
        return fold(_where(fd).removeprefix(self._files)) + "/"

    def _given(self) -> dict[str, str]:
        try:
            return msgspec.json.decode(self._file.read_bytes(), type=dict[str, str])
        except FileNotFoundError:
            return {fold(f"{one.path[0]}/{one.path[3:]}".replace("\\", "/")): fold(one.name) for one in self._lab.file.short}

    def _change(self, given: dict[str, str]) -> None:
        with self._lab.locked():
            host().write_atomic(self._file, msgspec.json.format(msgspec.json.encode(given), indent=1))


def _where(fd: int) -> str:
    """Where an open folder lies here. On Windows, whose files have short names of their own, nothing here is ever asked."""
    from kleff.workstation.posix.calls import host_path

    return host_path(fd)


def _some(fd: int) -> list[str]:
    """The names in a folder, of a large one so many that this shows."""
    with os.scandir(fd) as entries:
        return [entry.name for entry in islice(entries, MOST + 1)]


def _came(fd: int, name: str) -> int:
    """When it came into the folder: a rename sets this time too (rename(2))."""
    try:
        return os.stat(name, dir_fd=fd, follow_symlinks=False).st_ctime_ns
    except OSError:
        return 0
