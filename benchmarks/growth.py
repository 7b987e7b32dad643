"""How every command grows with what it is about: seconds at 1,000, 10,000 and 100,000 actions, and with packages, accounts and cases.

    python benchmarks/growth.py [FOLDER]

Prints Markdown tables; the last columns are by how much tenfold work takes longer. Needs root: Linux trees with accounts of their own.
"""

from __future__ import annotations

import os
import platform
import shutil
import subprocess
import sys
import tempfile
import time
from itertools import pairwise
from pathlib import Path

from caches import SMALL
from ownership import grow
from scale import HEAD, linux_tree

KLEFF = str(Path(sys.executable).parent / "kleff")
SIZES = (10,) if SMALL else (1_000, 10_000, 100_000)


def timed(*words: object) -> float:
    begun = time.perf_counter()
    done = subprocess.run([KLEFF, *map(str, words)], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
    assert done.returncode in (0, 4), done.stderr
    return time.perf_counter() - begun


def each_command(work: Path, top: Path, text: str) -> dict[str, float]:
    """Seconds of each command of a procedure on a tree."""
    file, cases = work / "p.toml", work / "cases"
    file.write_text(HEAD + text)
    file.chmod(0o644)
    shutil.rmtree(cases, ignore_errors=True)
    on = ("--on", f"root:{top}")
    found = {name: timed(*name.split(), file, *on) for name in ("survey", "preview", "preview --full", "preview --json")}
    found["run"] = timed("run", file, *on, "--yes", "--quiet", "--without-evidence", "--cases", cases)
    case = next(cases.iterdir())
    for name in ("report", "report --json", "verify"):
        found[name] = timed(*name.split(), case, "--cases", cases)
    found["undo"] = timed("undo", case, "--yes", "--quiet", "--cases", cases)
    found["cases"] = timed("cases", "--cases", cases)
    return found


def folders(work: Path, number: int) -> tuple[Path, str]:
    top = linux_tree(work / f"tree{number}", 0)
    (top / "opt/big").mkdir()
    for n in range(number):
        (top / f"opt/big/bed{n:06d}").touch()
    return top, f"[[delete]]\npaths = ['/opt/big/bed*']\nat_most = {number}\n"


def accounts(work: Path, number: int) -> tuple[Path, str]:
    top = linux_tree(work / f"people{number}", number)
    for home in (top / "home").iterdir():
        (home / ".big").mkdir()
        os.chown(home / ".big", home.stat().st_uid, home.stat().st_gid)
    return top, "[[delete]]\npaths = ['{user.home}/.big']\n"


def packages(work: Path, number: int) -> tuple[Path, str]:
    top = work / f"packages{number}"
    grow(top, number)
    patterns = ", ".join(f"'hoe-{n}*'" for n in range(10))
    return top, f"[[purge]]\npackage = [{patterns}]\nat_most = {number}\n"


def table(title: str, found: dict[int, dict[str, float]]) -> None:
    sizes = list(found)
    print(f"\n| {title} | {' | '.join(f'{size:,}' for size in sizes)} | {' | '.join('tenfold' for _ in sizes[1:])} |")
    print("|---" * (2 * len(sizes)) + "|")
    for name in found[sizes[0]]:
        took = [found[size][name] for size in sizes]
        times = (b / a for a, b in pairwise(took))
        print(f"| `kleff {name}` | {' | '.join(f'{t:.2f}' for t in took)} | {' | '.join(f'{t:.1f}' for t in times)} |", flush=True)


def many_cases(work: Path, number: int) -> dict[str, float]:
    """A folder with so many cases, each of one action."""
    top, text = folders(work, 1)
    (work / "p.toml").write_text(HEAD + text)
    timed("run", work / "p.toml", "--on", f"root:{top}", "--yes", "--quiet", "--without-evidence", "--cases", work / "cases")
    case = next((work / "cases").iterdir())
    for n in range(1, number):
        shutil.copytree(case, work / f"cases/{case.name[:-1]}{n + 1}")
    return {"cases": timed("cases", "--cases", work / "cases"), "cases --json": timed("cases", "--json", "--cases", work / "cases")}


def main(folder: str) -> None:
    with tempfile.TemporaryDirectory(dir=folder or None) as name:
        work = Path(name)
        print(f"Python {platform.python_version()}, {os.cpu_count()} cores, {time.strftime('%Y-%m-%d')}")
        table("actions", {size: each_command(work, *folders(work, size)) for size in SIZES})
        table("accounts", {size: each_command(work, *accounts(work, size)) for size in ((5,) if SMALL else (100, 1_000))})
        looked = {size: packages(work, size) for size in ((10,) if SMALL else (1_000, 10_000))}
        found = {}
        for size, (top, text) in looked.items():
            (work / "p.toml").write_text(HEAD + text)
            found[size] = {word: timed(word, work / "p.toml", "--on", f"root:{top}") for word in ("survey", "preview")}
        table("packages", found)
        table("cases", {size: many_cases(work / f"many{size}", size) for size in _folders(work, (2,) if SMALL else (200, 2_000))})


def _folders(work: Path, sizes: tuple[int, ...]) -> tuple[int, ...]:
    for size in sizes:
        (work / f"many{size}").mkdir(exist_ok=True)
    return sizes


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else "")
