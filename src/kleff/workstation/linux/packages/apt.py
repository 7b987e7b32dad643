"""What apt would do, asked by its own simulation (apt-get(8), --simulate): nothing is done, and nothing is written."""

from __future__ import annotations

import re
import subprocess
from collections.abc import Mapping, Sequence
from pathlib import Path

REMOVED = re.compile(r"^(?:Remv|Purg) (\S+)", re.MULTILINE)  # one line for each package
# Only what is installed counts, no program of the tree's own decides, and nothing is kept of what was asked.
QUIET = (
    "Dir::State::lists=/nonexistent", "APT::Solver=internal", "APT::Planner=internal", "Dir::Log=/nonexistent", "Dir::Cache::pkgcache=",
    "Dir::Cache::srcpkgcache=", "Dir::Log::Planner=/dev/null", "Dir::Log::Solver=/dev/null", "Debug::NoLocking=1",
)  # fmt: skip
PATIENCE = 120


def simulate(root: Path | None, environment: Mapping[str, str], words: Sequence[str], names: Sequence[str] = ()) -> list[str] | None:
    """The packages that would be removed; None if apt is not there, or says that it cannot be done.

    Args:
        root: the tree, or None for the running system.
        words: what apt is asked to do.
    """
    options = list(QUIET)
    if root is not None:
        options += [f"Dir={root}", f"Dir::State::status={root}/var/lib/dpkg/status"]
    command = ["apt-get", *(part for option in options for part in ("-o", option)), "--quiet", "--simulate", "--assume-yes", *words]
    try:
        done = subprocess.run([*command, "--", *names], capture_output=True, env=environment, timeout=PATIENCE, check=False)
    except (FileNotFoundError, subprocess.TimeoutExpired):
        return None
    if done.returncode != 0:
        return None
    return list(dict.fromkeys(name.partition(":")[0] for name in REMOVED.findall(done.stdout.decode("utf-8", "replace"))))
