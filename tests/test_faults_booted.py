"""System calls that fail on a booted workstation: a service, a package with scripts, files; in a run, a resume, an undo."""

from __future__ import annotations

import os
import random
import re
import shutil
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from booted import TESTS, Booted, boots, make_base
from debs import build
from faulty import CODES
from support import differences, procedure, tree, until, write
from test_faults import CALLS, mounted_anew
from test_packages_exact import NOISE
from whole import RUNNING, STEPS, UNIT, lay

pytestmark = boots("booted products")
EVERY = os.environ.get("KLEFF_ALL_FAULTS") == "1"
AT_MOST = {
    "stat": 400,
    "open": 400,
    "read": 60,
    "write": 40,
    "fsync": 60,
    "rename": 60,
    "link": 30,
    "unlink": 30,
    "mkdir": 10,
    "replace": 10,
}
PROCEDURE = """
format = 1
[product]
id = "bridge"
name = "bridge"
[[evidence]]
package = "brindlewort-bridge"
[[backup]]
label = "settings"
paths = ["/etc/brindlewort-bridge"]
[[stop]]
service = "brindlewort-bridge"
[[purge]]
package = "brindlewort-bridge"
came_along = "these"
[[delete]]
paths = ["/var/lib/brindlewort-bridge", "/etc/brindlewort-bridge", "/home/mira/.brindlewort"]
"""
RUN, CASES = ("run", "/srv/bridge.toml", "--on", "this", "--yes"), Path("/var/lib/kleff/cases")


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Booted]:
    folder = tmp_path_factory.mktemp("faulty")
    box = Booted(make_base(tmp_path_factory), folder)
    box.do("useradd", "-m", "-u", "1001", "mira", code=0)
    for deb in build(folder / "debs", scripts=True):
        shutil.copy(deb, box.top / "srv" / deb.name)
        box.do("dpkg", "-i", f"/srv/{deb.name}", code=0)
    box.do("systemctl", "enable", "--now", "brindlewort-bridge", code=0)
    write(box.top / "etc/brindlewort-bridge/own.conf", "own")
    write(box.top / "home/mira/.brindlewort/x", "x")
    write(box.top / "srv/bridge.toml", PROCEDURE)
    yield box
    box.stop()


def snapshot(bench: Booted) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for part in ("etc", "opt", "home", "usr/bin", "usr/lib/brindlewort", "usr/lib/systemd", "var/lib"):
        for name, what in tree(bench.top / part, skip=()).items():
            path = f"{part}/{name}"
            timeless = path.startswith("var/lib/dpkg")  # dpkg's own records are told by what they say
            others = path.startswith("var/lib") and "brindle" not in name
            if not NOISE.match(path):
                found[path] = what[:3] if others else (*what[:3], *what[4:]) if timeless else what
    for name in ("var/lib/.", "etc/.", "usr/bin/."):  # which others' files come and go in
        found.pop(name, None)
    paragraphs = (bench.top / "var/lib/dpkg/status").read_text().split("\n\n")
    found["status"] = tuple(sorted(p.strip() for p in paragraphs if "not-installed" not in p))
    found["active"] = bench.do("systemctl", "is-active", "brindlewort-bridge").stdout
    found["enabled"] = bench.do("systemctl", "is-enabled", "brindlewort-bridge").stdout
    return found


def known(bench: Booted) -> list[str]:
    """The cases that were begun."""
    return sorted(file.parent.name for file in (bench.top / "var/lib/kleff/cases").glob("*/case.db"))


def test_a_call_that_fails(bench: Booted) -> None:
    """Told in one line that names the case and the way on; that way, or what had been done, ends in the state of before."""
    chance, before, hit = random.Random(int(os.environ.get("KLEFF_SEED", "1"))), snapshot(bench), 0
    for _ in range(300 if EVERY else 6):
        call, code, verb = chance.choice(CALLS), chance.choice(list(CODES)), chance.choice(("run", "resume", "undo"))
        at, below, for_good = chance.randint(1, AT_MOST[call]), chance.choice(("/", str(CASES))), chance.choice((True, False))
        if verb != "run":
            running = bench.begin("python3", "-m", "kleff", *RUN)
            if verb == "resume":
                time.sleep(chance.uniform(0.7, 3))
                subprocess.run(["pkill", "-9", "-P", str(running.pid)])  # Kleff itself; what it has begun goes on
            running.wait(60)
        begun = known(bench)
        words = RUN if verb == "run" or not begun else (verb, CASES / begun[-1], *(["--yes"] if verb == "undo" else []))
        print(f"{verb}: {call} {at} {code} below {below}, {for_good=}", flush=True)  # how far it is, with pytest -s
        faulty = ("python3", TESTS / "faulty.py", call, at, code, below, for_good, *words)
        done = bench.do(*faulty)
        said = done.stdout + done.stderr
        what = f"{verb}: {call} {at} {code} below {below}, {for_good=}: ended with {done.returncode}\n{said[-1500:]}"
        hit += done.returncode in (1, 3)
        assert "Traceback" not in said, what
        assert done.returncode in (0, 1, 3, 4), what
        if done.returncode in (1, 3):
            assert "What to do" in said, what
        cases = known(bench)
        if done.returncode == 3 and verb == "run":
            assert differences(before, snapshot(bench)) == [], what
        if done.returncode == 1 and cases:
            assert re.search(rf"kleff undo {CASES}/", said), what
        told = ""
        for case in cases:
            mounted_anew(bench.top / "var/lib/kleff/cases" / case)
            again = bench.kleff("undo", CASES / case, "--yes", code=None)
            told += f"\nundone with {again.returncode}: {(again.stdout + again.stderr)[-1500:]}"
            assert again.returncode in (0, 3), what + told
        until(lambda: bench.do("systemctl", "is-active", "brindlewort-bridge").stdout.strip() == "active", 10)
        found = differences(before, snapshot(bench))
        assert found == [], f"{what}{told}\n{found}"
        shutil.rmtree(bench.top / "var/lib/kleff/cases", ignore_errors=True)
    assert hit


def test_a_look_that_fails_is_no_absence(bench: Booted) -> None:
    """As tests/test_looks.py, on the running system, whose processes, units and packages are looked at too."""
    bench.do("useradd", "-m", "-u", "1002", "tomas", code=0)
    lay(bench.top)
    shutil.copy("/bin/sleep", bench.top / "opt/hoe/bin/hoed")
    write(bench.top / "etc/systemd/system/hoed.service", UNIT.replace("/hoed\n", "/hoed 100000\n"))
    bench.do("touch", "-d", "2026-01-01", "/tmp/hoe-beds-1", code=0)  # a file system of its own, once it runs
    bench.do("systemctl", "daemon-reload", code=0)
    bench.do("systemctl", "start", "hoed", code=0)
    procedure(bench.top / "srv/hoe.toml", STEPS + RUNNING)
    told = bench.kleff("verify", "/srv/hoe.toml", code=4).stdout
    assert "program hoed" in told
    assert "Could not be looked at" not in told
    assert bench.do("python3", TESTS / "looks_inside.py", "/srv/hoe.toml", 40 if EVERY else 2, 1, code=0).stdout == ""
