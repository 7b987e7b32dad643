"""A helper in a prefix, for tests that call Windows functions under Wine."""

from __future__ import annotations

import itertools
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import Call
from support import once, until
from wine import python
from wine.policy import Guarded
from wine.prefix import HERE, compiled, copied, end, make, missing
from wine.remote import WINE, RemoteCaller, environment

# One after the other, but for those that run all of Kleff there.
there = pytest.mark.skipif(bool(missing()), reason=f"needs {', '.join(missing())}")
on_wine = [there, pytest.mark.xdist_group("wine")]
whole_on_wine = [there, pytest.mark.xdist_group("whole on wine")]


@pytest.fixture(scope="session")
def helper(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return once(tmp_path_factory, "callhost.exe", lambda path: compiled(HERE / "callhost.c", path))


@pytest.fixture(scope="session")
def made_prefix(tmp_path_factory: pytest.TempPathFactory, helper: Path) -> Path:
    return once(tmp_path_factory, "made-prefix", lambda path: make(path, helper))


@pytest.fixture(scope="module")
def prefix(tmp_path_factory: pytest.TempPathFactory, made_prefix: Path) -> Iterator[Path]:
    """A prefix of a module's own."""
    folder = copied(made_prefix, tmp_path_factory.mktemp("copy") / "prefix")
    yield folder
    end(folder)


@pytest.fixture(scope="session")
def windows_program(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A program for Windows that does what it is told (program.c)."""
    return once(tmp_path_factory, "program.exe", lambda path: compiled(HERE / "program.c", path))


@pytest.fixture(scope="module")
def caller(prefix: Path, helper: Path) -> Iterator[RemoteCaller]:
    made = RemoteCaller(helper, prefix)
    assert until(lambda: _answers(Api(made)), 60), "the prefix's service manager does not start"
    yield made
    made.close()


def _answers(api: Api) -> bool:
    """Whether the service manager is up: a prefix starts it beside the first program, and not before."""
    try:
        api.CloseServiceHandle(api.OpenSCManagerW(None, None, c.SC_MANAGER_CONNECT))
    except Failed:
        return False
    return True


@pytest.fixture
def api(caller: RemoteCaller) -> Api:
    return Api(Guarded(caller))


PYTHON, LAUNCHER = r"C:\stick\python\python.exe", r"C:\tests\wine\launch.py"


class OnWindows:
    """Kleff by a Python for Windows, in a prefix of its own.

    Attributes:
        drive: drive C.
    """

    def __init__(self, prefix: Path) -> None:
        self.prefix = prefix
        self.drive = prefix / "drive_c"

    def start(self, *words: str, **variables: str) -> subprocess.Popen[str]:
        """Start Kleff."""
        return self.program(PYTHON, LAUNCHER, *words, **variables)

    def program(self, *words: str, **variables: str) -> subprocess.Popen[str]:
        """Start any program of that Windows, from the top of its drive."""
        pipe = subprocess.PIPE
        return subprocess.Popen(
            [WINE, *words], stdin=pipe, stdout=pipe, stderr=pipe, encoding="utf-8", errors="replace", cwd=self.drive,
            env=environment(self.prefix) | variables,
        )  # fmt: skip

    def begin(self) -> None:
        """Start it, and have a program of its own run there: with the last one a prefix ends, and the next begins it anew."""
        nothing = subprocess.DEVNULL  # what the system starts for itself would hold a pipe for as long as it runs
        for words in ((WINE, "wineboot"), (WINE, r"C:\program.exe", "sleep", "36000")):
            last = subprocess.Popen(words, stdin=nothing, stdout=nothing, stderr=nothing, cwd=self.drive, env=environment(self.prefix))
            if "wineboot" in words:
                last.wait(120)

    def import_keys(self, text: str) -> None:
        """Have Wine's own program take keys over, in the 64-bit view."""
        (self.drive / "imported.reg").write_text(f"Windows Registry Editor Version 5.00\n\n{text}", "utf-16")
        self.ended(self.program("reg", "import", r"C:\imported.reg", "/reg:64"))

    def exported(self, *keys: str) -> set[str]:
        """What Wine's own program exports of some keys, in both views; it sorts."""
        found = set()
        for key, view in itertools.product(keys, ("64", "32")):
            file = self.drive / "exported.reg"
            file.unlink(missing_ok=True)
            self.ended(self.program("reg", "export", key, r"C:\exported.reg", "/y", f"/reg:{view}"))
            found |= {f"{view} {line}" for line in file.read_text("utf-16").splitlines()} if file.exists() else set()
        return found

    def ended(self, process: subprocess.Popen[str], given: str = "") -> str:
        """Wait for its end; what it said, errors last."""
        said, errors = process.communicate(given, timeout=300)
        return said + errors

    def said(self, process: subprocess.Popen[str], words: str) -> bool:
        """Wait until it says something among its errors; whether it does."""
        assert process.stderr is not None
        return any(words in line for line in process.stderr)

    def runs(self, words: str) -> bool:
        """Whether a program with such a command line runs there; Wine's are processes of this machine."""
        there = f"WINEPREFIX={self.prefix.absolute()}\0".encode()
        for folder in Path("/proc").glob("[0-9]*"):
            try:
                line = (folder / "cmdline").read_bytes().replace(b"\0", b" ").decode("utf-8", "replace")
                if words in line and there in (folder / "environ").read_bytes():
                    return True
            except OSError:
                continue
        return False

    def restart(self) -> None:
        """End all that runs there, and start it again."""
        end(self.prefix)
        self.begin()

    def __call__(self, *words: str, code: int = 0, given: str = "") -> str:
        """Run Kleff to its end; what it says, errors last."""
        process = self.start(*words)
        said = self.ended(process, given)
        assert process.returncode == code, f"{words} ended with {process.returncode}\n{said}"
        return said


@pytest.fixture(scope="session")
def stick(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder that runs Kleff on Windows, as the script makes it."""
    folder = tmp_path_factory.mktemp("stick")
    try:
        archive = python.archive(folder)
    except python.NotToBeHad:
        pytest.skip(f"needs {python.SOURCE} from the registry")
    script = HERE.parent.parent / "scripts/make_portable.py"
    subprocess.run([sys.executable, str(script), str(folder / "stick"), "--python", str(archive)], check=True, timeout=300)
    return folder / "stick"


@pytest.fixture(scope="module")
def windows(tmp_path_factory: pytest.TempPathFactory, made_prefix: Path, stick: Path, windows_program: Path) -> Iterator[OnWindows]:
    """A Windows of a module's own on which Kleff runs."""
    folder = copied(made_prefix, tmp_path_factory.mktemp("windows") / "prefix")
    python.random_bytes(folder / "drive_c/windows/system32")
    shutil.copytree(stick, folder / "drive_c/stick", copy_function=os.link)
    shutil.copytree(HERE, folder / "drive_c/tests/wine", ignore=shutil.ignore_patterns("__pycache__"))
    shutil.copy(windows_program, folder / "drive_c/program.exe")
    made = OnWindows(folder)
    made.begin()
    yield made
    end(folder)


SERVICE = "beds"


@pytest.fixture(scope="module")
def service(caller: RemoteCaller, prefix: Path, windows_program: Path) -> str:
    """A service that runs if it is started; its name."""
    shutil.copy(windows_program, prefix / "drive_c/program.exe")
    connect_and_create, all_access, own_process, by_hand, normal = 3, 0xF01FF, 0x10, 3, 1
    manager = Api(caller).OpenSCManagerW(None, None, connect_and_create)
    image = r"C:\program.exe"
    answer = caller.call(
        Call("advapi32", "CreateServiceW", (
            manager, SERVICE, "Bed counter", all_access, own_process, by_hand, normal, image, None, None, None, None, None,
        ))
    )  # fmt: skip
    assert answer.result, answer.error
    for handle in (answer.result, manager):
        Api(caller).CloseServiceHandle(handle)
    return SERVICE
