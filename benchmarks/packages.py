"""Packages against apt's own, paired in one run: what nothing needs, a survey with a preview of one package, and a whole removal.

    python benchmarks/packages.py [PAIRS] [PACKAGE]

As root, on a machine with apt and its lists; PACKAGE (default busybox-static) must be installed, and is not removed. A made-up package
with 200 MB of data is installed and purged again and again; trees with 700 and 3,000 generated packages, which have no lists, are asked.
"""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from caches import SMALL, sized
from ownership import grow

KLEFF = str(Path(sys.executable).parent / "kleff")
HEAD = 'format = 1\n[product]\nid = "one"\nname = "One"\n'
DATA = Path("/var/lib/kleff-bench")
MADE_UP = "Package: kleff-bench\nVersion: 1.0\nArchitecture: all\nMaintainer: x <x@alder-row.example>\nDescription: made up\n"


def timed(*commands: list[str]) -> float:
    begun = time.perf_counter()
    for command in commands:
        subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.perf_counter() - begun


def row(name: str, pairs: int, ours: list[list[str]], peer: list[list[str]], before: Callable[[], None] = lambda: None) -> None:
    """Print the medians and the ratio of pairs, after one pair that warms."""
    found, warm = [], 0 if SMALL else 1
    for number in range(pairs + warm):
        both = []
        for commands in (ours, peer):
            before()
            both.append(timed(*commands))
        if number >= warm:
            found.append(both)
    ratios = sorted(a / b for a, b in found)
    print(
        f"| {name} | {statistics.median(a for a, _ in found):.2f} | {statistics.median(b for _, b in found):.2f} | "
        f"{statistics.median(ratios):.2f} ({ratios[0]:.2f}..{ratios[-1]:.2f}) |",
        flush=True,
    )


def looking(file: Path, on: str) -> list[list[str]]:
    return [[KLEFF, word, str(file), "--on", on] for word in ("survey", "preview")]


def generated(folder: Path, packages: int, pairs: int) -> None:
    """A tree with so many packages, of which one is asked about."""
    top = folder / f"tree{packages}"
    grow(top, packages)
    file = folder / f"{packages}.toml"
    file.write_text(HEAD + '[[evidence]]\npackage = "hoe-0007"\n[[purge]]\npackage = "hoe-0007"\n')
    asked = ["apt-get", "-o", f"Dir={top}", "-o", f"Dir::State::status={top}/var/lib/dpkg/status", "-s"]
    for taken in ("etc/apt", "var/lib/apt/lists"):  # what apt reads of its own on a workstation
        shutil.copytree(f"/{taken}", top / taken)
    (top / "var/cache/apt/archives/partial").mkdir(parents=True)
    row(
        f"{packages:,} generated: survey and preview of one : `apt-get -s purge`",
        pairs,
        looking(file, f"root:{top}"),
        [[*asked, "purge", "hoe-0007"]],
    )
    unneeded = [[KLEFF, "unneeded", "--on", f"root:{top}"]]
    row(f"{packages:,} generated: `kleff unneeded` : `apt-get -s autoremove`", pairs, unneeded, [[*asked, "autoremove"]])


def whole(folder: Path, pairs: int) -> None:
    """A run that saves 200 MB, purges and sets aside, against what a person would do by hand for the same."""
    source, file = folder / "deb", folder / "whole.toml"
    (source / "DEBIAN").mkdir(parents=True)
    (source / "DEBIAN/control").write_text(MADE_UP)
    (source / "opt/kleff-bench").mkdir(parents=True)
    for number in range(50):
        (source / f"opt/kleff-bench/{number}").write_bytes(os.urandom(20_000))
    subprocess.run(["dpkg-deb", "--root-owner-group", "-b", source, folder / "bench.deb"], check=True, capture_output=True)
    kept = folder / "data"
    kept.mkdir()
    for number in range(max(sized(200), 2)):
        (kept / f"{number}.db").write_bytes(os.urandom(500_000) + b"beds of sage\n" * 40_000)
    file.write_text(
        HEAD + f'[[evidence]]\npackage = "kleff-bench"\n[[backup]]\npaths = ["{DATA}"]\n[[purge]]\npackage = "kleff-bench"\n'
        f'[[delete]]\npaths = ["{DATA}"]\n'
    )

    def install() -> None:
        subprocess.run(["dpkg", "-i", folder / "bench.deb"], check=True, capture_output=True)
        shutil.rmtree(DATA, ignore_errors=True)
        shutil.copytree(kept, DATA)
        shutil.rmtree(folder / "cases", ignore_errors=True)
        shutil.rmtree("/.kleff", ignore_errors=True)
        os.sync()

    ours = [[KLEFF, "run", str(file), "--on", "this", "--yes", "--quiet", "--cases", str(folder / "cases")], ["sync"]]
    peer = [
        ["tar", "--zstd", "-cf", str(folder / "data.tar.zst"), str(DATA)],
        ["apt-get", "purge", "--yes", "kleff-bench"],
        ["rm", "-rf", str(DATA)],
        ["sync"],
    ]
    try:
        row("`kleff run`, 200 MB saved : `tar --zstd`, `apt-get purge`, `rm -rf`, `sync`", pairs, ours, peer, install)
    finally:
        subprocess.run(["dpkg", "--purge", "kleff-bench"], check=False, capture_output=True)
        shutil.rmtree(DATA, ignore_errors=True)


def main() -> None:
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # as installed by pip, with compiled modules
    pairs, package = int(sys.argv[1]) if len(sys.argv) > 1 else 5, sys.argv[2] if len(sys.argv) > 2 else "busybox-static"
    installed = len(subprocess.run(["dpkg-query", "-W"], capture_output=True, text=True).stdout.splitlines())
    print(f"{installed} packages\n\n| what | ours, s | peer, s | ratio |\n|---|---|---|---|")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        file = folder / "p.toml"
        file.write_text(HEAD + f'[[evidence]]\npackage = "{package}"\n[[purge]]\npackage = "{package}"\n')
        row("`kleff unneeded` : `apt-get -s autoremove`", pairs, [[KLEFF, "unneeded"]], [["apt-get", "-s", "autoremove"]])
        row(
            "`kleff survey` and `kleff preview` of one : `apt-get -s purge`",
            pairs,
            looking(file, "this"),
            [["apt-get", "-s", "purge", package]],
        )
        for packages in (max(sized(700), 25), max(sized(3000), 30)):
            generated(folder, packages, pairs)
        if not SMALL:
            whole(folder, pairs)


if __name__ == "__main__":
    main()
