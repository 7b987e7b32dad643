"""The state of the caches before something is measured."""

from __future__ import annotations

import os
from pathlib import Path

COLD = os.environ.get("KLEFF_COLD") == "1"


def settle() -> None:
    """Write out what waits; with KLEFF_COLD=1 also forget all that was read (proc(5), /proc/sys/vm/drop_caches; needs root)."""
    os.sync()
    if COLD:
        Path("/proc/sys/vm/drop_caches").write_text("3\n", "ascii")
