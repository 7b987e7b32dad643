"""Every benchmark runs, at its smallest size: one that fails at today's command line measures nothing."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from support import IS_ROOT
from wine.fixtures import on_wine

FOLDER = Path(__file__).parent.parent / "benchmarks"
KLEFF = str(Path(sys.executable).parent / "kleff")
SMALLEST = {
    "growth": [], "labs": ["1"], "limits": ["1"], "ownership": ["1"], "release": [KLEFF, KLEFF, "1"], "saving": ["2", "1"], "scale": [],
    "set_aside": ["200", "1", "", "500"], "startup": ["1"],
}  # fmt: skip
APART = {"packages": ["1"], "windows_calls": ["1"]}  # on this machine, on Wine: one at a time
NEEDS = {"scale": "strace", "release": "strace", "packages": "apt-get", "windows_calls": "wine"}


def test_none_is_forgotten() -> None:
    named = {file.stem for file in FOLDER.glob("*.py")} - {"caches"}
    assert named == {*SMALLEST, *APART}


def runs(name: str, words: list[str], folder: Path) -> None:
    if (needed := NEEDS.get(name)) and shutil.which(needed) is None:
        pytest.skip(f"needs {needed}")
    environment = {**os.environ, "KLEFF_BENCH_SMALL": "1", "TMPDIR": str(folder)}
    done = subprocess.run([sys.executable, FOLDER / f"{name}.py", *words], env=environment, capture_output=True, text=True, timeout=900)
    assert done.returncode == 0, done.stderr[-2000:]
    assert "|---|" in done.stdout


@pytest.mark.skipif(not IS_ROOT, reason="needs root: trees with accounts of their own")
@pytest.mark.parametrize("name", SMALLEST)
def test_runs(name: str, tmp_path: Path) -> None:
    runs(name, SMALLEST[name], tmp_path)


@pytest.mark.skipif(not IS_ROOT, reason="needs root: trees with packages")
def test_packages_runs(tmp_path: Path) -> None:
    """Without its last part, which installs a package on this machine."""
    runs("packages", APART["packages"], tmp_path)


@pytest.mark.parametrize("_", [pytest.param("wine", marks=on_wine)])
def test_windows_calls_runs(tmp_path: Path, prefix: Path, _: str) -> None:
    runs("windows_calls", [*APART["windows_calls"], str(prefix)], tmp_path)
