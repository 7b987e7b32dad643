"""A case: one run of one procedure on one workstation, kept in a folder of its own."""

from __future__ import annotations

import contextlib
import os
import re
import shutil
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path

from kleff.case.record import reserve
from kleff.case.record.effect import dump
from kleff.case.record.journal import Journal
from kleff.case.record.trust import check_trusted
from kleff.case.record.unfinished import MARK, Mark, clear_mark, is_of, read_mark, set_mark
from kleff.errors import Blocked, DamagedCase, KleffError, NeverBegun, NewerCase, NoSuchCase, Refused, Stopped, UsageError
from kleff.texts import now, typed
from kleff.workstation.facets import Workstation
from kleff.workstation.this_machine import host

DAY = re.compile(r"\d{4}-\d{2}-\d{2}-")  # with which the id of a case begins
UNFINISHED = ("open", "waiting", "undoing")


class Case:
    """An open case folder.

    Attributes:
        folder: holds `case.db`, `bag/`, `undo/`, `output/`.
        state: `open`, `waiting` (for a restart), `finished`, `undoing`, `undone`, `discarded`.
    """

    def __init__(self, folder: Path, journal: Journal) -> None:
        self.folder = folder
        self.journal = journal

    @property
    def id(self) -> str:
        return str(self.journal.get("id"))

    @property
    def state(self) -> str:
        return str(self.journal.get("state"))

    def text(self, key: str) -> str:
        value = self.journal.get(key)
        return "" if value is None else str(value)

    def close(self) -> None:
        self.journal.close()

    def __enter__(self) -> Case:
        return self

    def __exit__(self, *error: object) -> None:
        self.close()

    def keep(self, **values: object) -> None:
        """Keep what has become known of the case: texts as they are, structs as JSON that `load` reads back."""
        self.journal.set(**{key: value if isinstance(value, str) else dump(value) for key, value in values.items()})

    def output(self, number: int) -> Path:
        """Where the output of an outside program is kept."""
        return self.folder / "output" / f"{number:04d}.txt"

    def log(self, number: int) -> Path:
        """Where a program keeps a log of its own beside its output."""
        return self.folder / "output" / f"{number:04d}-log.txt"

    def enter(self, workstation: Workstation, state: str) -> None:
        """Go to a state; the mark on the workstation follows, set before and cleared after."""
        if state in UNFINISHED:
            set_mark(workstation, Mark(case=self.id, folder=str(self.folder), product=self.text("product")))
            self.journal.set(state=state)
            return
        self.journal.set(state=state, ended=now())
        if state != "finished":
            reserve.drop(self.folder)  # of a finished one, undo may need the room
        with contextlib.suppress(OSError):  # the case says that it has ended, and is believed
            clear_mark(workstation, self.id, self.folder)


def create_case(cases: Path, workstation: Workstation, procedure: bytes, stem: str, **facts: str) -> Case:
    """Make a new case folder; never one that is there already.

    Args:
        procedure: the copy that is kept.
        stem: short name of the product, for the folder's name.
        facts: further texts for the journal (ticket, technician, product name ...).

    Raises:
        Blocked: another case is unfinished on the workstation.
        Refused: the folder cannot be made.
    """
    check_unmarked(workstation)
    try:
        if not cases.is_dir():
            host().make_private(cases)
        folder = _new_folder(cases, f"{datetime.now().astimezone():%Y-%m-%d}-{stem}")
        for name in ("undo", "output"):
            (folder / name).mkdir(mode=0o700)
        host().flush_folder(folder)
        host().flush_folder(cases)
    except OSError as error:
        raise Refused(f"cannot make a case there: {error.strerror}", where=str(cases), remedy="name another folder with --cases") from None
    try:
        journal = Journal(folder / "case.db", create=True)
        try:
            journal.set(
                id=folder.name, state="new", made=now(), procedure=procedure, workstation=workstation.spec,
                host=workstation.name, identity=workstation.identity, boot=workstation.boot, product_id=stem,
                system=workstation.system, **facts,
            )  # fmt: skip
        except BaseException:
            journal.close()
            raise
    except (DamagedCase, Stopped) as error:
        shutil.rmtree(folder)  # made a moment ago, and empty but for a journal that could not be begun
        raise Refused(
            f"cannot make a case there: {error.what}", where=str(cases), remedy="make room, or name another folder with --cases"
        ) from None
    return Case(folder, journal)


def _new_folder(cases: Path, stem: str) -> Path:
    for number in range(1, 10_000):
        folder = cases.absolute() / f"{stem}-{number}"
        try:
            host().make_private(folder)
        except FileExistsError:
            continue
        return folder
    raise OSError(17, "too many cases of one day")


def find_case(name: str, cases: Path) -> Path:
    """The folder of a case named by its folder or its id, which may be given without its day where only one is called so.

    Raises:
        NoSuchCase: there is none, or there are several.
    """
    for folder in (Path(name), cases / name):
        if (folder / "case.db").is_file():
            return Path(os.path.realpath(folder))
    called_so = [f for f in all_cases(cases) if DAY.sub("", f.name, count=1) == name and DAY.match(f.name)]
    if len(called_so) == 1:
        return Path(os.path.realpath(called_so[0]))
    if called_so:
        raise NoSuchCase("several cases are called so", where=name, remedy=f"give the day too: {', '.join(f.name for f in called_so)}")
    if Path(name).is_dir():
        raise NoSuchCase("not a case: case.db is missing", where=name, remedy="kleff cases  lists the cases")
    raise NoSuchCase(f"there is no such case in {cases}", where=name, remedy="kleff cases  lists the cases; --cases names their folder")


def the_unfinished(cases: Path) -> Path:
    """The one case that is unfinished.

    Raises:
        UsageError: there is none, or there are several.
    """
    found = []
    for folder in all_cases(cases):
        with contextlib.suppress(DamagedCase, NeverBegun, NewerCase), open_case(folder) as case:
            found += [folder] if case.state in UNFINISHED else []
    if len(found) != 1:
        listed = ", ".join(folder.name for folder in found)
        what = f"several cases are unfinished: {listed}" if found else f"no case in {cases} is unfinished"
        raise UsageError(what, remedy="name the case;  kleff cases  lists them")
    return found[0]


def open_case(folder: Path, writable: bool = False) -> Case:
    """Open a case.

    Raises:
        DamagedCase: the journal cannot be read.
    """
    journal = Journal(folder / "case.db", writable=writable)
    case = Case(folder, journal)
    if journal.get("id") is None or journal.get("identity") is None:
        journal.close()
        raise NeverBegun(where=str(folder))
    return case


def all_cases(cases: Path) -> Iterator[Path]:
    """The case folders below a folder, in order."""
    if cases.is_dir():
        yield from sorted(p for p in cases.iterdir() if (p / "case.db").is_file())


def check_belongs(case: Case, workstation: Workstation) -> None:
    """A case is worked on only where it was made, and only where nobody else could have changed it.

    Raises:
        Refused: another workstation, or a folder that others can write.
    """
    if case.text("identity") != workstation.identity:
        raise Refused(
            f"the case was made on another workstation ({case.text('host')}, {case.text('workstation')})", where=str(case.folder),
            remedy="work on it there; a copy of a workstation is another one. What it saved can be put back here too:  "
            f"kleff restore {typed(str(case.folder / 'bag'))} --procedure FILE --on {typed(workstation.spec)}",
        )  # fmt: skip
    check_trusted(case.folder, "the case", workstation)


def _is_marked(case: Case, mark: Mark) -> bool:
    """Whether a mark is a case's own; its folder may have been moved since."""
    moved = mark.case == case.id and case.state in UNFINISHED and not Path(mark.folder).is_dir()
    return moved or is_of(mark, case.id, case.folder)


def _ended(folder: Path) -> bool:
    """Whether a marked case has ended all the same: it was cut off between its last entry and the clearing of its mark."""
    return _state_of(folder) not in (*UNFINISHED, "new", "")


def _state_of(folder: Path) -> str:
    """The state of a case; "" if it cannot be told."""
    try:
        with open_case(folder) as case:
            return case.state
    except (KleffError, OSError):
        return ""


def check_unmarked(workstation: Workstation, case: Case | None = None) -> None:
    """Raise `Blocked` if another case is unfinished here."""
    mark = read_mark(workstation)
    if mark is None or (case is not None and _is_marked(case, mark)) or _ended(Path(mark.folder)):
        return
    if not Path(mark.folder).is_dir():
        raise Blocked(
            f"the unfinished case {mark.case} belongs here, but its folder {mark.folder} is gone", where=workstation.spec,
            remedy=f"bring the folder back; or, if it is lost, delete {workstation.state / MARK}",
        )  # fmt: skip
    half = f"go on taking it back with  kleff undo {mark.folder}"
    ways = f"finish it with  kleff resume {mark.folder}  or take it back with  kleff undo {mark.folder}"
    raise Blocked(
        f"the case {mark.case} ({mark.product}) is unfinished", where=workstation.spec,
        remedy=half if _state_of(Path(mark.folder)) == "undoing" else ways,
    )  # fmt: skip
