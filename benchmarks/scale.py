"""Large procedures and long runs: flushes per effect, the journal's rate, the preview of 1,000 steps for 50 accounts.

    python benchmarks/scale.py [FOLDER]

Prints Markdown tables. Needs root (a Linux tree with accounts of its own) and strace, which counts the flushes from outside.
"""

from __future__ import annotations

import json
import os
import platform
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from caches import sized

from kleff.case.effects.moved import Moved
from kleff.case.record.journal import Journal

HEAD = 'format = 1\n[product]\nid = "big"\nname = "Big"\n[[evidence]]\npath = "/opt/none"\n'
KLEFF = Path(sys.executable).parent / "kleff"
EFFECTS = sized(10_000)
FLUSHES = "fsync,fdatasync,syncfs,sync_file_range"


def linux_tree(top: Path, people: int) -> Path:
    lines = ["root:x:0:0::/root:/bin/sh\n"]
    for folder in ("etc", "opt", "var/lib", "root"):
        (top / folder).mkdir(parents=True)
    for number in range(people):
        home = top / f"home/person{number:02d}"
        home.mkdir(parents=True)
        os.chown(home, 1000 + number, 1000 + number)
        lines.append(f"person{number:02d}:x:{1000 + number}:{1000 + number}::/home/person{number:02d}:/bin/sh\n")
    (top / "etc/passwd").write_text("".join(lines))
    return top


def written(file: Path, text: str) -> Path:
    file.write_text(HEAD + text)
    file.chmod(0o644)
    return file


def flushes(work: Path, name: str, steps: str) -> str:
    """A run of 10,000 effects under strace: how often the disk was asked to flush."""
    top = linux_tree(work / name, 0)
    (top / "opt/big").mkdir()
    for number in range(EFFECTS):
        (top / f"opt/big/file{number:05d}").touch()
    counts = work / f"{name}.counts"
    words = [
        KLEFF,
        "run",
        written(work / f"{name}.toml", steps),
        "--on",
        f"root:{top}",
        "--yes",
        "--without-evidence",
        "--quiet",
        "--cases",
        work / f"{name}-cases",
    ]
    trace = ["strace", "-f", "-c", "-e", f"trace={FLUSHES}", "-o", str(counts)]
    subprocess.run([*trace, *map(str, words)], check=True, stdout=subprocess.DEVNULL)
    calls = [line.split() for line in counts.read_text().splitlines() if line.endswith(tuple(FLUSHES.split(",")))]
    total = sum(int(words[3]) for words in calls)
    shutil.rmtree(top)
    return f"| {name} | {EFFECTS:,} | {total:,} | {total / EFFECTS:.2f} |"


def journal_rate(work: Path, number: int) -> float:
    """Seconds for 10,000 effects through the journal, intents in groups of 100, confirmed in groups."""
    journal = Journal(work / f"case{number}.db", create=True)
    begun = time.perf_counter()
    for start in range(1, EFFECTS, 100):
        effect = Moved(aside_="AA==", identity=(1, 2), parent_times=(3, 4), items=1, size=1)
        journal.intend([(1, effect, b"\0opt\0big\0file")] * 100)
        journal.mark(range(start, start + 100), "done")
    taken = time.perf_counter() - begun
    journal.close()
    return taken


def lines_rate(work: Path, number: int) -> float:
    """Seconds for as many lines of JSON with one fsync each."""
    with (work / f"lines{number}.jsonl").open("w") as file:
        begun = time.perf_counter()
        for n in range(EFFECTS):
            file.write(
                json.dumps({"id": n, "kind": "moved", "place": "/opt/big/file", "aside": "AA==", "identity": [1, 2], "items": 1}) + "\n"
            )
            file.flush()
            os.fsync(file.fileno())
        return time.perf_counter() - begun


def preview(work: Path, name: str, step: Callable[[int], str]) -> str:
    """Wall time and largest memory of one preview of 1,000 steps for 50 accounts."""
    people = max(sized(50), 10)
    top = linux_tree(work / name, people)
    for number in range(0, people, 5):
        (top / f"home/person{number:02d}/.big7").mkdir()
    file = written(work / f"{name}.toml", "".join(step(n) for n in range(sized(1000))))
    taken, peak, actions = [], 0, 0
    for _ in range(3):
        begun = time.perf_counter()
        timer = ["/usr/bin/env", "python3", "-c", MEMORY, str(KLEFF), "preview", str(file), "--on", f"root:{top}", "--json"]
        done = subprocess.run(timer, check=True, capture_output=True, text=True)
        taken.append(time.perf_counter() - begun)
        peak = max(peak, int(done.stderr.split()[-1]))
        actions = len(json.loads(done.stdout)["actions"])
    return f"| {name} | {actions:,} | {statistics.median(taken):.1f} | {peak // 1024} |"


MEMORY = """import resource, subprocess, sys
subprocess.run(sys.argv[1:])
print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss, file=sys.stderr)"""


def main(folder: str) -> None:
    with tempfile.TemporaryDirectory(dir=folder or None) as name:
        work = Path(name)
        print(f"Python {platform.python_version()}, {os.cpu_count()} cores, {time.strftime('%Y-%m-%d')}\n")
        print("| run | effects | flushes | flushes per effect |\n|---|---|---|---|")
        print(flushes(work, "one step that matches them all", f"[[delete]]\npaths = ['/opt/big/*']\nat_most = {EFFECTS}\n"))
        each = "".join(f"'/opt/big/file{n:05d}',\n" for n in range(EFFECTS))
        print(flushes(work, "one step that names each", f"[[delete]]\npaths = [{each}]\n"))
        pairs = [(journal_rate(work, n), lines_rate(work, n)) for n in range(5)]
        ratios = [b / a for a, b in pairs]
        ours, peer = (EFFECTS / statistics.median(p[i] for p in pairs) for i in (0, 1))
        print("\n| journal | effects a second | rate : JSON lines, one fsync each |\n|---|---|---|")
        print(f"| Kleff's, groups of 100 | {ours:,.0f} | {statistics.median(ratios):.1f} ({min(ratios):.1f}..{max(ratios):.1f}) |")
        print(f"| JSON lines, one fsync each | {peer:,.0f} | 1 |")
        print("\n| preview, 1,000 steps, 50 accounts | actions | seconds | MiB |\n|---|---|---|---|")
        print(preview(work, "one step in ten per account", lambda n: step("{user.home}/.big" if n % 10 == 0 else "/opt/big/part", n)))
        print(preview(work, "every step per account", lambda n: step("{user.home}/.big", n)))


def step(path: str, number: int) -> str:
    return f"[[delete]]\npaths = ['{path}{number}']\n"


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else "")
