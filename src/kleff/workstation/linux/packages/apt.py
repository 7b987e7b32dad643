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
# Another version of what is installed, and nothing else: configuration that was changed stays, nothing is removed.
CHANGING = ("install", "--allow-downgrades", "--allow-change-held-packages", "--no-remove", "--no-install-recommends")
INSTALLED = re.compile(r"^Inst (\S+)", re.MULTILINE)


def simulate(
    root: Path | None, environment: Mapping[str, str], words: Sequence[str], names: Sequence[str] = (), status: Path | None = None
) -> list[str] | None:
    """The packages that would be removed; None if apt is not there, or says that it cannot be done.

    Args:
        root: the tree, or None for the running system.
        words: what apt is asked to do.
        status: what is installed, where it is another file than the system's own.
    """
    own = [f"Dir::State::status={status}"] if status is not None else []
    command = ["apt-get", *_options([*QUIET, *within(root), *own]), "--quiet", "--simulate", "--assume-yes", *words]
    try:
        done = subprocess.run([*command, "--", *names], capture_output=True, env=environment, timeout=PATIENCE, check=False)
    except (FileNotFoundError, subprocess.TimeoutExpired):
        return None
    if done.returncode != 0:
        return None
    return list(dict.fromkeys(name.partition(":")[0] for name in REMOVED.findall(done.stdout.decode("utf-8", "replace"))))


def change_objection(root: Path | None, environment: Mapping[str, str], versions: Mapping[str, str]) -> str:
    """Why apt would not change packages to other versions, or what else it would do; "" if nothing."""
    asked = [f"{name}={version}" for name, version in versions.items()]
    command = ["apt-get", *_options([*QUIET[1:], *within(root)]), "--quiet", "--simulate", "--assume-yes", *CHANGING]
    try:
        done = subprocess.run([*command, "--", *asked], capture_output=True, env=environment, timeout=PATIENCE, check=False)
    except (FileNotFoundError, subprocess.TimeoutExpired) as error:
        return f"apt cannot be asked: {error}"
    if done.returncode != 0:
        said = [line for line in done.stderr.decode("utf-8", "replace").splitlines() if line.startswith("E: ")]
        return (said or ["it says no"])[0].removeprefix("E: ")
    more = [n for name in INSTALLED.findall(done.stdout.decode("utf-8", "replace")) if (n := name.partition(":")[0]) not in versions]
    return f"it would install {', '.join(more)} too" if more else ""


def changing(root: Path | None, versions: Mapping[str, str]) -> list[str]:
    """How apt is asked to change packages to other versions."""
    options = ["Dpkg::Options::=--force-confold", "Dpkg::Use-Pty=0", *within(root)]
    options += [f"Dpkg::Options::=--root={root}"] if root else []
    return ["apt-get", *_options(options), "--quiet", "--assume-yes", *CHANGING, "--", *(f"{n}={v}" for n, v in versions.items())]


def within(root: Path | None) -> list[str]:
    """The options by which apt works in a tree."""
    return [f"Dir={root}", f"Dir::State::status={root}/var/lib/dpkg/status"] if root is not None else []


def _options(options: Sequence[str]) -> list[str]:
    return [part for option in options for part in ("-o", option)]
