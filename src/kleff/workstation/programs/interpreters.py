"""Which script, module or archive an interpreter runs: the first argument that is one, and nothing that stands behind it."""

from __future__ import annotations

import ntpath
import posixpath
import re
from collections.abc import Sequence

from kleff.procedure.globs import PathStyle
from kleff.workstation.things import Process

# By the name of the program: options that take the next argument along, and those after which no file is run.
SHELL, PYTHON = r"(?:ba|da|k|mk|z|a|fi)?sh", r"pythonw?[\d.]*|pypy[\d.]*"
INTERPRETERS: tuple[tuple[str, frozenset[str], frozenset[str]], ...] = (
    (SHELL, frozenset({"-o", "-O", "+o", "+O", "--rcfile", "--init-file"}), frozenset({"-c", "-s"})),
    (PYTHON, frozenset({"-W", "-X", "-Q", "--check-hash-based-pycs"}), frozenset({"-c", "-m"})),
    (r"perl[\d.]*", frozenset({"-I"}), frozenset({"-e", "-E"})),
    (r"ruby[\d.]*", frozenset({"-I", "-r", "-C", "-E"}), frozenset({"-e"})),
    (r"node(?:js)?", frozenset({"-r", "--require", "--import", "-C", "--conditions"}), frozenset({"-e", "--eval", "-p", "--print"})),
    (r"php[\d.]*", frozenset({"-c", "-d", "-z"}), frozenset({"-r", "-S"})),
    (r"lua[\d.]*|tclsh[\d.]*|wish[\d.]*|Rscript|mono|dotnet|[wc]script", frozenset(), frozenset({"-e"})),
)
NAMED_BY = {r"javaw?": ("-jar",), r"powershell|pwsh": ("-file", "-f")}  # the file stands behind one of these alone
OF_JAVA = {"-cp", "-classpath", "--class-path", "-p", "--module-path", "--add-modules", "-d", "--upgrade-module-path"}


def script_of(process: Process, style: PathStyle) -> str:
    """The whole path of what an interpreter runs; "" if the program is none, or runs nothing that has one.

    A name that is no whole path depends on the folder in which it was started, which nobody knows any more.
    """
    program = re.split(f"[{re.escape(style.separators)}]", process.path or process.name)[-1]
    name = program[:-4] if program[-4:].lower() == ".exe" else program
    found = _file(name, process.command[1:])
    found = (ntpath if style.drives else posixpath).normpath(found) if found else ""
    return found if style.split(found) is not None else ""


def _file(name: str, arguments: Sequence[str]) -> str:
    for pattern, options in NAMED_BY.items():
        if re.fullmatch(pattern, name, re.IGNORECASE):
            return _behind(arguments, options)
    for pattern, valued, none in INTERPRETERS:
        if re.fullmatch(pattern, name, re.IGNORECASE):
            return _first(arguments, valued, none)
    return ""


def _behind(arguments: Sequence[str], options: Sequence[str]) -> str:
    """What stands behind an option of the interpreter's own: what comes after a class is an argument of that."""
    waiting = list(arguments)
    while waiting and waiting[0].startswith("-"):
        one = waiting.pop(0)
        if one.lower() in options:
            return waiting[0] if waiting else ""
        if one in OF_JAVA:
            del waiting[:1]
    return ""


def _first(arguments: Sequence[str], valued: frozenset[str], none: frozenset[str]) -> str:
    waiting = list(arguments)
    while waiting:
        one = waiting.pop(0)
        if one in none:
            return ""
        if one == "--":
            return waiting[0] if waiting else ""
        if one in valued:
            del waiting[:1]
        elif not one.startswith(("-", "+", "//")) or one == "-":
            return one
    return ""
