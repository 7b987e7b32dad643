"""What a source of packages offers, by apt's own index of what it has downloaded (apt-get(8), indextargets)."""

from __future__ import annotations

import re
import subprocess
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path

from kleff.errors import ActionFailed
from kleff.workstation.linux.packages.apt import within

LISTS = ("etc", "apt", "sources.list.d")
PATIENCE = 60
RELEASES = ("InRelease", "Release", "Release.gpg")
HELPER = "/usr/lib/apt/apt-helper"  # reads a list however it is compressed


def offered_by(root: Path | None, environment: Mapping[str, str], source: str) -> set[tuple[str, str]]:
    """(name, version) of every package in the lists of one source file.

    Raises:
        ActionFailed: apt has no lists of it, or cannot be asked.
    """
    files = [file for file, _, of, by in _targets(root, environment) if of == source and by == "Packages"]
    if not files:
        raise ActionFailed(f"apt has no lists of the source {source}", remedy="fetch them with  apt-get update")
    return {pair for file in files for pair in _packages(_said([HELPER, "cat-file", file], environment))}


def lists_of(root: Path | None, environment: Mapping[str, str], source: str) -> list[str]:
    """The files that apt has downloaded of one source alone: its indices, and what says that they are whole.

    Raises:
        ActionFailed: apt cannot be asked.
    """
    own: set[str] = set()
    others: set[str] = set()
    for file, key, of, _ in _targets(root, environment):
        above = _above(file, key)
        (own if of == source else others).update([file, *(above + name for name in RELEASES if above)])
    inside = str(root) if root else ""
    return sorted(file.removeprefix(inside) for file in own - others if Path(file).exists())


def others_offer(root: Path | None, environment: Mapping[str, str], source: str, names: Sequence[str]) -> list[tuple[str, str]]:
    """(name, version) of what the other sources have of some packages, best first.

    Raises:
        ActionFailed: apt cannot be asked.
    """
    folder = (root or Path("/")).joinpath(*LISTS)
    with tempfile.TemporaryDirectory(prefix="kleff-") as parts:
        for file in folder.iterdir():
            if file.name != source:
                (Path(parts) / file.name).symlink_to(file)
        Path(parts).chmod(0o755)
        options = (*within(root), f"Dir::Etc::SourceParts={parts}", "Dir::Cache::pkgcache=", "Dir::Cache::srcpkgcache=")
        words = [word for option in options for word in ("-o", option)]
        said = _said(["apt-cache", *words, "madison", "--", *names], environment)
    rows = [[part.strip() for part in line.split("|")] for line in said.splitlines()]
    return [(row[0], row[1]) for row in rows if len(row) == 3 and row[2].endswith("Packages")]


def _targets(root: Path | None, environment: Mapping[str, str]) -> list[tuple[str, str, str, str]]:
    """(file, key, name of the source's file, kind) of everything that apt has downloaded."""
    options = [word for option in within(root) for word in ("-o", option)]
    form = "$(FILENAME)\t$(METAKEY)\t$(SOURCESENTRY)\t$(CREATED_BY)"
    lines = _said(["apt-get", "indextargets", *options, "--format", form], environment).splitlines()
    rows = [line.split("\t") for line in lines]
    return [(row[0], row[1], _of(row[2]), row[3]) for row in rows if len(row) == 4]


def _above(file: str, key: str) -> str:
    """What the files of one release begin with: a list is called after its address, its key last."""
    folder, _, name = file.rpartition("/")
    before, found, _ = name.rpartition(key.replace("/", "_"))
    return f"{folder}/{before}" if found else ""


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
