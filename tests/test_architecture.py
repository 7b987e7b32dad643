"""The house: imports run downward only, the core does not talk, and commands load only what they use."""

from __future__ import annotations

import ast
import re
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import pytest
import typer

from kleff.cli import app as command_line

SOURCE = Path(__file__).parent.parent / "src/kleff"
# A module may import from its own rank or below.
RANKS = {
    "errors": 0, "closing": 0, "texts": 0, "progress": 0, "procedure": 1, "registry": 1, "workstation": 2, "case": 3, "objects": 4,
    "engine": 5, "search": 6, "report": 7, "cli": 8, "__main__": 9,
}  # fmt: skip
SYSTEMS = {"linux", "windows", "macos", "lab", "memory"}
# A program of a lab is a program of its own; what it prints is its output.
SPEAKS = {"workstation/lab/program.py"}


@cache
def modules() -> tuple[tuple[str, ast.Module], ...]:
    return tuple((str(file.relative_to(SOURCE)), ast.parse(file.read_text("utf-8"))) for file in sorted(SOURCE.rglob("*.py")))


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
    """`linux` and `windows` stand alone; a lab stands on `windows`, `memory` on both; `files` and `posix` on none."""
    wrong = []
    for name, tree in modules():
        parts = Path(name).parts
        if parts[0] != "workstation" or len(parts) < 3:
            continue
        standing_on = {"lab": {"lab", "windows"}, "memory": {"memory", "linux", "windows"}, "files": set(), "posix": set()}
        allowed = standing_on.get(parts[1], {parts[1]})
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
        assert len((SOURCE / name).read_text("utf-8").splitlines()) <= 350, name
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef):
                lengths.append(((node.end_lineno or 0) - node.lineno + 1, f"{name}: {node.name}"))
    assert [entry for entry in sorted(lengths)[-5:] if entry[0] > 60] == []


def test_no_folder_is_crowded() -> None:
    """No folder above some 15 files without sub-folders that say what they hold."""
    crowded = {}
    for folder in (f for f in SOURCE.rglob("*") if f.is_dir() and f.name != "__pycache__"):
        files = [f for f in folder.glob("*.py") if f.name != "__init__.py"]
        if len(files) > 17:
            crowded[str(folder.relative_to(SOURCE))] = len(files)
    assert crowded == {}


def test_no_cycles() -> None:
    """Also not by imports within functions, or for type checking alone."""
    graph: dict[str, set[str]] = {}
    for name, tree in modules():
        here = "kleff." + name.removesuffix(".py").removesuffix("/__init__").replace("/", ".")
        found = set()
        for node in ast.walk(tree):
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("kleff"):
                deeper = {f"{node.module}.{alias.name}" for alias in node.names}
                known = {m for m in deeper if (SOURCE.parent / (m.replace(".", "/") + ".py")).exists()}
                found |= known or {str(node.module)}
            elif isinstance(node, ast.Import):
                found |= {alias.name for alias in node.names if alias.name.startswith("kleff")}
        graph[here] = found - {here}
    waiting = {m: {n for n in needs if n in graph and not here_holds(n, m)} for m, needs in graph.items()}
    while waiting:
        free = {m for m, needs in waiting.items() if not needs & waiting.keys()}
        assert free, f"a ring of imports among {sorted(waiting)}"
        waiting = {m: needs for m, needs in waiting.items() if m not in free}


def here_holds(package: str, module: str) -> bool:
    """A package's own `__init__` that loads its modules is no ring."""
    return module.startswith(package + ".")


# The methods by which a facet changes the workstation, by the names its facet goes by.
CHANGING = {
    "services": {"stop", "hold", "release", "restore"}, "tasks": {"set_enabled"}, "units": {"stop", "restore"},
    "processes": {"ask_to_end", "end"}, "packages": {"remove", "put_back", "clear_stand_ins", "clear_up"}, "commands": {"start"},
    "registry": {"delete_tree", "write_tree"}, "api": {"create", "set", "delete_value", "delete_key", "flush"},
}  # fmt: skip
ANY = set().union(*CHANGING.values()) - {"set", "remove", "create", "start", "stop", "flush", "end", "restore", "release"}
FOLDER = {
    "make_folder", "make_link", "remove_if_empty", "remove_single", "set_owner", "set_mode", "set_attribute", "set_times", "set_link",
    "copy_file", "copy_tree", "delete_copied", "delete_tree",
}  # fmt: skip


def changes(call: ast.Call) -> bool:
    """Whether a call is one of a facet's changing methods: by the method's name, and that of what it is called on."""
    if not isinstance(call.func, ast.Attribute):
        return False
    on = call.func.value
    name = on.attr if isinstance(on, ast.Attribute) else on.id if isinstance(on, ast.Name) else ""
    method = call.func.attr
    return method in CHANGING.get(name, set()) or (name == "facet" and method in set().union(*CHANGING.values())) or method in ANY | FOLDER


def test_only_effects_change_the_workstation() -> None:
    """A kind, the engine and the command line change it through `case.effects` alone."""
    wrong = []
    for name, tree in modules():
        if name.split("/")[0] in ("objects", "engine", "report", "cli", "search"):
            calls = [n for n in ast.walk(tree) if isinstance(n, ast.Call)]
            wrong += [f"{name}:{c.lineno} {ast.unparse(c.func)}" for c in calls if changes(c)]
    assert wrong == []


def test_changing_calls_are_found() -> None:
    """The test above can fail."""
    for text in ("here.workstation.services.stop(name)", "facet.end(process)", "registry.delete_tree(key)", "folder.set_mode(1)"):
        call = ast.parse(text).body[0]
        assert isinstance(call, ast.Expr)
        assert isinstance(call.value, ast.Call)
        assert changes(call.value), text


FREE = {"fsdecode", "fsencode", "path", "sep", "environ", "getpid", "PathLike", "pathsep", "devnull", "linesep"}
SYSTEM = {"fcntl", "pwd", "grp", "ctypes", "signal", "termios", "resource", "subprocess", "socket", "mmap", "select", "psutil", "winreg"}


def test_nothing_above_the_workstation_makes_a_system_call() -> None:
    """No descriptors, no `dir_fd`, no numbers of accounts: they are asked through facets. `cli` may ask for environment and terminal."""
    wrong = []
    for name, tree in modules():
        if name.split("/")[0] not in ("case", "objects", "engine", "report", "search"):
            continue
        wrong += [f"{name} imports {m}" for m in imported(tree) if m.split(".")[0] in SYSTEM]
        for node in ast.walk(tree):
            if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name) and node.value.id == "os" and node.attr not in FREE:
                wrong.append(f"{name}:{node.lineno} os.{node.attr}")
            if isinstance(node, ast.keyword) and node.arg in ("dir_fd", "src_dir_fd", "dst_dir_fd", "follow_symlinks"):
                wrong.append(f"{name}: {node.arg}")
            if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("kleff.workstation.posix"):
                wrong.append(f"{name}:{node.lineno} imports {node.module}")
    assert wrong == []


def test_engine_and_report_ask_abilities() -> None:
    """No `getattr`, no choice by a verb's words, no class of a kind or of its steps; `standard` only makes the kinds known."""
    wrong = []
    for name, tree in modules():
        if name.split("/")[0] not in ("engine", "report"):
            continue
        for node in ast.walk(tree):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in ("getattr", "setattr", "hasattr"):
                wrong.append(f"{name}:{node.lineno} {node.func.id}")
            if isinstance(node, ast.Compare) and any(isinstance(n, ast.Attribute) and n.attr == "verb" for n in ast.walk(node)):
                wrong.append(f"{name}:{node.lineno} compares a verb")
            module = (node.module or "") if isinstance(node, ast.ImportFrom) else ""
            if module.startswith("kleff.objects.") and not module.startswith(("kleff.objects.base", "kleff.objects.standard")):
                wrong.append(f"{name}:{node.lineno} imports {node.module}")
    assert wrong == []


HIDDEN = """
import importlib, os, pkgutil, sys
for name in ("typer", "rich.progress", "rich.console", "msgspec", "zstandard", "tree_sitter", "tree_sitter_toml", "sqlite3", "psutil",
             "subprocess", "tempfile", "shutil", "concurrent.futures", "tomllib", "getpass", "pathlib", "threading"):
    importlib.import_module(name)
import kleff
for name in [n for n in dir(os) if n.startswith("O_") and n not in ("O_RDONLY", "O_WRONLY", "O_RDWR", "O_APPEND", "O_CREAT", "O_EXCL",
                                                                   "O_TRUNC")]:
    delattr(os, name)
for name in ("geteuid", "getuid", "getegid", "getgid", "fchmod", "fchown", "chown", "lchown", "mkfifo", "mknod", "statvfs", "fork",
             "getxattr", "listxattr", "setxattr", "pread", "pwrite", "setsid", "pidfd_open", "posix_fallocate", "WNOHANG"):
    delattr(os, name)
for name in ("fcntl", "pwd", "grp", "termios", "resource"):
    sys.modules[name] = None
sys.platform = "win32"
for module in pkgutil.walk_packages(kleff.__path__, "kleff."):
    apart = ("kleff.workstation.posix", "kleff.workstation.linux", "kleff.workstation.windows.host")
    if module.name.startswith(apart) or module.name.endswith("__main__"):
        continue
    importlib.import_module(module.name)
"""


def test_everything_but_the_posix_half_imports_without_posix() -> None:
    """As a Python without these names would: a second system can stand beside."""
    done = subprocess.run([sys.executable, "-c", HIDDEN], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr


HEAVY = ("numpy", "pandas", "scipy", "matplotlib", "pydantic")
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


def test_one_command_alone_is_made_ready_and_is_as_among_all() -> None:
    """To make all of them ready takes longer than most of what they are asked for."""
    names = [*command_line.COMMANDS, *command_line.GROUPS]
    whole = typer.main.get_command(command_line.app())
    for name in names:
        alone = typer.main.get_command(command_line.app(name))
        assert isinstance(alone, typer.core.TyperGroup)
        assert isinstance(whole, typer.core.TyperGroup)
        assert list(alone.commands) == [name]
        helps = {group.commands[name].get_help(typer.Context(group.commands[name], info_name=name)) for group in (alone, whole)}
        assert len(helps) == 1
    assert set(whole.commands) == set(names)


# Texts for people; what a program needs to know stands in a field of its own.
SHOWN = {"reason", "note", "notes", "shows", "brief", "offers", "because", "undo", "state_word", "title", "target", "what"}
TAKEN_APART = {
    "startswith", "endswith", "removeprefix", "removesuffix", "partition", "rpartition", "split", "rsplit", "splitlines", "find", "index",
    "replace", "match", "search", "fullmatch", "count",
}  # fmt: skip
MAY = {
    ("engine/cases/rows.py", "_settled"),  # plans that hold no field for it yet
    ("engine/cases/again.py", "_same_text"),  # plans of the first format
    ("workstation/memory/tree.py", "_follow"),  # where a link leads
}


def read_as_data(tree: ast.AST) -> Iterator[tuple[str, int]]:
    """Where a text for people is taken apart, compared, or looked into: (function, line)."""
    for function in (n for n in ast.walk(tree) if isinstance(n, ast.FunctionDef)):
        shown = {
            name.id for loop in ast.walk(function) if isinstance(loop, ast.For | ast.comprehension) and is_shown(loop.iter)
            for name in ast.walk(loop.target) if isinstance(name, ast.Name)
        }  # fmt: skip
        for node in ast.walk(function):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr in TAKEN_APART:
                on = [node.func.value, *(node.args if ast.unparse(node.func.value) == "re" else [])]
                if any(is_shown(one) or (isinstance(one, ast.Name) and one.id in shown) for one in on):
                    yield function.name, node.lineno
            if isinstance(node, ast.Compare):
                said = [
                    isinstance(one, ast.Constant) and isinstance(one.value, str) and len(one.value) > 1
                    for one in (node.left, *node.comparators)
                ]
                if any(said) and any(is_shown(one) for one in (node.left, *node.comparators)):
                    yield function.name, node.lineno


def is_shown(node: ast.AST) -> bool:
    """Whether it is such a text: of an action, a row, an outcome, an error; also one of two."""
    if isinstance(node, ast.BoolOp):
        return any(is_shown(one) for one in node.values)
    return isinstance(node, ast.Attribute) and node.attr in SHOWN and not (isinstance(node.value, ast.Name) and node.value.id == "self")


def test_no_text_for_people_is_data() -> None:
    wrong = [
        f"{name}:{line} in {function}" for name, tree in modules() for function, line in read_as_data(tree) if (name, function) not in MAY
    ]
    assert wrong == []


PLANTED = """
if row.note.startswith("tell the vendor"): pass
text = action.reason.removesuffix("; since")
a, b = action.offers.partition(";")[::2]
x = next(line for line in action.shows if line.startswith("its file: "))
if action.because == "it came along": pass
if "stays" in outcome.note: pass
found = re.search("x", finding.reason)
name = (row.note or action.reason).split(";")[0]
"""


@pytest.mark.parametrize("planted", PLANTED.split("\n")[1:-1])
def test_a_planted_one_is_found(planted: str) -> None:
    assert list(read_as_data(ast.parse(f"def f():\n    {planted}\n")))


# Called from outside: by the scripts that make docs and tables, by a kind that is defined elsewhere, by Typer, by io.RawIOBase.
ENTRANCES = {"system_names", "as_data", "register", "forget", "phases_of", "_main", "seekable", "readinto"}
NOT_YET = {"is_signed"}  # a reader that stands with its tests before its first user


def test_nothing_is_defined_that_nothing_uses() -> None:
    """Every function, class, method and constant has a user in `src`; tests alone are none."""
    text = "\n".join(file.read_text("utf-8") for file in SOURCE.rglob("*.py"))
    used = Counter(re.findall(r"[A-Za-z_]\w*", text))
    alone = []
    for name, tree in modules():
        for node in ast.walk(tree):
            names = [node.name] if isinstance(node, ast.FunctionDef | ast.ClassDef) else []
            if isinstance(node, ast.Module):
                assigned = [one for one in node.body if isinstance(one, ast.Assign)]
                names = [n.id for one in assigned for target in one.targets for n in ast.walk(target) if isinstance(n, ast.Name)]
            alone += [f"{name}: {n}" for n in names if used[n] == 1 and not n.startswith("__") and n not in ENTRANCES | NOT_YET]
    assert alone == [], alone
