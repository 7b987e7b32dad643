"""What the tests share: the installed program, a lab, trees that can be compared."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from kleff.workstation.lab.potting import build_potting
from support import Kleff, clone

SAMPLES = Path(__file__).parent.parent / "src" / "kleff" / "samples"


@pytest.fixture(scope="session")
def potting_master(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("master") / "POTTING-02"
    build_potting(folder)
    return folder


@pytest.fixture
def lab(potting_master: Path, tmp_path: Path) -> Path:
    """A fresh lab."""
    return clone(potting_master, tmp_path / "POTTING-02")


@pytest.fixture
def kleff(tmp_path: Path) -> Kleff:
    """The installed program, with its cases in the test's own folder."""
    program = Path(sys.executable).parent / "kleff"
    assert program.exists(), "install the package first: pip install -e '.[test]'"
    return Kleff(program, tmp_path)


@pytest.fixture
def tag_studio(tmp_path: Path) -> Path:
    """The demo's procedure."""
    return Path(shutil.copy(SAMPLES / "tag-studio.toml", tmp_path / "tag-studio.toml"))


def pytest_report_header() -> str:
    dpkg = shutil.which("dpkg-deb")
    version = subprocess.run([dpkg, "--version"], capture_output=True, text=True).stdout.split("\n")[0] if dpkg else "none"
    return f"root: {os.geteuid() == 0}; dpkg: {version}"


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """Where every test must run, a skipped one is a failure."""
    if os.environ.get("KLEFF_NO_SKIPS") and terminalreporter.stats.get("skipped"):
        terminalreporter.write_line("skipped tests are failures here (KLEFF_NO_SKIPS)", red=True)


def pytest_sessionfinish(session: pytest.Session) -> None:
    reporter = session.config.pluginmanager.get_plugin("terminalreporter")
    if os.environ.get("KLEFF_NO_SKIPS") and reporter is not None and reporter.stats.get("skipped") and session.exitstatus == 0:
        session.exitstatus = pytest.ExitCode.TESTS_FAILED
