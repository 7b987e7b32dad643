"""What benchmarks share: the state of the caches before something is measured, and how large it is."""

from __future__ import annotations

import os
from pathlib import Path

SMALL = os.environ.get("KLEFF_BENCH_SMALL") == "1"
COLD = os.environ.get("KLEFF_COLD") == "1"


def settle() -> None:
    """Write out what waits; with KLEFF_COLD=1 also forget all that was read (proc(5), /proc/sys/vm/drop_caches; needs root)."""
    os.sync()
    if COLD:
        Path("/proc/sys/vm/drop_caches").write_text("3\n", "ascii")


def sized(usual: int) -> int:
    """How many of something; with KLEFF_BENCH_SMALL=1 a hundredth, to see that a benchmark runs at all."""
    return max(usual // 100, 1) if SMALL else usual
