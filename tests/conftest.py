"""What the tests share: the installed program, a lab, trees that can be compared."""

from __future__ import annotations

import compileall
import ctypes
import fcntl
import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from kleff.workstation.lab.demo_workstation import build_demo_workstation
from support import Kleff, clone
from wine.fixtures import api, caller, helper, made_prefix, prefix, service, stick, windows, windows_program  # noqa: F401  fixtures

SOURCE = Path(__file__).parent.parent / "src" / "kleff"
settings.register_profile("kleff", deadline=None, suppress_health_check=[HealthCheck.too_slow])  # no test goes by seconds
settings.load_profile("kleff")
LIBRARY, NEW_MOUNTS = Path("/etc/kleff"), 0x20000  # CLONE_NEWNS (sched.h)
# Of the long tests alone (scripts/long_tests.sh): they install what is large.
collect_ignore = [] if os.environ.get("KLEFF_ALL_PRODUCTS") == "1" else ["test_real_tools.py"]


@pytest.fixture(scope="session")
def lab_master(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("master") / "POTTING-02"
    build_demo_workstation(folder)
    return folder


@pytest.fixture
def lab(lab_master: Path, tmp_path: Path) -> Path:
    """A fresh lab."""
    return clone(lab_master, tmp_path / "POTTING-02")


@pytest.fixture
def kleff(tmp_path: Path) -> Kleff:
    """The installed program, with its cases in the test's own folder."""
    program = Path(sys.executable).parent / "kleff"
    assert program.exists(), "install the package first: pip install -e '.[test]'"
    return Kleff(program, tmp_path)


@pytest.fixture
def folder() -> Iterator[Path]:
    """A folder in memory too, where there is one: a journal flushes a lot."""
    made = Path(tempfile.mkdtemp(dir="/dev/shm" if Path("/dev/shm").is_dir() else None))
    yield made
    shutil.rmtree(made)


@pytest.fixture
def this_machine(tmp_path_factory: pytest.TempPathFactory) -> Iterator[None]:
    """Only one test at a time works on the very machine the tests run on."""
    folder = tmp_path_factory.getbasetemp()
    with ((folder.parent if "PYTEST_XDIST_WORKER" in os.environ else folder) / "this-machine.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        _forget_cases_of_tests()
        yield
        _forget_cases_of_tests()


def _forget_cases_of_tests() -> None:
    """A test that fell over leaves its case unfinished: nobody else could begin one on this machine, in the next run neither."""
    mark = Path("/var/lib/kleff/unfinished.json")
    if mark.is_file() and "/pytest-of-" in json.loads(mark.read_text())["folder"]:
        mark.unlink()


def _without_this_machine_s_procedures() -> None:
    """A library that somebody keeps on this machine says what has to stay: here nothing of it is seen (unshare(2), mount(8))."""
    if os.geteuid() != 0 or not LIBRARY.is_dir():
        return
    if ctypes.CDLL(None, use_errno=True).unshare(NEW_MOUNTS) != 0:
        pytest.exit(f"{LIBRARY} holds procedures, and cannot be hidden: {os.strerror(ctypes.get_errno())}")
    subprocess.run(["mount", "--make-rprivate", "/"], check=True)
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=1m,mode=755", "none", LIBRARY], check=True)


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_auto_num_workers() -> int:
    """With `-n auto`: much of the time is spent waiting for programs, so two workers for each processor."""
    return 2 * (os.cpu_count() or 1)


def pytest_configure(config: pytest.Config) -> None:
    """The modules are compiled once, as an installation does it: hundreds of programs start from them, some where nothing is written."""
    if not hasattr(config, "workerinput"):
        compileall.compile_dir(SOURCE, quiet=2)
    if hasattr(config, "workerinput") or not getattr(config.option, "numprocesses", None):
        _as_on_a_terminal()
        _without_this_machine_s_procedures()


def _as_on_a_terminal() -> None:
    """Signals that were ignored where the tests were started (nohup(1), a shell's background) would be by all programs they start."""
    for number in (signal.SIGINT, signal.SIGQUIT, signal.SIGHUP, signal.SIGTERM):
        if signal.getsignal(number) is signal.SIG_IGN:
            signal.signal(number, signal.default_int_handler if number == signal.SIGINT else signal.SIG_DFL)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What waits longest, for a whole workstation to be set up, begins first."""
    items.sort(key=lambda item: item.path.name != "test_systemd.py")


def pytest_collection_finish(session: pytest.Session) -> None:
    """Tests that may not stand beside each other would without a word, if pytest-xdist cannot name their group in their ids."""
    grouped = [item for item in session.items if item.get_closest_marker("xdist_group")]
    if getattr(session.config.option, "loadgroup", False) and not all("@" in item.nodeid for item in grouped):
        raise pytest.UsageError("this pytest and this pytest-xdist keep no groups of tests: install the versions that pyproject.toml names")


@pytest.fixture
def tag_studio(tmp_path: Path) -> Path:
    """The demo's procedure."""
    return Path(shutil.copy(Path(__file__).with_name("tag-studio.toml"), tmp_path / "tag-studio.toml"))


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
