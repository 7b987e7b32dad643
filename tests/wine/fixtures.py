"""A helper in a prefix, for tests that call Windows functions under Wine."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import Call
from support import until
from wine.policy import Guarded
from wine.prefix import HERE, compiled, copied, end, make, missing
from wine.remote import RemoteCaller

# One after the other, so that one prefix serves them all.
on_wine = [pytest.mark.skipif(bool(missing()), reason=f"needs {', '.join(missing())}"), pytest.mark.xdist_group("wine")]


@pytest.fixture(scope="session")
def helper(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return compiled(HERE / "callhost.c", tmp_path_factory.mktemp("helper"))


@pytest.fixture(scope="session")
def made_prefix(tmp_path_factory: pytest.TempPathFactory, helper: Path) -> Path:
    folder = tmp_path_factory.mktemp("wine") / "prefix"
    make(folder, helper)
    return folder


@pytest.fixture(scope="module")
def prefix(tmp_path_factory: pytest.TempPathFactory, made_prefix: Path) -> Iterator[Path]:
    """A prefix of a module's own."""
    folder = copied(made_prefix, tmp_path_factory.mktemp("copy") / "prefix")
    yield folder
    end(folder)


@pytest.fixture(scope="session")
def windows_program(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A program for Windows that does what it is told (program.c)."""
    return compiled(HERE / "program.c", tmp_path_factory.mktemp("program"))


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
