"""What goes wrong with packages and services on a booted workstation: one line each, and the case goes on afterwards."""

from __future__ import annotations

import json
import shutil
import time
from collections.abc import Iterator

import pytest

from booted import Booted, boots, make_base
from debs import build_one
from support import until, write

pytestmark = boots("booted")
# What the package's own script does is said in a file.
PRERM = """#!/bin/sh
set -e
case "$(cat /srv/mood)" in
  fail) echo "the beds are not dry" >&2; exit 1 ;;
  ask) printf 'really? '; read answer || answer=nobody; echo "asked: $answer" >> /srv/asked ;;
  hang) sleep 4321 ;;
esac
"""
PROCEDURE = """format = 1
[product]
id = "hoe"
name = "Hoe"
[[evidence]]
package = "hoe-trouble"
[[stop]]
service = "hoed"
[[purge]]
package = "hoe-trouble"
[[delete]]
paths = ["/opt/hoe-data"]
[[delete]]
units_of = "hoed"
"""
# It takes no notice of being asked to end, and is not killed.
STUBBORN = "[Service]\nExecStart=/bin/sh -c 'trap \"\" TERM; while :; do sleep 1; done'\nTimeoutStopSec=2\nSendSIGKILL=no\n"
RUN = ("run", "/srv/hoe.toml", "--on", "this", "--yes")


@pytest.fixture(scope="module")
def box(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Booted]:
    folder = tmp_path_factory.mktemp("trouble")
    source = folder / "hoe-trouble"
    write(source / "opt/hoe/program", "x")
    write(source / "DEBIAN/prerm", PRERM, 0o755)
    box = Booted(make_base(tmp_path_factory), folder)
    shutil.copy(build_one(source, "hoe-trouble"), box.top / "srv/hoe.deb")
    write(box.top / "srv/hoe.toml", PROCEDURE)
    yield box
    box.stop()


@pytest.fixture
def bench(box: Booted) -> Booted:
    """The package is installed and its service runs."""
    write(box.top / "srv/mood", "good")
    write(box.top / "opt/hoe-data/beds", "x")
    write(box.top / "etc/systemd/system/hoed.service", "[Service]\nExecStart=/bin/sleep 99999\n")
    box.do("dpkg", "-i", "/srv/hoe.deb", code=0)
    box.do("systemctl", "daemon-reload", code=0)
    box.do("systemctl", "start", "hoed", code=0)
    return box


KILL = """import os, sys, pathlib
for one in pathlib.Path("/proc").glob("[0-9]*/cmdline"):
    words = one.read_bytes().split(b"\\0")
    if sys.argv[1].encode() in words[0:1] + words[-2:] and int(one.parent.name) != os.getpid():
        os.kill(int(one.parent.name), 9)
        print(one.parent.name)
"""


def kill(bench: Booted, word: str) -> bool:
    """Kill what was started by that program, or with that last argument; whether there was one."""
    return bench.do("python3", "-c", KILL, word, "").stdout != ""


def newest(bench: Booted) -> dict[str, str]:
    found: dict[str, str] = json.loads(bench.kleff("cases", "--json").stdout)["cases"][-1]
    return found


def gone(bench: Booted) -> None:
    assert "nothing is left" in bench.kleff("verify", newest(bench)["folder"]).stdout
    assert bench.do("dpkg", "--audit", code=0).stdout == ""
    assert not (bench.top / "opt/hoe-data").exists()


def test_a_script_that_fails(bench: Booted) -> None:
    write(bench.top / "srv/mood", "fail")
    said = bench.kleff(*RUN, code=1).stderr
    assert "dpkg --purge ended with 1" in said
    assert "the beds are not dry" in said
    assert "kleff resume" in said
    assert "kleff undo" in said
    bench.kleff("resume", newest(bench)["folder"], code=1)
    write(bench.top / "srv/mood", "good")
    bench.kleff("resume", newest(bench)["folder"])
    gone(bench)


def test_a_script_that_asks(bench: Booted) -> None:
    """There is nobody to answer, and it gets no answer; it does not wait."""
    write(bench.top / "srv/mood", "ask")
    bench.kleff(*RUN)
    assert (bench.top / "srv/asked").read_text() == "asked: nobody\n"
    gone(bench)


def test_a_script_that_hangs(bench: Booted) -> None:
    """It is a person's to end; then it has failed, and is gone on with."""
    write(bench.top / "srv/mood", "hang")
    running = bench.begin("python3", "-m", "kleff", *RUN)
    assert until(lambda: kill(bench, "4321"), 60)
    write(bench.top / "srv/mood", "good")
    assert running.wait(60) == 1
    bench.kleff("resume", newest(bench)["folder"])
    gone(bench)


def test_a_lock_that_another_holds(bench: Booted) -> None:
    """Waited for, and gone on with by itself."""
    code = "import fcntl,time; f=open('/var/lib/dpkg/lock-frontend','w'); fcntl.lockf(f, fcntl.LOCK_EX); time.sleep(4)"
    holder = bench.begin("python3", "-c", code)
    time.sleep(1.5)
    done = bench.kleff(*RUN, code=None)
    holder.wait(20)
    if done.returncode == 3:  # told before anything is done
        assert "is at work" in done.stderr or "installing" in done.stderr
        bench.kleff(*RUN)
    gone(bench)


def test_a_read_only_volume(bench: Booted) -> None:
    """What lies on it is refused before anything is done; once it can be written, it goes."""
    bench.do("mount", "--bind", "/opt/hoe-data", "/opt/hoe-data", code=0)
    bench.do("mount", "-o", "remount,ro,bind", "/opt/hoe-data", code=0)
    said = bench.kleff(*RUN, code=3).stderr
    assert "mount point" in said
    assert bench.do("systemctl", "is-active", "hoed").stdout.strip() == "active"
    bench.do("umount", "/opt/hoe-data", code=0)
    bench.kleff(*RUN)
    gone(bench)


def test_a_service_that_does_not_stop(bench: Booted) -> None:
    """It is told, and nothing was removed; ended by hand, the case goes on."""
    write(bench.top / "etc/systemd/system/hoed.service", STUBBORN)
    bench.do("systemctl", "daemon-reload", code=0)
    bench.do("systemctl", "restart", "hoed", code=0)
    time.sleep(0.5)
    said = bench.kleff(*RUN, code=1).stderr
    assert "hoed" in said
    assert "does not stop" in said
    assert bench.do("dpkg-query", "-W", "hoe-trouble").returncode == 0
    assert kill(bench, STUBBORN.split("'")[1])
    bench.kleff("resume", newest(bench)["folder"])
    gone(bench)
