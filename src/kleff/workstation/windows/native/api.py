"""Windows functions by name, their results judged by what they mean."""

from __future__ import annotations

import errno
import os
from collections.abc import Callable, Sequence

from kleff.workstation.windows.native.caller import Answer, Arg, Call, Caller
from kleff.workstation.windows.native.functions import FUNCTIONS, Function

LOW = 0xFFFFFFFF  # what stands above a 32-bit result is not defined
FAILING = 0x80000000  # from here on an NTSTATUS is a warning or an error, an HRESULT an error
ALL_ONES = (1 << 64) - 1

# System error codes and NTSTATUS values (winerror.h, ntstatus.h) that have a name of their own on every system.
MEANINGS = {
    2: errno.ENOENT, 3: errno.ENOENT, 1018: errno.ENOENT, 0xC0000034: errno.ENOENT, 0xC000003A: errno.ENOENT,
    5: errno.EACCES, 1314: errno.EPERM, 0xC0000022: errno.EACCES, 0xC0000061: errno.EPERM,
    32: errno.EBUSY, 0xC0000043: errno.EBUSY, 80: errno.EEXIST, 183: errno.EEXIST, 0xC0000035: errno.EEXIST,
    145: errno.ENOTEMPTY, 0xC0000101: errno.ENOTEMPTY, 0xC0000121: errno.ENOTEMPTY, 112: errno.ENOSPC, 0xC000007F: errno.ENOSPC,
    0xC0000103: errno.ENOTDIR, 0xC00000BA: errno.EISDIR, 267: errno.ENOTDIR, 0xC0000033: errno.EINVAL, 0xC000003B: errno.EINVAL,
    0x80070002: errno.ENOENT, 0x80070005: errno.EACCES,
    0xC0000056: errno.ENOENT, 0xC00000D4: errno.EXDEV, 17: errno.EXDEV, 0xC00000BB: errno.EOPNOTSUPP, 50: errno.EOPNOTSUPP,
}  # fmt: skip
TELLS = {50: "the volume cannot do that", 0xC00000BB: "the volume cannot do that",
         1053: "the service did not answer", 1056: "the service runs already", 1058: "the service is disabled",
         1060: "there is no such service", 1062: "the service is not running", 1072: "the service is marked for deletion",
         1314: "an administrator's right is needed that this account does not have"}  # fmt: skip


class Failed(OSError):
    """A call that failed: the error of that number too (`FileNotFoundError` and its like), so that who catches those catches it.

    Attributes:
        function: which; code: as Windows says it.
    """

    function: str
    code: int

    def __new__(cls, function: str, code: int) -> Failed:
        made = _KINDS.get(MEANINGS.get(code, 0), cls) if cls is Failed else cls
        return super().__new__(made, MEANINGS.get(code, errno.EIO), _told(function, code))

    def __init__(self, function: str, code: int) -> None:
        super().__init__(MEANINGS.get(code, errno.EIO), _told(function, code))
        self.function = function
        self.code = code


def _told(function: str, code: int) -> str:
    shown = f"{code:#x}" if code > 0xFFFF else str(code)
    text = TELLS.get(code) or (os.strerror(MEANINGS[code]) if code in MEANINGS else "it failed")
    return f"{text} ({function} says {shown})"


class _Missing(Failed, FileNotFoundError): ...


class _Taken(Failed, FileExistsError): ...


class _Denied(Failed, PermissionError): ...


class _NoFolder(Failed, NotADirectoryError): ...


class _IsFolder(Failed, IsADirectoryError): ...


_KINDS: dict[int, type[Failed]] = {
    errno.ENOENT: _Missing, errno.EEXIST: _Taken, errno.EACCES: _Denied, errno.EPERM: _Denied, errno.ENOTDIR: _NoFolder,
    errno.EISDIR: _IsFolder,
}  # fmt: skip


class Api:
    """Calls by name: `api.RegCloseKey(handle)` gives the result, cut to its own size, or raises `Failed`."""

    def __init__(self, caller: Caller) -> None:
        self.caller = caller
        self.last_error = 0  # after the last call that succeeded: some do in part, and say so there

    def __getattr__(self, name: str) -> Callable[..., int]:
        function = FUNCTIONS.get(name)
        if function is None:
            raise AttributeError(name)

        def called(*arguments: Arg) -> int:
            answer = self.caller.call(_call(function, arguments))
            self.last_error = answer.error
            return _judged(function, answer)

        return called

    def many(self, name: str, calls: Sequence[Sequence[Arg]], at_once: int) -> list[int]:
        """Calls of one function, none of which needs what another gives back.

        Args:
            at_once: how many may be under way together.

        Raises:
            Failed: the first that did.
        """
        function, found = FUNCTIONS[name], []
        for start in range(0, len(calls), at_once):
            answers = self.caller.batch([_call(function, arguments) for arguments in calls[start : start + at_once]])
            found += [_judged(function, answer) for answer in answers]
        return found

    def code(self, name: str, *arguments: Arg) -> int:
        """How a call failed; 0 if it did not."""
        try:
            getattr(self, name)(*arguments)
        except Failed as failed:
            return failed.code
        return 0


def _call(function: Function, arguments: Sequence[Arg]) -> Call:
    if len(arguments) != len(function.arguments):
        raise TypeError(f"{function.name} takes {len(function.arguments)} arguments, not {len(arguments)}")
    cut = [a & LOW if letter == "d" and isinstance(a, int) else a for a, letter in zip(arguments, function.arguments, strict=True)]
    return Call(function.dll, function.name, cut)


def _judged(function: Function, answer: Answer) -> int:
    """The result.

    Raises:
        Failed: it says so.
    """
    low = answer.result & LOW
    if function.means in ("status", "nt", "hr"):
        if low and (function.means == "status" or low >= FAILING):
            raise Failed(function.name, low)
        return low
    failed = {"bool": not low, "handle": not answer.result, "file": answer.result == ALL_ONES}.get(function.means, False)
    if failed:
        raise Failed(function.name, answer.error)
    return low if function.means in ("bool", "num") else answer.result
