"""A flatpak and a tool of an account on a booted workstation, installed there by the real programs: off and back, compared whole."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from booted import Booted, boots, fetch, make_base, newest
from support import differences, tree, write
from test_flatpaks import BEDS, GROUND, Shelf
from test_packages_exact import NOISE
from test_python_packages import wheels

pytestmark = [*boots("booted products"), pytest.mark.skipif(shutil.which("flatpak") is None, reason="needs flatpak")]


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Booted]:
    folder = tmp_path_factory.mktemp("tools")
    box = Booted(
        make_base(tmp_path_factory), folder, prepare=lambda top: fetch(top, ["flatpak", "pipx python3-venv python3-pip python3-wheel"])
    )
    box.do("useradd", "-m", "-u", "1001", "mira", code=0)
    apt = ("env", "DEBIAN_FRONTEND=noninteractive", "apt-get", "install", "-y", "--no-install-recommends", "--no-download")
    box.do(*apt, "flatpak", "pipx", "python3-venv", "python3-pip", "python3-wheel", code=0)
    with tempfile.TemporaryDirectory(prefix="kleff-test-") as made:
        shelf = Shelf(Path(made))
        subprocess.run(["cp", "-a", shelf.source, box.top / "srv/garden"], check=True)
    wheels(box.top / "srv/wheels")
    yield box
    box.stop()


def snapshot(bench: Booted) -> dict[str, Any]:
    """The places of both, whole; of flatpak's store the names, since it keeps caches and times of its own."""
    found: dict[str, Any] = {}
    for part in ("home", "etc", "root", "var/lib/flatpak"):
        for name, what in tree(bench.top / part, skip=()).items():
            path = f"{part}/{name}"
            if not NOISE.match(path) and "__pycache__" not in path and "/.cache" not in path and "repo/tmp" not in path:
                found[path] = what[:3] if "flatpak" in path else what
    for name in ("etc/.", "root/.", "var/lib/flatpak/.changed", "var/lib/flatpak/.removed"):
        found.pop(name, None)
    found["installed"] = sorted(bench.do("flatpak", "list", "--system", "--columns=ref,origin,active").stdout.splitlines())
    return found


def taken_off_and_back(bench: Booted, name: str, steps: str, before: dict[str, Any]) -> None:
    write(bench.top / f"srv/{name}.toml", f'format = 1\n[product]\nid = "{name}"\nname = "{name}"\n{steps}')
    done = bench.kleff("run", f"/srv/{name}.toml", "--on", "this", "--yes")
    assert f"{name} is gone" in done.stdout, done.stdout
    assert differences(before, snapshot(bench)) != []
    bench.kleff("undo", newest(bench), "--yes")
    found = differences(before, snapshot(bench))
    assert found == [], found


def test_a_flatpak(bench: Booted) -> None:
    bench.do("flatpak", "remote-add", "--system", "--no-gpg-verify", "garden", "file:///srv/garden", code=0)
    bench.do("flatpak", "install", "--system", "-y", "--noninteractive", "garden", BEDS, code=0)
    bench.do("flatpak", "override", "--system", "--nofilesystem=home", BEDS, code=0)
    before = snapshot(bench)
    assert any(GROUND in line for line in before["installed"])
    steps = f"[[evidence]]\nflatpak = '{BEDS}'\n[[purge]]\nflatpak = '{BEDS}'\ncame_along = 'these'\n"
    taken_off_and_back(bench, "beds", steps, before)
    assert bench.do("flatpak", "run", "--system", "--command=true", BEDS).stderr.count("not installed") == 0


def test_a_tool_of_an_account(bench: Booted) -> None:
    """As pipx puts it where it does by itself."""
    links = "--no-index --find-links /srv/wheels --find-links /usr/share/python-wheels"
    bench.do(
        "su",
        "mira",
        "-c",
        f'cd; PIP_NO_INDEX=1 PIP_FIND_LINKS="/srv/wheels /usr/share/python-wheels" pipx install --pip-args "{links}" hoe-labels',
        code=0,
    )
    before = snapshot(bench)
    assert any("venvs/hoe-labels" in name for name in before)
    taken_off_and_back(bench, "hoe", "[[evidence]]\npython = 'hoe-labels'\n[[purge]]\npython = 'hoe-labels'\n", before)
    assert bench.do("su", "mira", "-c", "/home/mira/.local/bin/hoe-labels-run", code=0).stdout == "beds\n"
