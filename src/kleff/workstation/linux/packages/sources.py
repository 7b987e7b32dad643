"""What a source of packages offers, by apt's own index of what it has downloaded (apt-get(8), indextargets)."""

from __future__ import annotations

import re
import subprocess
from collections.abc import Mapping
from pathlib import Path

from kleff.errors import ActionFailed

LISTS = ("etc", "apt", "sources.list.d")
PATIENCE = 60
HELPER = "/usr/lib/apt/apt-helper"  # reads a list however it is compressed


def offered_by(root: Path | None, environment: Mapping[str, str], source: str) -> set[tuple[str, str]]:
    """(name, version) of every package in the lists of one source file.

    Raises:
        ActionFailed: apt has no lists of it, or cannot be asked.
    """
    options = ["-o", f"Dir={root}"] if root else []
    form = "$(FILENAME)\t$(SOURCESENTRY)"
    listed = _said(["apt-get", "indextargets", *options, "--format", form, "Created-By: Packages"], environment)
    files = [file for file, _, entry in (line.partition("\t") for line in listed.splitlines()) if _of(entry) == source]
    if not files:
        raise ActionFailed(f"apt has no lists of the source {source}", remedy="fetch them with  apt-get update")
    return {pair for file in files for pair in _packages(_said([HELPER, "cat-file", file], environment))}


def _of(entry: str) -> str:
    """The file of a source's entry, `/etc/apt/sources.list.d/NAME:LINE`."""
    return entry.rpartition(":")[0].rpartition("/")[2]


def _packages(text: str) -> list[tuple[str, str]]:
    pairs = re.findall(r"^Package: (\S+)$(?:(?!^$)[\s\S])*?^Version: (\S+)$", text, re.MULTILINE)
    return [(name, version) for name, version in pairs]


def _said(words: list[str], environment: Mapping[str, str]) -> str:
    try:
        done = subprocess.run(words, env=environment, capture_output=True, timeout=PATIENCE, check=False)
    except (OSError, subprocess.TimeoutExpired) as error:
        raise ActionFailed(f"{words[0]} cannot be asked: {error}") from None
    if done.returncode != 0:
        raise ActionFailed(f"{words[0]} ended with {done.returncode}: {done.stderr.decode('utf-8', 'replace').strip()}")
    return done.stdout.decode("utf-8", "replace")
