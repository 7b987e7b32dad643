"""Make a folder that runs Kleff from a stick, on a workstation without its packages and without network.

    python scripts/make_portable.py FOLDER                     for Linux, with the Python 3 that is there
    python scripts/make_portable.py FOLDER --python ARCHIVE    for Windows on 64 bits, with the official embeddable archive of Python

The folder holds `kleff` (or `kleff.cmd`), `lib/` with Kleff and all it needs, the licences of all of it, and `SHA256SUMS`. Needs pip,
network for the packages, and `packaging`.
"""

from __future__ import annotations

import argparse
import compileall
import hashlib
import os
import re
import subprocess
import sys
import tempfile
import zipfile
from collections.abc import Iterator
from email.parser import HeaderParser
from pathlib import Path, PurePosixPath
from py_compile import PycInvalidationMode

from packaging.requirements import Requirement
from packaging.utils import canonicalize_name, parse_wheel_filename

ROOT = Path(__file__).parent.parent
NATIVE = {"win32": re.compile(r"win_amd64\Z"), "linux": re.compile(r"(?:many|musl)?linux.*_x86_64\Z")}
PLATFORMS = {"win32": ["win_amd64"], "linux": ["manylinux2014_x86_64", "manylinux_2_28_x86_64"]}
FOR_WINDOWS = '@set "KLEFF_CALLED=%~f0"\r\n@"%~dp0python\\python.exe" -m kleff %*\r\n'
FOR_LINUX = """#!/bin/sh
here=$(dirname "$(readlink -f "$0")")
if ! python3 -c 'import sys; sys.exit(sys.version_info[:2] != ({major}, {minor}))' 2>/dev/null; then
  echo "kleff: this folder needs Python {major}.{minor} as python3" >&2
  exit 2
fi
KLEFF_CALLED="$here/kleff" PYTHONPATH="$here/lib" PYTHONDONTWRITEBYTECODE=1 exec python3 -s -P -m kleff "$@"
"""


class Unfit(Exception):
    """Why no folder can be made."""


def main() -> None:
    given = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    given.add_argument("folder", type=Path, help="a new folder")
    given.add_argument("--python", type=Path, help="python-3.X.Y-embed-amd64.zip, as it comes from python.org")
    words = given.parse_args()
    try:
        make(words.folder, words.python)
    except (Unfit, OSError, zipfile.BadZipFile) as why:
        sys.exit(f"make_portable: {why}")


def make(folder: Path, archive: Path | None) -> None:
    """Raises: Unfit, OSError."""
    if folder.exists():
        raise Unfit(f"{folder} is there already; name a new folder")
    system = "win32" if archive else "linux"
    version = _version_in(archive) if archive else sys.version_info[:2]
    folder.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as wheels, tempfile.TemporaryDirectory(dir=folder.parent) as made:
        top = Path(made) / folder.name  # named so only when it is whole
        top.mkdir()
        if archive:
            _unpack(archive, top / "python")
            _find_lib(top / "python")
            (top / "kleff.cmd").write_bytes(FOR_WINDOWS.encode("ascii"))
        else:
            (top / "kleff").write_text(FOR_LINUX.format(major=version[0], minor=version[1]))
            (top / "kleff").chmod(0o755)
        found = fetched(Path(wheels), system, version)
        for wheel in found:
            _unpack(wheel, top / "lib")
        if version == sys.version_info[:2]:
            _compile(top / "lib")
        _licences(top)
        count = _sums(top)
        top.rename(folder)
    print(f"{folder}: {count} files of {len(found)} packages")


def _compile(lib: Path) -> None:
    """Once, here: a stick is not written to, and would be compiled anew at each start.

    By no time, as FAT keeps them otherwise (PEP 552).
    """
    words = {"quiet": 2, "workers": os.cpu_count() or 1, "stripdir": str(lib.parent)}
    compileall.compile_dir(lib, invalidation_mode=PycInvalidationMode.UNCHECKED_HASH, **words)


def _sums(folder: Path) -> int:
    """Write the sum of each file; how many there are."""
    files = sorted(path for path in folder.rglob("*") if path.is_file())
    sums = [f"{hashlib.sha256(path.read_bytes()).hexdigest()}  {path.relative_to(folder).as_posix()}\n" for path in files]
    (folder / "SHA256SUMS").write_text("".join(sums))
    return len(files)


def fetched(folder: Path, system: str, version: tuple[int, int]) -> list[Path]:
    """The wheels of Kleff and of all it needs there, and nothing that is for another system.

    Raises:
        Unfit: something is not to be had.
    """
    _pip("wheel", "--no-deps", "--wheel-dir", str(folder), str(ROOT))
    (own,) = folder.glob("kleff-*.whl")
    _download(folder, system, version, f"{own}[secure]")
    while missing := lacking(list(folder.glob("*.whl")), system, version):
        _download(folder, system, version, *missing)  # pip judges what is needed by the machine that it runs on
    for wheel in needless(list(folder.glob("*.whl")), system, version):
        wheel.unlink()  # needed by the machine that pip runs on
    found = sorted(folder.glob("*.whl"))
    if foreign := [wheel.name for wheel in found if not _fits(wheel, system)]:
        raise Unfit(f"not for this system: {', '.join(foreign)}")
    return found


def lacking(wheels: list[Path], system: str, version: tuple[int, int]) -> list[str]:
    """What some wheels need on that system and is not among them."""
    there = {parse_wheel_filename(wheel.name)[0] for wheel in wheels}
    needed = {str(need): need for wheel in wheels for need in _needs(wheel, system, version)}
    return sorted(need.name + str(need.specifier) for need in needed.values() if canonicalize_name(need.name) not in there)


def needless(wheels: list[Path], system: str, version: tuple[int, int]) -> list[Path]:
    """Those that neither Kleff nor anything it needs there needs."""
    by_name = {str(parse_wheel_filename(wheel.name)[0]): wheel for wheel in wheels}
    wanted, found = ["kleff"], set[str]()
    while wanted:
        name = wanted.pop()
        if name not in found and name in by_name:
            found.add(name)
            wanted += [canonicalize_name(need.name) for need in _needs(by_name[name], system, version)]
    return [wheel for name, wheel in by_name.items() if name not in found]


def _needs(wheel: Path, system: str, version: tuple[int, int]) -> Iterator[Requirement]:
    number = f"{version[0]}.{version[1]}"
    told = {
        "python_version": number, "python_full_version": f"{number}.0", "implementation_name": "cpython", "sys_platform": system,
        "platform_python_implementation": "CPython", "extra": "secure" if wheel.name.startswith("kleff-") else "",
        "platform_system": "Windows" if system == "win32" else "Linux", "os_name": "nt" if system == "win32" else "posix",
        "platform_machine": "AMD64" if system == "win32" else "x86_64",
    }  # fmt: skip
    with zipfile.ZipFile(wheel) as opened:
        (name,) = (n for n in opened.namelist() if n.endswith(".dist-info/METADATA") and n.count("/") == 1)
        headers = HeaderParser().parsestr(opened.read(name).decode("utf-8"))
    for text in headers.get_all("Requires-Dist", []):
        need = Requirement(text)
        if need.marker is None or need.marker.evaluate(told):
            yield need


def _fits(wheel: Path, system: str) -> bool:
    return any(tag.platform == "any" or NATIVE[system].match(tag.platform) for tag in parse_wheel_filename(wheel.name)[3])


def _download(folder: Path, system: str, version: tuple[int, int], *what: str) -> None:
    platforms = [word for platform in PLATFORMS[system] for word in ("--platform", platform)]
    number = f"{version[0]}.{version[1]}"
    _pip("download", "--only-binary=:all:", *platforms, "--python-version", number, "--dest", str(folder), *what)


def _pip(*words: str) -> None:
    done = subprocess.run([sys.executable, "-m", "pip", *words, "--quiet"], capture_output=True, text=True, check=False)
    if done.returncode != 0:
        raise Unfit(f"pip {words[0]} says: {(done.stderr.strip().splitlines() or ['it failed'])[-1]}")


def _unpack(archive: Path, folder: Path) -> None:
    """Its files, and none that would lie elsewhere."""
    with zipfile.ZipFile(archive) as opened:
        for one in opened.infolist():
            parts = PurePosixPath(one.filename.replace("\\", "/")).parts
            if one.filename.startswith("/") or ".." in parts or any(":" in part for part in parts):
                raise Unfit(f"{archive.name} holds {one.filename!r}, which would lie outside the folder")
        opened.extractall(folder)


def _version_in(archive: Path) -> tuple[int, int]:
    with zipfile.ZipFile(archive) as opened:
        found = [m for name in opened.namelist() if (m := re.fullmatch(r"python(3)(\d+)\._pth", name))]
        if len(found) != 1 or "python.exe" not in opened.namelist():
            raise Unfit(f"{archive} is no embeddable Python: there is no python.exe with its python3XX._pth in it")
    return int(found[0][1]), int(found[0][2])


def _find_lib(python: Path) -> None:
    """The embeddable Python looks where this file says, and nowhere else."""
    (places,) = python.glob("python3*._pth")
    places.write_text(places.read_text("ascii").rstrip() + "\n..\\lib\n", "ascii")


def _licences(folder: Path) -> None:
    """Beside each other, by package."""
    for info in sorted((folder / "lib").glob("*.dist-info")):
        for file in sorted(info.rglob("*")):
            if file.is_file() and re.match(r"(?i)(licen[cs]e|copying|notice)", file.name):
                target = folder / "licences" / info.name.partition("-")[0] / file.name
                target.parent.mkdir(parents=True, exist_ok=True)
                target.write_bytes(file.read_bytes())


if __name__ == "__main__":
    os.umask(0o022)
    main()
