"""The figures of docs/architecture.md that are counted in the code. `make_docs.py` writes them; a test holds them.

python scripts/figures.py
"""

from __future__ import annotations

import ast
from pathlib import Path

from climbs import Code, climbs, way

SOURCE = Path(__file__).parent.parent / "src" / "kleff"
COMMANDS = ("cli.work:run", "cli.work:resume", "cli.undoing:undo", "cli.restoring:restore")
HEAD = "| | 0.1.0 | now |\n|---|---|---|\n"


def rows() -> list[tuple[str, str, str]]:
    """(what, in 0.1.0, now); sizes are rounded, so that not every line changes them."""
    files = sorted(SOURCE.rglob("*.py"))
    lengths = [len(file.read_text("utf-8").splitlines()) for file in files]
    trees = [ast.parse(file.read_text("utf-8")) for file in files]
    asserted = sum(
        isinstance(n, ast.Assert) and isinstance(n.test, ast.Call) and ast.unparse(n.test.func) == "isinstance"
        for tree in trees for n in ast.walk(tree)
    )  # fmt: skip
    code = Code.read()
    climbed = [climbs(way(code, (start.partition(":")[0], start.partition(":")[2]))) for start in COMMANDS]
    return [
        ("files touched by a new kind of object with its own effect (`tests/test_new_kind.py`)", "25", "1, and the tables by a script"),
        ("places above `workstation/` that make a system call (`tests/test_architecture.py`)", "99 lines in 12 files", "none"),
        (
            "modules that import where the POSIX names are missing (`tests/test_architecture.py`)", "72 of 149",
            "all but those of `posix/` and `linux/`",
        ),
        (
            "climbs back into the command line, depth first over calls: `run`, `resume`, `undo`, `restore` (`scripts/climbs.py`)", "-",
            ", ".join(map(str, climbed)) + " (15, 5, 4, 11 before the dialogue lay in the engine)",
        ),
        ("assertions about types", "-", f"{asserted} (126 before kinds were typed by their models)"),
        ("lines of Python in `src/`, in thousands; modules, in tens", "21; 150", f"{sum(lengths) / 1000:.0f}; {round(len(files), -1)}"),
        ("longest file, lines (`tests/test_architecture.py`)", "409", "350 at most"),
    ]  # fmt: skip


def table() -> str:
    return HEAD + "".join(f"| {what} | {then} | {now} |\n" for what, then, now in rows())


if __name__ == "__main__":
    print(table(), end="")
