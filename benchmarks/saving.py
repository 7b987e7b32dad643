"""Saving and giving back against the system's own tools, paired in one run.

    python benchmarks/saving.py [MIB] [ROUNDS] [FOLDER]

Prints a Markdown table. MIB of mixed files (default 1024): half in a few large ones, a third in files of a megabyte or so, the rest
in small ones; half of it packs well. Ours is the whole `kleff run` of a one-step procedure and the whole `kleff restore`. The peer
saves with `tar --zstd`, hashes every file with `sha256sum` and compares with `tar -d`; it gives back with `tar -x`, once alone and
once with the hashes compared as ours does. KLEFF_COLD=1 empties the caches before each. Needs
root: the tree is a Linux tree with accounts of its own.
"""

from __future__ import annotations

import os
import platform
import random
import resource
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from caches import COLD, settle

PROCEDURE = """format = 1
[product]
id = "big"
name = "Big"
[[evidence]]
path = '/opt/none'
[[backup]]
label = "all"
paths = ['/opt/big']
"""


def grow(top: Path, mib: int) -> int:
    """Mixed files; returns how many."""
    draw, count = random.Random(7), 0
    words = [draw.randbytes(6).hex().encode() + b" " for _ in range(5000)]

    def content(size: int) -> bytes:
        return b"".join(draw.choices(words, k=size // 13 + 1))[:size] if draw.random() < 0.5 else draw.randbytes(size)

    for share, low, high, name in ((0.1, 500, 20_000, "small"), (0.35, 200_000, 2_500_000, "middle"), (0.55, 60 << 20, 120 << 20, "large")):
        left = int(share * mib * (1 << 20))
        while left > 0:
            size = min(left, draw.randint(low, high))
            file = top / name / f"{count // 200:04d}" / f"{count}.bin"
            file.parent.mkdir(parents=True, exist_ok=True)
            with file.open("wb") as out:
                for start in range(0, size, 1 << 20):
                    out.write(content(min(1 << 20, size - start)))
            left, count = left - size, count + 1
    return count


def run(*words: object, cwd: Path | None = None) -> float:
    settle()
    begun = time.perf_counter()
    subprocess.run([str(w) for w in words], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd=cwd)
    return time.perf_counter() - begun


def shell(text: str, cwd: Path) -> float:
    return run("bash", "-ec", text, cwd=cwd)


def one_round(top: Path, bench: Path, ours_first: bool) -> dict[str, tuple[float, float]]:
    kleff = [sys.executable, "-m", "kleff"]
    common = ["--on", f"root:{top}", "--yes", "--quiet", "--cases", bench / "cases"]
    found: dict[str, tuple[float, float]] = {}

    def save() -> float:
        shutil.rmtree(bench / "cases", ignore_errors=True)
        return run(*kleff, "run", bench / "p.toml", *common, "--without-evidence")

    def tar() -> float:
        (bench / "t.tar.zst").unlink(missing_ok=True)
        return shell(
            f"tar --zstd -cf t.tar.zst -C {top}/opt big; find {top}/opt/big -type f -print0 | xargs -0 sha256sum > sums; "
            f"tar --zstd -df t.tar.zst -C {top}/opt",
            bench,
        )

    a, b = (save(), tar()) if ours_first else tuple(reversed((tar(), save())))
    found["save, hash, read back"] = (a, b)
    case = next((bench / "cases").iterdir())
    shutil.rmtree(top / "opt/big")
    os.sync()

    def plain() -> float:
        (bench / "x").mkdir()
        return shell("tar --zstd -xf t.tar.zst -C x; sync -f x", bench)

    def back() -> float:
        return run(*kleff, "restore", case, *common)

    a, b = (back(), plain()) if ours_first else tuple(reversed((plain(), back())))
    checked = shell(f"sed 's|{top}/opt|x|' sums > sums.x; sha256sum --quiet -c sums.x", bench)
    found["give back, against tar -x"] = (a, b)
    found["give back, against tar -x and sha256sum -c"] = (a, b + checked)
    shutil.rmtree(bench / "x")
    return found


def main() -> None:
    mib = int(sys.argv[1]) if len(sys.argv) > 1 else 1024
    rounds = int(sys.argv[2]) if len(sys.argv) > 2 else 3
    bench = Path(tempfile.mkdtemp(prefix="kleff-bench-", dir=sys.argv[3] if len(sys.argv) > 3 else None))
    try:
        top = bench / "tree"
        for folder in ("etc", "opt/big", "var/lib", "root"):
            (top / folder).mkdir(parents=True)
        (top / "etc/passwd").write_text("root:x:0:0::/root:/bin/sh\n")
        (bench / "p.toml").write_text(PROCEDURE)
        (bench / "p.toml").chmod(0o644)
        bench.chmod(0o755)
        count = grow(top / "opt/big", mib)
        os.sync()
        print(f"{platform.processor() or platform.machine()}, {os.cpu_count()} processors, Python {platform.python_version()}; "
              f"{mib} MiB in {count:,} files, {rounds} rounds, {'cold' if COLD else 'warm'} cache\n")  # fmt: skip
        results = [one_round(top, bench, n % 2 == 0) for n in range(rounds)]
        print("| | ours | peer | ratio |\n|---|---:|---:|---:|")
        for name in results[0]:
            pairs = [r[name] for r in results]
            ratios = sorted(a / b for a, b in pairs)
            print(f"| {name} | {statistics.median(a for a, _ in pairs):.1f} s | {statistics.median(b for _, b in pairs):.1f} s "
                  f"| {statistics.median(ratios):.2f} ({ratios[0]:.2f}..{ratios[-1]:.2f}) |")  # fmt: skip
        print(f"\nMost memory of a command: {resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024:.0f} MiB")
    finally:
        shutil.rmtree(bench, ignore_errors=True)


if __name__ == "__main__":
    main()
