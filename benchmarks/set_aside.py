"""Setting aside, counting and discarding against the system's own tools, paired in one run.

    python benchmarks/set_aside.py [FILES] [ROUNDS] [FOLDER] [COUNTED]

Prints a Markdown table; FOLDER names the file system that is measured (default: the temporary folder); COUNTED entries are counted
(default 500,000). Ours and the peer take turns in who goes first. KLEFF_COLD=1 empties the caches
before each. Needs root: the tree is a Linux tree with accounts of its own.
"""

from __future__ import annotations

import os
import platform
import resource
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from caches import COLD, settle

from kleff.case.aside.deleting import delete_tree
from kleff.procedure.globs import POSIX
from kleff.progress import Silent
from kleff.workstation.posix.tree import PosixTree
from kleff.workstation.this_machine import host

PROCEDURE = """format = 1
[product]
id = "big"
name = "Big"
[[evidence]]
path = '/opt/big'
[[delete]]
paths = ['/opt/big']
"""


def grow(top: Path, count: int) -> Path:
    """`count` small files, 15 to a folder, flushed."""
    for number in range(count):
        folder = top / f"d{number // 1500}" / f"e{number // 15 % 100}"
        if number % 15 == 0:
            folder.mkdir(parents=True, exist_ok=True)
        fd = os.open(folder / f"file{number}", os.O_WRONLY | os.O_CREAT)
        os.write(fd, b"x" * (number % 300))
        os.close(fd)
    os.sync()
    return top


def linux_tree(top: Path) -> Path:
    for folder in ("etc", "opt", "var/lib", "root"):
        (top / folder).mkdir(parents=True)
    (top / "etc/passwd").write_text("root:x:0:0::/root:/bin/sh\n")
    return top


def timed(act: Callable[[], object]) -> float:
    begun = time.perf_counter()
    act()
    return time.perf_counter() - begun


def command(*words: object) -> None:
    subprocess.run([str(w) for w in words], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


def row(name: str, pairs: list[tuple[float, float]]) -> str:
    ratios = [a / b for a, b in pairs]
    ours, peer = (statistics.median(p[i] for p in pairs) for i in (0, 1))
    return f"| {name} | {ours:.2f} | {peer:.2f} | {statistics.median(ratios):.2f} ({min(ratios):.2f}..{max(ratios):.2f}) |"


def pair(turn: int, ours: Callable[[], object], peer: Callable[[], object]) -> tuple[float, float]:
    """Both once, flushed before each; the order changes with the turn."""
    taken = [0.0, 0.0]
    for which in (0, 1) if turn % 2 else (1, 0):
        settle()
        taken[which] = timed((ours, peer)[which])
    return taken[0], taken[1]


def counting(folder: Path, entries: int, rounds: int) -> list[str]:
    """Count and size one tree in one and in two processes, against `du -s`."""
    grow(folder / "counted", int(entries / 1.067))
    files = PosixTree(POSIX, {"": folder})
    place = files.path("/counted")
    assert place is not None
    total = files.measure(place).items
    rows = []
    for processes in (1, 2):
        pairs = [
            pair(turn, lambda n=processes: files.measure(place, n), lambda: command("du", "-s", folder / "counted"))
            for turn in range(rounds)
        ]
        rows.append(row(f"count and size {total:,} entries, in process, {processes} : `du -s`", pairs))
    return rows


def deleted(work: Path, name: str) -> None:
    with host().folder(work) as folder:
        delete_tree(folder, name, Silent())


def loops(work: Path, count: int, rounds: int) -> list[str]:
    """The deletion loop of discard on many small files, and on 2 GiB of large ones."""
    rows = []
    for name, make in ((f"{count:,} small files", lambda top: grow(top, count)), ("2 GiB in 200 files", large)):
        pairs = []
        for turn in range(rounds):
            make(work / "ours")
            make(work / "peer")
            pairs.append(pair(turn, lambda: deleted(work, "ours"), lambda: command("rm", "-rf", work / "peer")))
        rows.append(row(f"deletion loop of discard, {name}, in process : `rm -rf`", pairs))
    return rows


def large(top: Path) -> None:
    top.mkdir()
    for number in range(200):
        fd = os.open(top / f"large{number}", os.O_WRONLY | os.O_CREAT)
        os.posix_fallocate(fd, 0, 2 * 1024**3 // 200)
        os.close(fd)


def commands(work: Path, count: int, rounds: int) -> list[str]:
    """Whole commands: `run` of one step that sets aside a folder, and `discard` of it."""
    kleff = Path(sys.executable).parent / "kleff"
    file = work / "p.toml"
    file.write_text(PROCEDURE)
    file.chmod(0o644)
    aside, discard = [], []
    for number in range(rounds):
        top, cases = linux_tree(work / f"tree{number}"), work / f"cases{number}"
        grow(top / "opt/big", count)
        grow(work / "peer", count)
        run = (kleff, "run", file, "--on", f"root:{top}", "--yes", "--quiet", "--cases", cases)
        aside.append(pair(number, lambda r=run: command(*r), lambda: command("rm", "-rf", work / "peer")))
        case = next(cases.iterdir())
        grow(work / "peer", count)
        words = (kleff, "discard", case, "--yes", "--quiet")
        discard.append(pair(number, lambda w=words: command(*w), lambda: command("rm", "-rf", work / "peer")))
        shutil.rmtree(top)
    return [
        row(f"`kleff run --yes`, one folder of {count:,} files set aside : `rm -rf`", aside),
        row("`kleff discard --yes`, whole command : `rm -rf`", discard),
    ]


def main(count: int, rounds: int, folder: str, counted: int) -> None:
    python, day = platform.python_version(), time.strftime("%Y-%m-%d")
    print(f"Python {python}, {os.cpu_count()} cores, {rounds} pairs, {'cold' if COLD else 'warm'} cache, {day}\n")
    print("| what | ours, s | peer, s | ratio |\n|---|---|---|---|")
    with tempfile.TemporaryDirectory() as name:
        print("\n".join(counting(Path(name), counted, rounds)))
    with tempfile.TemporaryDirectory(dir=folder or None) as name:
        print("\n".join(commands(Path(name), count, rounds)))
        print("\n".join(loops(Path(name), count, rounds)))
    print(f"\nLargest process: {resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024} MiB.")


if __name__ == "__main__":
    main(
        int(sys.argv[1]) if len(sys.argv) > 1 else 100_000,
        int(sys.argv[2]) if len(sys.argv) > 2 else 5,
        sys.argv[3] if len(sys.argv) > 3 else "",
        int(sys.argv[4]) if len(sys.argv) > 4 else 500_000,
    )
