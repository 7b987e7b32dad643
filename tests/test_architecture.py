"""The house: imports run downward only, the core does not talk, and commands load only what they use."""

from __future__ import annotations

import ast
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

SOURCE = Path(__file__).parent.parent / "src/kleff"
# A module may import from its own rank or below. `report` and `engine` stand beside each other, `report` reads from `engine`.
RANKS = {
    "errors": 0, "texts": 0, "progress": 0, "procedure": 1, "registry": 1, "workstation": 2, "case": 3, "objects": 4,
    "engine": 5, "search": 5, "report": 6, "cli": 7, "__main__": 8,
}  # fmt: skip
SYSTEMS = {"linux", "windows", "macos", "lab"}
# A program of a lab is a program of its own; what it prints is its output.
SPEAKS = {"workstation/lab/program.py"}


def modules() -> Iterator[tuple[str, ast.Module]]:
    for file in sorted(SOURCE.rglob("*.py")):
        yield str(file.relative_to(SOURCE)), ast.parse(file.read_text("utf-8"))


def imported(tree: ast.Module) -> Iterator[str]:
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom):
            yield node.module or ""
        elif isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)


def test_imports_run_downward() -> None:
    wrong = []
    for name, tree in modules():
        here = Path(name).parts[0].removesuffix(".py")
        for module in imported(tree):
            parts = module.split(".")
            if parts[0] != "kleff" or len(parts) == 1 or here == "__init__":
                continue
            if RANKS[parts[1]] > RANKS[here]:
                wrong.append(f"{name} imports {module}")
            if here == "procedure" and parts[1] in ("workstation", "registry"):
                wrong.append(f"{name} imports {module}")
    assert wrong == []


def test_systems_do_not_know_each_other() -> None:
    """`linux` and `windows` stand alone; a lab stands on `windows`; `common` on none."""
    wrong = []
    for name, tree in modules():
        parts = Path(name).parts
        if parts[0] != "workstation" or len(parts) < 3:
            continue
        allowed = {"lab": {"lab", "windows"}, "common": set()}.get(parts[1], {parts[1]})
        for module in imported(tree):
            system = module.split(".")[2] if module.startswith("kleff.workstation.") else ""
            if system in SYSTEMS - allowed:
                wrong.append(f"{name} imports {module}")
    assert wrong == []


def test_only_the_command_line_talks() -> None:
    wrong = []
    for name, tree in modules():
        if name.startswith("cli/") or name in SPEAKS or name == "__main__.py":
            continue
        wrong += [f"{name} imports {m}" for m in imported(tree) if m.split(".")[0] in ("typer", "rich", "click")]
        calls = [n for n in ast.walk(tree) if isinstance(n, ast.Call) and isinstance(n.func, ast.Name)]
        wrong += [f"{name}:{c.lineno} calls {c.func.id}" for c in calls if isinstance(c.func, ast.Name) and c.func.id in ("print", "input")]
    assert wrong == []


def test_no_shell_anywhere() -> None:
    wrong = []
    for name, tree in modules():
        for call in (n for n in ast.walk(tree) if isinstance(n, ast.Call)):
            if any(k.arg == "shell" for k in call.keywords) or ast.unparse(call.func) in ("os.system", "os.popen"):
                wrong.append(f"{name}:{call.lineno}")
    assert wrong == []


def test_functions_and_files_can_be_read_at_once() -> None:
    lengths = []
    for name, tree in modules():
        assert len((SOURCE / name).read_text("utf-8").splitlines()) <= 420, name
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef):
                lengths.append(((node.end_lineno or 0) - node.lineno + 1, f"{name}: {node.name}"))
    assert [entry for entry in sorted(lengths)[-5:] if entry[0] > 60] == []


HEAVY = ("numpy", "pandas", "scipy", "matplotlib")
RUNS = ("sqlite3", "zstandard", "tarfile", "psutil", "kleff.case.effects", "kleff.case.record.journal", "rich.progress")
FORBIDDEN = {
    "--version": (*HEAVY, *RUNS, "typer", "msgspec", "argparse", "subprocess", "dataclasses"),
    "--help": (*HEAVY, *RUNS, "msgspec", "tomllib", "tree_sitter", "rich", "kleff.engine", "kleff.workstation", "kleff.procedure"),
    "survey": (*HEAVY, *RUNS, "jsonschema", "kleff.report.documents"),
    "preview": (*HEAVY, *RUNS, "rich.table"),
    "list": (*HEAVY, *RUNS),
    "cases": (*HEAVY, "zstandard", "psutil", "tree_sitter"),
}
PROBE = """
import sys
sys.argv = ["kleff", *{words!r}]
from kleff.__main__ import main
try:
    main()
except SystemExit as end:
    assert not end.code, end.code
print("\\n".join(sys.modules), file=sys.stderr)
"""


@pytest.mark.parametrize("command", FORBIDDEN)
def test_commands_load_only_what_they_use(command: str, lab: Path, tag_studio: Path) -> None:
    words = {
        "survey": ["survey", str(tag_studio), "--on", f"lab:{lab}"],
        "preview": ["preview", str(tag_studio), "--on", f"lab:{lab}"],
        "list": ["list", "--library", str(tag_studio.parent), "--on", f"lab:{lab}"],
        "cases": ["cases", "--cases", str(lab.parent / "none")],
    }.get(command, [command])
    # The lists of what the label database holds come from a program that has to be run; that is not start-up.
    text = tag_studio.read_text().replace("lists = ", "# lists = ")
    tag_studio.write_text(text)
    done = subprocess.run([sys.executable, "-c", PROBE.format(words=words)], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    loaded = set(done.stderr.split("\n"))
    assert sorted(m for m in loaded if any(m == f or m.startswith(f + ".") for f in FORBIDDEN[command])) == []
