"""Which machine Kleff itself runs on."""

from __future__ import annotations

import sys
from functools import lru_cache

from kleff.workstation.host import Host


@lru_cache(maxsize=1)
def host() -> Host:
    """The machine Kleff runs on.

    Raises:
        NoSuchWorkstation: Kleff does not run on this system, or by this Python.
    """
    if sys.platform == "win32":
        from kleff.workstation.windows.host.host import WindowsHost

        return WindowsHost()
    from kleff.workstation.posix.host import PosixHost

    return PosixHost()
