"""Questions about packages against apt's own simulation, paired in one run: `kleff unneeded`, and a survey with a preview of one package.

    python benchmarks/packages.py [PAIRS] [PACKAGE]

As root, on a machine with apt and its lists; PACKAGE (default busybox-static) must be installed. Nothing is removed.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

KLEFF = str(Path(sys.executable).parent / "kleff")


def timed(*commands: list[str]) -> float:
    begun = time.perf_counter()
    for command in commands:
        subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.perf_counter() - begun


def main() -> None:
    pairs, package = int(sys.argv[1]) if len(sys.argv) > 1 else 5, sys.argv[2] if len(sys.argv) > 2 else "busybox-static"
    installed = len(subprocess.run(["dpkg-query", "-W"], capture_output=True, text=True).stdout.splitlines())
    print(f"{installed} packages\n\n| what | ours, s | peer, s | ratio |\n|---|---|---|---|")
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "p.toml"
        file.write_text(
            f'format = 1\n[product]\nid = "one"\nname = "One"\nvendor = "x"\n[[evidence]]\npackage = "{package}"\n'
            f'[[purge]]\npackage = "{package}"\n'
        )
        rows = {
            "`kleff unneeded` : `apt-get -s autoremove`": ([[KLEFF, "unneeded"]], ["apt-get", "-s", "autoremove"]),
            "`kleff survey` and `kleff preview` of one package : `apt-get -s purge`": (
                [[KLEFF, word, str(file), "--on", "this"] for word in ("survey", "preview")], ["apt-get", "-s", "purge", package],
            ),
        }  # fmt: skip
        for name, (ours, peer) in rows.items():
            timed(*ours, peer)  # warm
            found = [(timed(*ours), timed(peer)) for _ in range(pairs)]
            ratios = sorted(a / b for a, b in found)
            print(
                f"| {name} | {statistics.median(a for a, _ in found):.2f} | {statistics.median(b for _, b in found):.2f} | "
                f"{statistics.median(ratios):.2f} ({ratios[0]:.2f}..{ratios[-1]:.2f}) |"
            )


if __name__ == "__main__":
    main()
