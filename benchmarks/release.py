"""One Kleff against another, paired in one run: whole commands, their flushes, their system calls.

    python benchmarks/release.py OLD NEW [ROUNDS] [FOLDER]

OLD and NEW are two installed `kleff` programs (default: 15 rounds). Prints Markdown tables: the median of the paired ratios NEW : OLD,
and counts from outside by strace. Each round works on a fresh tree; who goes first alternates. Needs root and strace.
"""

from __future__ import annotations

import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from caches import SMALL, sized

STEPS = """format = 1
[product]
id = "big"
name = "Big"
[[evidence]]
path = '/opt/big'
[[backup]]
label = "data"
paths = ['/opt/big/saved']
[[delete]]
paths = ['/opt/big/many/*', '/opt/big']
at_most = 600
"""
FLUSHES = "fsync,fdatasync,syncfs,sync_file_range"


def build(top: Path) -> None:
    """A tree with 20,000 files to count and set aside, 500 places named one by one, 2,000 files of 16 KiB to save."""
    for folder in ("etc", "opt/big/saved", "opt/big/many", "opt/big/deep", "var/lib/dpkg/info", "tmp", "root"):
        (top / folder).mkdir(parents=True)
    (top / "etc/passwd").write_text("root:x:0:0:root:/root:/bin/sh\n")
    (top / "etc/machine-id").write_text("0123456789abcdef0123456789abcdef\n")
    (top / "var/lib/dpkg/status").touch()
    for number in range(sized(500)):
        (top / f"opt/big/many/{number}").mkdir()
    for number in range(sized(2_000)):
        (top / f"opt/big/saved/{number}").write_bytes(number.to_bytes(4, "little") * 4096)
    for number in range(sized(200)):
        (top / f"opt/big/deep/{number}").mkdir()
        for file in range(100):
            (top / f"opt/big/deep/{number}/{file}").touch()


def commands(program: str, work: Path) -> dict[str, list[str]]:
    """The words of each step, in order."""
    on, cases = f"root:{work / 'tree'}", str(work / "cases")
    case = str(next((work / "cases").iterdir())) if (work / "cases").exists() and any((work / "cases").iterdir()) else ""
    return {
        "survey": [program, "survey", str(work / "p.toml"), "--on", on],
        "preview": [program, "preview", str(work / "p.toml"), "--on", on],
        "run": [program, "run", str(work / "p.toml"), "--on", on, "--yes", "--quiet", "--cases", cases],
        "undo": [program, "undo", case, "--yes", "--quiet"],
        "run again": [program, "run", str(work / "p.toml"), "--on", on, "--yes", "--quiet", "--cases", str(work / "cases2")],
        "discard": [program, "discard", "", "--yes", "--quiet"],
    }


def once(
    program: str, master: Path, folder: Path, prefix: list[str] | None = None, after: dict[str, str] | None = None
) -> dict[str, float]:
    """Every step on a fresh copy; seconds of each."""
    work = folder / "work"
    shutil.rmtree(work, ignore_errors=True)
    work.mkdir()
    subprocess.run(["cp", "-a", master, work / "tree"], check=True)
    (work / "p.toml").write_text(STEPS)
    subprocess.run(["sync"], check=True)
    seconds: dict[str, float] = {}
    for name in ("survey", "preview", "run", "undo", "run again", "discard"):
        words = commands(program, work)[name]
        if name == "discard":
            words[2] = str(next((work / "cases2").iterdir()))
        log = str(folder / "strace")
        begun = time.perf_counter()
        done = subprocess.run([*(prefix or []), *(["-o", log] if prefix else []), *words], capture_output=True, text=True)
        seconds[name] = time.perf_counter() - begun
        assert done.returncode == 0, (words, done.stdout, done.stderr)
        if after is not None:
            after[name] = Path(log).read_text()
    return seconds


def total(text: str) -> int:
    """The calls in strace's summary: share, seconds, microseconds a call, calls, and errors if there were any."""
    line = next((line for line in text.splitlines() if line.endswith(" total")), "")
    return int(line.split()[3]) if line else 0


def main() -> None:
    old, new = sys.argv[1], sys.argv[2]
    rounds = int(sys.argv[3]) if len(sys.argv) > 3 else 15
    with tempfile.TemporaryDirectory(dir=sys.argv[4] if len(sys.argv) > 4 else None) as text:
        folder = Path(text)
        build(folder / "master")
        for program in () if SMALL else dict.fromkeys((old, new)):
            once(program, folder / "master", folder)
        times: dict[str, list[tuple[float, float]]] = {}
        for number in range(rounds):
            both = {}
            for program in dict.fromkeys((old, new) if number % 2 else (new, old)):
                both[program] = once(program, folder / "master", folder)
            for name in both[old]:
                times.setdefault(name, []).append((both[old][name], both[new][name]))
        counts: dict[str, dict[str, tuple[int, int]]] = {}
        for program in dict.fromkeys((old, new)):
            calls: dict[str, str] = {}
            flushes: dict[str, str] = {}
            once(program, folder / "master", folder, ["strace", "-f", "-c", "-q"], calls)
            once(program, folder / "master", folder, ["strace", "-f", "-c", "-q", "-e", f"trace={FLUSHES}"], flushes)
            counts[program] = {name: (total(calls[name]), total(flushes[name])) for name in calls}
    print("| command | old, s | new, s | ratio | system calls, old : new | flushes, old : new |\n|---|---|---|---|---|---|")
    for name, pairs in times.items():
        ratios = sorted(b / a for a, b in pairs)
        before, after = counts[old][name], counts[new][name]
        print(
            f"| {name} | {statistics.median(a for a, _ in pairs):.2f} | {statistics.median(b for _, b in pairs):.2f} "
            f"| {statistics.median(ratios):.2f} ({ratios[0]:.2f}..{ratios[-1]:.2f}) "
            f"| {before[0]:,} : {after[0]:,} ({after[0] / max(before[0], 1):.2f}) | {before[1]} : {after[1]} |"
        )


if __name__ == "__main__":
    main()
