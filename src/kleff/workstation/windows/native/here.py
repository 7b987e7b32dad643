"""The functions of the Windows that Kleff itself runs on."""

from __future__ import annotations

from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.native.caller import Caller
from kleff.workstation.windows.native.local import LocalCaller, of_windows

_made: list[Api] = []


def api() -> Api:
    """Calls are made in this process.

    Raises:
        NoSuchWorkstation: this is no 64-bit Python on Windows.
    """
    if not _made:
        call_by(LocalCaller(of_windows()))
    return _made[0]


def call_by(caller: Caller) -> None:
    """Have calls made so from now on: the tests answer in its place what Wine cannot."""
    _made[:] = [Api(caller)]
