"""Folders that run from a stick: complete, for one system alone, and run by a Python that has nothing of ours."""

from __future__ import annotations

import hashlib
import importlib.util
import subprocess
import sys
import zipfile
from pathlib import Path
from types import ModuleType

import pytest

from support import write

SCRIPT = Path(__file__).parent.parent / "scripts/make_portable.py"
BARE = Path("/usr/bin/python3")  # the system's own, which has no package of ours


@pytest.fixture(scope="module")
def script() -> ModuleType:
    spec = importlib.util.spec_from_file_location("make_portable", SCRIPT)
    assert spec is not None
    assert spec.loader is not None
    made = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(made)
    return made


def make(*words: object) -> subprocess.CompletedProcess[str]:
    return subprocess.run([sys.executable, str(SCRIPT), *map(str, words)], capture_output=True, text=True, timeout=300)


def checked(folder: Path) -> None:
    """Every file is as its sum says, and every file has one."""
    sums = dict(reversed(line.split("  ", 1)) for line in (folder / "SHA256SUMS").read_text().splitlines())
    there = {str(p.relative_to(folder)) for p in folder.rglob("*") if p.is_file()} - {"SHA256SUMS"}
    assert set(sums) == there
    assert [name for name, digest in sums.items() if hashlib.sha256((folder / name).read_bytes()).hexdigest() != digest] == []
    assert {"kleff", "typer", "msgspec", "rich"} <= {p.name for p in (folder / "licences").iterdir()}


@pytest.mark.skipif(not BARE.exists(), reason=f"needs {BARE}")
def test_on_linux(tmp_path: Path) -> None:
    """By the system's own Python, from nowhere in particular, with nothing in the environment: the whole demo."""
    folder = tmp_path / "on a stick"
    done = make(folder)
    assert done.returncode == 0, done.stderr
    checked(folder)
    for name in ("kleff/cli/app.py", "typer/main.py"):  # a stick is not written to: what is not compiled here is at each start
        assert Path(importlib.util.cache_from_source(str(folder / "lib" / name))).exists()
    clean = {"PATH": "/usr/bin:/bin", "HOME": str(tmp_path), "LC_ALL": "C.UTF-8"}
    asked = subprocess.run([BARE, "-c", "import sys; print(*sys.version_info[:2])"], capture_output=True, text=True, env=clean, check=True)
    ran = subprocess.run([folder / "kleff", "demo", tmp_path / "demo"], capture_output=True, text=True, env=clean, cwd="/", timeout=300)
    if asked.stdout.split() == [str(n) for n in sys.version_info[:2]]:
        assert ran.returncode == 0, ran.stderr
        assert "nothing is left" in ran.stdout
    else:
        assert "needs Python" in ran.stderr
    checked(folder)
    assert "is there already" in make(folder).stderr


def test_on_windows(tmp_path: Path, script: ModuleType) -> None:
    """As far as it can be seen here: whole by what every package says that it needs on Windows, and nothing of it for another system."""
    archive = tmp_path / "python-3.12.7-embed-amd64.zip"
    with zipfile.ZipFile(archive, "w") as made:
        made.writestr("python.exe", "MZ")
        made.writestr("python312._pth", "python312.zip\n.\n\n# Uncomment to run site.main() automatically\n#import site\n")
    folder = tmp_path / "stick"
    done = make(folder, "--python", archive)
    assert done.returncode == 0, done.stderr
    checked(folder)
    assert (folder / "kleff.cmd").read_bytes() == b'@set "KLEFF_CALLED=%~f0"\r\n@"%~dp0python\\python.exe" -m kleff %*\r\n'
    assert (folder / "python/python312._pth").read_text().endswith("\n..\\lib\n")
    lib = folder / "lib"
    assert {"kleff", "typer", "rich", "msgspec", "zstandard", "colorama", "pyrage"} <= {p.name for p in lib.iterdir()}
    assert not list(lib.rglob("*.so"))
    assert not (lib / "psutil").exists()
    assert list(lib.rglob("*.cp312-win_amd64.pyd"))
    wheel = tmp_path / "typer-0.20.0-py3-none-any.whl"
    with zipfile.ZipFile(wheel, "w") as made:
        needs = (
            'Requires-Dist: click>=8\nRequires-Dist: colorama; platform_system == "Windows"\nRequires-Dist: uvloop; os_name == "posix"\n'
        )
        made.writestr("typer-0.20.0.dist-info/METADATA", f"Metadata-Version: 2.1\nName: typer\nVersion: 0.20.0\n{needs}")
    assert script.lacking([wheel], "win32", (3, 12)) == ["click>=8", "colorama"]
    assert script.lacking([wheel], "linux", (3, 12)) == ["click>=8", "uvloop"]


def test_what_is_no_embeddable_python(tmp_path: Path) -> None:
    """One line each, and no folder: another archive, none at all, one whose files would lie elsewhere."""
    for name, holds in (("other.zip", {"readme.txt": "x"}), ("out.zip", {"python.exe": "MZ", "python312._pth": ".\n", "../x": "y"})):
        with zipfile.ZipFile(tmp_path / name, "w") as made:
            for inside, text in holds.items():
                made.writestr(inside, text)
    write(tmp_path / "text.zip", "no archive")
    for name in ("other.zip", "text.zip", "nowhere.zip"):
        done = make(tmp_path / "stick", "--python", tmp_path / name)
        assert done.returncode == 1
        assert done.stderr.count("\n") == 1
        assert "Traceback" not in done.stderr
        assert not (tmp_path / "stick").exists()
    assert "would lie outside" in make(tmp_path / "stick", "--python", tmp_path / "out.zip").stderr
    assert sorted(p.name for p in tmp_path.iterdir()) == ["other.zip", "out.zip", "text.zip"]
