"""What a source of packages offers, by apt's own index of what it has downloaded (apt-get(8), indextargets)."""

from __future__ import annotations

import re
import subprocess
from collections.abc import Mapping
from pathlib import Path

PATIENCE = 60
HELPER = "/usr/lib/apt/apt-helper"  # reads a list however it is compressed


def offered_by(root: Path | None, environment: Mapping[str, str], source: str) -> set[tuple[str, str]]:
    """(name, version) of every package in the lists of one source file."""
    options = ["-o", f"Dir={root}"] if root else []
    form = "$(FILENAME)\t$(SOURCESENTRY)"
    listed = _said(["apt-get", "indextargets", *options, "--format", form, "Created-By: Packages"], environment)
    found: set[tuple[str, str]] = set()
    for line in listed.splitlines():
        file, _, entry = line.partition("\t")
        if entry.rpartition(":")[0].rpartition("/")[2] == source:
            found.update(_packages(_said([HELPER, "cat-file", file], environment)))
    return found


def _packages(text: str) -> list[tuple[str, str]]:
    pairs = re.findall(r"^Package: (\S+)$(?:(?!^$)[\s\S])*?^Version: (\S+)$", text, re.MULTILINE)
    return [(name, version) for name, version in pairs]


def _said(words: list[str], environment: Mapping[str, str]) -> str:
    try:
        done = subprocess.run(words, env=environment, capture_output=True, timeout=PATIENCE, check=False)
    except (OSError, subprocess.TimeoutExpired):
        return ""
    return done.stdout.decode("utf-8", "replace") if done.returncode == 0 else ""
