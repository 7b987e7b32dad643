"""A helper in a prefix, for tests that call Windows functions under Wine."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from kleff.workstation.windows.native.api import Api
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


@pytest.fixture(scope="module")
def caller(prefix: Path, helper: Path) -> Iterator[RemoteCaller]:
    made = RemoteCaller(helper, prefix)
    yield made
    made.close()


@pytest.fixture
def api(caller: RemoteCaller) -> Api:
    return Api(caller)
