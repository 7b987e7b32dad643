"""The windows of programs: what they are called, and how they are asked to close."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import narrow, number

LONGEST = 256  # characters of a title
MOST = 10_000  # windows; they come and go while they are gone through


def titles(api: Api) -> dict[int, str]:
    """The title of a window of each process that shows one."""
    found: dict[int, str] = {}
    for window, pid in _windows(api):
        if pid not in found and api.IsWindowVisible(window):
            text = bytearray(2 * LONGEST)
            api.GetWindowTextW(window, text, LONGEST)
            if narrow(text):
                found[pid] = narrow(text)
    return found


def ask_to_close(api: Api, pid: int) -> None:
    """Ask each window of a process to close, as a click on its corner does; what it asks back is for the person to answer."""
    for window, of in _windows(api):
        if of == pid:
            with contextlib.suppress(Failed):  # gone already
                api.PostMessageW(window, c.WM_CLOSE, 0, 0)


def _windows(api: Api) -> Iterator[tuple[int, int]]:
    """(window, number of its process) of each of the desktop's own; without a call back from the system."""
    window = 0
    for _ in range(MOST):
        try:
            window = api.FindWindowExW(None, window, None, None)
        except Failed:
            return
        pid = bytearray(4)
        api.GetWindowThreadProcessId(window, pid)
        yield window, number(pid)
