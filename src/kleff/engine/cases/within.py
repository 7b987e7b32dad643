"""What goes wrong once a case is at work: told with the case and the ways on, and never as if nothing had been changed."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec

from kleff.case.record.effect import dump, load
from kleff.case.record.folder import Case
from kleff.errors import (
    Interrupted,
    KleffError,
    NewerCase,
    NotClean,
    RestartNeeded,
    Stopped,
    Unflushed,
    UsageError,
    remedy_for,
)
from kleff.texts import typed
from kleff.workstation.this_machine import host

TOLD_AS_THEY_ARE = (Interrupted, NewerCase, NotClean, RestartNeeded, UsageError)
UNFLUSHED = "unflushed"


class Doubt(msgspec.Struct, kw_only=True):
    """A volume of which nothing is believed: where, and its mount as it was."""

    where: str
    volume: str


def ways_on(folder: Path, undoing: bool = False) -> str:
    """The commands that go on with an unfinished case."""
    case = typed(str(folder))
    if undoing:
        return f"then go on with  kleff undo {case}"
    return f"then go on with  kleff resume {case}  or take it all back with  kleff undo {case}"


@contextmanager
def within(case: Case, undoing: bool = False) -> Iterator[None]:
    """From here on the workstation is changed: whatever goes wrong leaves the case open, and says so.

    Raises:
        Stopped: for every error that would say else that nothing was changed.
    """
    try:
        _check_believed(case)
        yield
    except TOLD_AS_THEY_ARE:
        raise
    except Unflushed as error:
        with contextlib.suppress(KleffError):  # where the journal cannot be written either, nothing in it is taken for done
            case.keep(unflushed=dump(Doubt(where=error.where, volume=error.volume)))
        raise _stopped(error, case, undoing) from None
    except KleffError as error:
        raise _stopped(error, case, undoing) from None
    except OSError as error:
        what = f"{error.strerror or error}" + (f": {error.filename}" if error.filename else "")
        raise _stopped(Stopped(what, where=str(case.folder), remedy=remedy_for(error, "", "look at it")), case, undoing) from None


@contextmanager
def told_after(folder: Path) -> Iterator[None]:
    """When all is done: what goes wrong in telling it is not as if nothing had been changed.

    Raises:
        Stopped: the case cannot be read now.
    """
    try:
        yield
    except (*TOLD_AS_THEY_ARE, Stopped):
        raise
    except KleffError as error:
        what, remedy = error.what, error.remedy
    except OSError as error:
        what, remedy = error.strerror or str(error), remedy_for(error, "", "look at it").removesuffix("; then ")
    else:
        return
    case = typed(str(folder))
    ways = f"then see what was done with  kleff report {case}  or take it back with  kleff undo {case}"
    raise Stopped(f"it is done, but its case cannot be read: {what}", where=str(folder), remedy=f"{remedy}; {ways}")


def _stopped(error: KleffError, case: Case, undoing: bool) -> Stopped:
    """The same as an error that leaves the case open. One that names the ways on already stays as it is."""
    named = f"kleff undo {typed(str(case.folder))}" in error.remedy or f"kleff undo {case.folder}" in error.remedy
    if isinstance(error, Stopped) and named and not isinstance(error, Unflushed):
        return error
    remedy = error.remedy.removesuffix("; then resume").removesuffix("; then ")
    ways = ways_on(case.folder, undoing)
    return Stopped(error.what, where=error.where or str(case.folder), remedy=f"{remedy}; {ways}" if remedy else ways, said=error.said)


def _check_believed(case: Case) -> None:
    """After a flush that failed, nothing that the same mount shows is believed.

    Raises:
        Unflushed: it has not been mounted anew.
    """
    text = case.text(UNFLUSHED)
    if not text:
        return
    doubt = load(text, Doubt)
    if doubt.volume and host().mount_of(_standing(Path(doubt.where))) == doubt.volume:
        raise Unflushed(
            "what was done there could not be brought to the disk, and what the system shows of it is not believed", where=doubt.where,
            volume=doubt.volume, remedy="check the volume, and mount it anew or restart the workstation",
        )  # fmt: skip
    case.keep(unflushed="")


def _standing(path: Path) -> Path:
    return next(p for p in (path, *path.parents) if p.exists())
