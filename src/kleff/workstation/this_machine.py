"""Which machine Kleff itself runs on."""

from __future__ import annotations

import sys
from functools import lru_cache

from kleff.errors import NoSuchWorkstation
from kleff.workstation.host import Host


@lru_cache(maxsize=1)
def host() -> Host:
    """The machine Kleff runs on.

    Raises:
        NoSuchWorkstation: Kleff does not run on this system.
    """
    if sys.platform == "win32":
        raise NoSuchWorkstation("Kleff does not run on Windows itself yet", remedy="run it on a Linux machine")
    from kleff.workstation.posix.host import PosixHost

    return PosixHost()
