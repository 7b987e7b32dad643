"""How long the worst files under the size limit take to be refused, and how much memory: `kleff check` and `kleff restore`.

    python benchmarks/limits.py [ROUNDS]

As root, for the bags. Prints seconds (least..most) and MiB (most), for each file.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from caches import sized

KLEFF = Path(sys.executable).parent / "kleff"
LIMIT = max(sized(128 << 10), 4096)  # bytes of a procedure
HEAD = 'format = 1\n[product]\nid = "hoe"\nname = "Hoe"\nvendor = "Rakeworks"\n[[evidence]]\npath = "/opt/hoe"\n'


def filled(line: str, start: str = "") -> str:
    """A procedure that is as long as it may be."""
    room = LIMIT - len(HEAD) - len(start) - 1
    return HEAD + start + line * (room // len(line))


PROCEDURES = {
    "valid, as many steps as fit": filled("[[delete]]\npaths = ['/opt/hoe']\n"),
    "valid, one step with as many patterns as fit": HEAD + "[[delete]]\npaths = [" + "'/opt/hoe/*'," * sized(10_000) + "]\n",
    "unknown keys": filled("k = 1\n", "[x]\n"),
    "a number of 120,000 digits": HEAD + "x = " + "9" * sized(120_000) + "\n",
    "arrays in each other": HEAD + "x = " + "[" * sized(60_000) + "]" * sized(60_000) + "\n",
    "dotted keys": HEAD + "[" + ".".join("a" * sized(60_000)) + "]\n",
    "inline tables in each other": HEAD + "x = " + "{a=" * sized(30_000) + "1" + "}" * sized(30_000) + "\n",
    "strings that do not end": filled('a = "\n'),
    "one path of very many stars": HEAD + "[[delete]]\npaths = ['/opt/hoe/" + "a*" * sized(60_000) + "']\n",
    "paths of stars": filled("[[delete]]\npaths = ['/opt/hoe/" + "a*" * sized(2_000) + "']\n"),
    "paths of double stars": filled("[[delete]]\npaths = ['/opt/hoe/" + "**/a/" * sized(800) + "b']\n"),
    "keys of very many names": filled("[[delete]]\nkey = 'HKLM\\Software" + "\\a" * sized(2_000) + "'\n"),
}  # fmt: skip


def measured(words: list[str]) -> tuple[float, float]:
    """(seconds, MiB at most) of a command."""
    begun = time.perf_counter()
    pid = os.posix_spawn(words[0], words, os.environ, file_actions=[(os.POSIX_SPAWN_OPEN, n, os.devnull, os.O_RDWR, 0) for n in (0, 1, 2)])
    _, _, used = os.wait4(pid, 0)
    return time.perf_counter() - begun, used.ru_maxrss / 1024


@contextlib.contextmanager
def bags() -> Iterator[dict[str, list[str]]]:
    """Restores of bags without an end; made by the tests' own helpers."""
    sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
    from support import linux_tree, procedure
    from test_carried import ENDLESS
    from test_restore import LINUX, studio

    with tempfile.TemporaryDirectory() as folder:
        top, new = linux_tree(Path(folder) / "tree"), linux_tree(Path(folder) / "new")
        studio(top)
        file = procedure(Path(folder) / "p.toml", LINUX)
        run = [KLEFF, "run", file, "--on", f"root:{top}", "--yes", "--quiet", "--without-evidence", "--cases", f"{folder}/cases"]
        subprocess.run(run, check=True)
        good = next(Path(folder, "cases").iterdir()) / "bag"
        found = {}
        for number, (name, (change, _)) in enumerate(ENDLESS.items()):
            bag = Path(shutil.copytree(good, Path(folder) / f"bag{number}"))
            change(bag)
            found[name] = [str(KLEFF), "restore", str(bag), "--procedure", str(file), "--on", f"root:{new}", "--dry-run"]
        yield found


def main() -> None:
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 3
    print("| file | seconds | MiB |\n|---|---|---|")
    with tempfile.TemporaryDirectory() as folder, bags() as found:
        commands = {}
        for number, (name, text) in enumerate(PROCEDURES.items()):
            file = Path(folder) / f"{number}.toml"
            file.write_text(text)
            assert file.stat().st_size <= LIMIT, name
            commands[f"procedure: {name}"] = [str(KLEFF), "check", str(file)]
        commands |= {f"bag: {name}": words for name, words in found.items()}
        for name, words in commands.items():
            results = [measured(words) for _ in range(rounds)]
            seconds = sorted(s for s, _ in results)
            print(f"| {name} | {seconds[0]:.2f}..{seconds[-1]:.2f} | {max(m for _, m in results):.0f} |", flush=True)


if __name__ == "__main__":
    main()
