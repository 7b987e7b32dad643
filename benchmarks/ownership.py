"""Which packages own which paths: twenty questions of one command against one listing by dpkg-query itself, paired in one run.

    python benchmarks/ownership.py [PAIRS]

As root; with 700 and 3,000 generated packages of 40 files each, in a tree of their own.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from caches import sized

from kleff.workstation.open import open_workstation

FILES = 40
LISTING = "${Package}${db-fsys:Files}"


def grow(top: Path, packages: int) -> None:
    """A tree with a package database, as dpkg keeps it (dpkg(1), FILES)."""
    info = top / "var/lib/dpkg/info"
    info.mkdir(parents=True)
    (top / "var/lib/dpkg/updates").mkdir()
    (top / "etc").mkdir()
    (top / "etc/passwd").write_text("root:x:0:0::/root:/bin/sh\n")
    status = []
    for number in range(packages):
        name = f"hoe-{number:04d}"
        status.append(
            f"Package: {name}\nStatus: install ok installed\nMaintainer: x\nArchitecture: all\nVersion: 1.0\nDescription: made up\n"
        )
        paths = ["/.", "/usr", "/usr/lib", f"/usr/lib/{name}", *(f"/usr/lib/{name}/part{n:02d}.so" for n in range(FILES))]
        (info / f"{name}.list").write_text("\n".join(paths) + "\n")
    (top / "var/lib/dpkg/status").write_text("\n".join(status))


def listing(top: Path) -> float:
    begun = time.perf_counter()
    subprocess.run(["dpkg-query", f"--root={top}", "-W", "-f", LISTING], check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - begun


def questions(top: Path) -> float:
    """As many as a command with twenty steps asks."""
    workstation = open_workstation(f"root:{top}")
    packages, files = workstation.packages, workstation.files
    assert packages is not None
    begun = time.perf_counter()
    for number in range(20):
        path = files.path(f"/usr/lib/hoe-{number:04d}")
        assert path is not None
        assert len(packages.owners([path])) == FILES + 1
    return time.perf_counter() - begun


def main() -> None:
    pairs = int(sys.argv[1]) if len(sys.argv) > 1 else 15
    print("| packages | one listing, s | twenty questions, s | ratio (least..most) |\n|---|---|---|---|")
    for packages in (max(sized(700), 25), max(sized(3000), 30)):
        with tempfile.TemporaryDirectory() as folder:
            top = Path(folder) / "tree"
            grow(top, packages)
            listing(top), questions(top)
            times = [(listing(top), questions(top)) for _ in range(pairs)]
            ratios = [b / a for a, b in times]
            a, b = (statistics.median(t[n] for t in times) for n in range(2))
            print(f"| {packages:,} | {a:.3f} | {b:.3f} | {statistics.median(ratios):.2f} ({min(ratios):.2f}..{max(ratios):.2f}) |")


if __name__ == "__main__":
    main()
