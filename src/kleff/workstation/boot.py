"""Whether a workstation was started anew since a moment that was kept: by a number that only a boot changes."""

from __future__ import annotations

from kleff.workstation.facets import Workstation


def same_boot(workstation: Workstation, then: str) -> bool | None:
    """Whether it is still the boot that was kept.

    Args:
        then: what was kept, "" for none. An earlier Kleff kept of a Windows the moment of the boot alone, which moves when the clock is
            set (SYSTEM_TIMEOFDAY_INFORMATION, Windows documentation): an equal one is the same boot, a different one tells nothing.

    Returns:
        None: it cannot be told.
    """
    if not then or then == workstation.boot:
        return bool(then)
    by_clock = workstation.boot_by_clock
    if by_clock and then.isdigit():
        return True if then == by_clock else None
    return False
