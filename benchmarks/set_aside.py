"""Setting aside, counting and discarding against the system's own tools, paired in one run.

    python benchmarks/set_aside.py [FILES] [ROUNDS] [FOLDER]

Prints a Markdown table; FOLDER names the file system that is measured (default: the temporary folder). Needs root: the tree is a
Linux tree with accounts of its own.
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

from kleff.case.deleting import delete_tree
from kleff.procedure.globs import POSIX
from kleff.progress import Silent
from kleff.workstation.common.files import FileTree

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


def main(count: int, rounds: int, folder: str) -> None:
    kleff = Path(sys.executable).parent / "kleff"
    aside, discard, counting, loop = [], [], [], []
    with tempfile.TemporaryDirectory(dir=folder or None) as name:
        work = Path(name)
        file = work / "p.toml"
        file.write_text(PROCEDURE)
        file.chmod(0o644)
        for number in range(rounds):
            top = linux_tree(work / f"tree{number}")
            grow(top / "opt/big", count)
            peer, other = grow(work / "peer", count), grow(work / "other", count)
            files = FileTree(POSIX, {"": top})
            place = files.path("/opt/big")
            assert place is not None
            counting.append((timed(lambda f=files, p=place: f.measure(p)), timed(lambda t=top: command("du", "-s", t / "opt/big"))))
            cases = work / f"cases{number}"
            run = (kleff, "run", file, "--on", f"root:{top}", "--yes", "--quiet", "--cases", cases)
            aside.append((timed(lambda r=run: command(*r)), timed(lambda p=peer: command("rm", "-rf", p))))
            case = next(cases.iterdir())
            peer = grow(work / "peer", count)
            discard.append(
                (timed(lambda c=case: command(kleff, "discard", c, "--yes", "--quiet")), timed(lambda p=peer: command("rm", "-rf", p)))
            )
            peer = grow(work / "peer", count)
            fd = os.open(work, os.O_RDONLY)
            loop.append((timed(lambda f=fd: delete_tree(f, "other", Silent())), timed(lambda p=peer: command("rm", "-rf", p))))
            os.close(fd)
            shutil.rmtree(top)
            del other
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024
    print(f"Python {platform.python_version()}, {os.cpu_count()} cores, {count:,} files, {rounds} pairs, {time.strftime('%Y-%m-%d')}\n")
    print("| what | ours, s | peer, s | ratio |\n|---|---|---|---|")
    print(row("count and size a folder, in process : `du -s`", counting))
    print(row("`kleff run --yes`, one folder set aside : `rm -rf`", aside))
    print(row("deletion loop of discard, in process : `rm -rf`", loop))
    print(row("`kleff discard --yes`, whole command : `rm -rf`", discard))
    print(f"\nLargest process: {peak} MiB.")


if __name__ == "__main__":
    main(
        int(sys.argv[1]) if len(sys.argv) > 1 else 100_000,
        int(sys.argv[2]) if len(sys.argv) > 2 else 3,
        sys.argv[3] if len(sys.argv) > 3 else "",
    )
