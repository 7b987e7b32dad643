"""Every error a person can meet, in one place, each with its exit code.

The codes go by what they mean for the workstation: 1 stopped with the case open, 2 wrong input and nothing
changed, 3 refused and nothing changed, 4 finished but not clean, 5 a restart is needed, 130 interrupted.
"""

from __future__ import annotations

import errno
from collections.abc import Sequence
from typing import Self


class KleffError(Exception):
    """Something a person must know: what happened, where, and what to do about it.

    Args:
        what: one line that says what is wrong.
        where: file and line, path or key it is about; shown before the text.
        remedy: what to do next.
        said: the last lines of what a program said about it.
    """

    exit_code = 1

    def __init__(self, what: str, *, where: str = "", remedy: str = "", said: Sequence[str] = ()) -> None:
        super().__init__(what)
        self.what = what
        self.said = list(said)
        self.where = where
        self.remedy = remedy

    def __str__(self) -> str:
        text = f"{self.where}: {self.what}" if self.where else self.what
        return f"{text}\n  What to do: {self.remedy}" if self.remedy else text


class Located(str):
    """A problem of a file as a full line, which knows its parts.

    Attributes:
        code: what sort of problem it is, one short word; message: without the place.
    """

    file: str
    line: int
    column: int
    code: str
    message: str

    def __new__(cls, file: str, line: int, column: int, code: str, message: str) -> Self:
        made = super().__new__(cls, f"{file}:{line}:{column}: {message}")
        made.file, made.line, made.column, made.code, made.message = file, line, column, code, message
        return made


class Stopped(KleffError):
    """An action failed; the case is open."""

    exit_code = 1


class Unflushed(Stopped):
    """What was done cannot be brought to the disk. What the system shows of that volume is not believed until it was mounted anew: after an
    error it may show what the disk does not hold.

    Attributes:
        volume: the mount, as the host tells it from a later one.
    """

    exit_code = 1

    def __init__(self, what: str, *, volume: str = "", where: str = "", remedy: str = "", said: Sequence[str] = ()) -> None:
        super().__init__(what, where=where, remedy=remedy, said=said)
        self.volume = volume


class ActionFailed(KleffError):
    """One action could not be done. The engine turns it into `Stopped` unless the step is optional."""

    exit_code = 1


class NotTold(ActionFailed):
    """What a variable stands for cannot be told, though such a system has it: nobody can look there."""

    exit_code = 1


class InUse(ActionFailed):
    """Something cannot be moved, since a program holds it, or something in it, open."""

    exit_code = 1


class EndedBadly(ActionFailed):
    """A program that removes a product ended with an exit code that means failure: `code`."""

    exit_code = 1

    def __init__(self, what: str, *, code: int, where: str = "", remedy: str = "", said: Sequence[str] = ()) -> None:
        super().__init__(what, where=where, remedy=remedy, said=said)
        self.code = code


class StillAtWork(ActionFailed):
    """A program has not ended in time; it was not cut off, and nothing else may be begun while it works."""

    exit_code = 1


class DamagedCase(KleffError):
    """A case or bag that cannot be read, or does not match its checksums."""

    exit_code = 3


class CannotRead(KleffError):
    """A file of a case that the system does not let be read now; it need not be damaged."""

    exit_code = 3


class NeverBegun(DamagedCase):
    """A case folder in which nothing has been written: Kleff was killed, or hindered, while it was made."""

    exit_code = 3

    def __init__(self, *, where: str) -> None:
        super().__init__(
            "the case was never begun: nothing has been written into it", where=where, remedy="it holds nothing; delete its folder"
        )


class NewerCase(KleffError):
    """A case that a newer Kleff made."""

    exit_code = 3

    def __init__(self, what: str, *, where: str = "", remedy: str = "use the Kleff that made the case, or a newer one") -> None:
        super().__init__(what, where=where, remedy=remedy)


class DamagedBag(KleffError):
    """A bag that is damaged or not to be trusted; nothing of it was used."""

    exit_code = 3


class UsageError(KleffError):
    """A command line that makes no sense."""

    exit_code = 2


class ProcedureError(KleffError):
    """A procedure that is not valid.

    Args:
        problems: every problem that was found, each a full line with its place.
    """

    exit_code = 2

    def __init__(self, problems: Sequence[str], *, remedy: str = "") -> None:
        super().__init__("\n".join(problems), remedy=remedy)
        self.problems = list(problems)


class Refused(KleffError):
    """The guard, a missing permission or a missing confirmation said no; nothing was changed."""

    exit_code = 3


class LinkOnTheWay(Refused):
    """A folder on the way is a link that somebody other than an administrator can change."""


class NoSuchWorkstation(KleffError):
    """The workstation that was named is not there, or its folder is incomplete."""

    exit_code = 3


class NoSuchCase(KleffError):
    """The case that was named does not exist."""

    exit_code = 3


class Blocked(KleffError):
    """An unfinished case or another running Kleff stands in the way."""

    exit_code = 3


class NotClean(KleffError):
    """Finished, but something is left."""

    exit_code = 4


class RestartNeeded(KleffError):
    """The workstation must be restarted before the case can go on."""

    exit_code = 5


class StopAtOnce(BaseException):
    """The technician asked a second time; passes through every handler but the last, as KeyboardInterrupt does."""


class Interrupted(KleffError):
    """The technician (or the system) asked to stop; the case is open."""

    exit_code = 130


_REMEDIES = {
    errno.ENOSPC: "make room on its volume",
    errno.EDQUOT: "make room: the account's quota on its volume is used up",
    errno.EROFS: "make its volume writable: it is mounted read-only",
    errno.EBUSY: "close what uses it",
    errno.ETXTBSY: "end the program: it is running",
    errno.EIO: "copy what matters and check the disk before anything else",
    errno.ENOTCONN: "connect its volume again",
    errno.ESTALE: "connect its volume again",
    errno.EMFILE: "close other programs: too many files are open",
    errno.ENFILE: "close other programs: too many files are open",
    errno.EACCES: "run Kleff as administrator, or see whether a protection program forbids it",
    errno.EPERM: "check the rights on it, whether it is marked immutable, and whether a protection program forbids it",
}


def remedy_for(error: OSError, then: str = "resume", otherwise: str = "look at it") -> str:
    """What to do about what the system said, by its cause.

    Args:
        then: what to do once that is mended.
        otherwise: for a cause that is not known.
    """
    return f"{_REMEDIES.get(error.errno or 0, otherwise)}; then {then}"


def cannot_read(error: OSError, where: str) -> CannotRead:
    """What the system said when a file of a case was read."""
    return CannotRead(
        f"cannot be read: {error.strerror or error}", where=where, remedy=remedy_for(error, "try again", "look at its volume")
    )
