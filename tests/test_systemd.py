"""A whole booted workstation: real systemd, real dpkg, a real restart."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from booted import NEEDED, Booted, make_base
from debs import build
from support import IS_ROOT, write

missing = [n for n in NEEDED if shutil.which(n) is None]
pytestmark = [
    pytest.mark.skipif(not IS_ROOT, reason="needs root: boots a workstation"),
    pytest.mark.skipif(bool(missing), reason=f"needs {', '.join(missing)}"),
    pytest.mark.skipif(sys.version_info[:2] != (3, 11), reason="the workstation that is booted has Python 3.11"),
]
SAMPLE = Path(__file__).parent.parent / "src/kleff/samples/print-bridge.toml"


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Booted]:
    folder = tmp_path_factory.mktemp("booted")
    box = Booted(make_base(folder), folder)
    packages = build(folder / "debs", scripts=True)
    shutil.copytree(folder / "debs", box.top / "srv/debs", ignore=lambda d, names: [n for n in names if not n.endswith(".deb")])
    write(box.top / "srv/print-bridge.toml", SAMPLE.read_bytes())
    write(box.top / "srv/restart.toml", SAMPLE.read_text().replace('vendor = "Brindlewort"', 'vendor = "Brindlewort"\nrestart = "always"'))
    box.do("useradd", "-m", "-u", "1001", "mira", code=0)
    box.packages = [f"/srv/debs/{p.name}" for p in packages]  # type: ignore[attr-defined]
    yield box
    box.stop()


def install(bench: Booted) -> None:
    bench.do("dpkg", "-i", *bench.packages, code=0)  # type: ignore[attr-defined]
    bench.do("systemctl", "enable", "--now", "brindlewort-bridge", code=0)
    write(bench.top / "etc/brindlewort-bridge/own.conf", "own")
    write(bench.top / "etc/systemd/system/brindlewort-bridge.service.d/override.conf", "[Service]\nNice=5\n")


def test_stopped_and_started_again(bench: Booted) -> None:
    install(bench)
    write(bench.top / "srv/stop.toml", SAMPLE.read_text().split("[[purge]]")[0] + "\n[[delete]]\npaths = ['/var/log/brindlewort-bridge']\n")
    bench.kleff("run", "/srv/stop.toml", "--on", "this", "--yes", code=4)  # the packages are left: it only stops
    assert bench.do("systemctl", "is-active", "brindlewort-bridge").stdout.strip() == "inactive"
    case = json.loads(bench.kleff("cases", "--json").stdout)["cases"][-1]["folder"]
    assert case.startswith("/var/lib/kleff/cases/")
    bench.kleff("undo", case, "--yes")
    assert bench.do("systemctl", "is-active", "brindlewort-bridge").stdout.strip() == "active"
    assert bench.do("systemctl", "is-enabled", "brindlewort-bridge").stdout.strip() == "enabled"


def test_purged_and_put_back(bench: Booted) -> None:
    """A procedure that does no more than purge: packages, service and its setting come back; the service runs again."""
    install(bench)
    write(bench.top / "srv/purge.toml", SAMPLE.read_text().split("[[backup]]")[0] + '[[purge]]\npackage = ["brindlewort-bridge"]\n')

    def said() -> list[str]:
        verified = bench.do("dpkg", "--verify", "brindlewort-bridge").stdout
        listed = bench.do("dpkg-query", "-s", "brindlewort-bridge", code=0).stdout
        states = [bench.do("systemctl", word, "brindlewort-bridge").stdout for word in ("is-active", "is-enabled")]
        return [verified, listed, *states]

    before = said()
    assert before[2:] == ["active\n", "enabled\n"]
    bench.kleff("run", "/srv/purge.toml", "--on", "this", "--yes", code=4)
    assert bench.do("systemctl", "is-active", "brindlewort-bridge").stdout == "inactive\n"
    case = json.loads(bench.kleff("cases", "--json").stdout)["cases"][-1]["folder"]
    bench.kleff("undo", case, "--yes")
    assert said() == before
    assert not (bench.top / "usr/sbin/policy-rc.d").exists()
    assert bench.do("dpkg", "--audit", code=0).stdout == ""


def test_removed_with_a_real_restart(bench: Booted) -> None:
    """The case waits, knows that it was not restarted yet, and goes on after the restart."""
    install(bench)
    child = subprocess.Popen(
        ["nsenter", "-t", bench._leader(), "-a", "setpriv", "--reuid=1001", "--regid=1001", "--clear-groups", "/usr/bin/tagbridge", "9999"]
    )
    try:
        done = bench.kleff("run", "/srv/restart.toml", "--on", "this", "--yes", code=5)
        child.wait(10)
        assert "a restart is needed" in done.stderr
        case = json.loads(bench.kleff("cases", "--json").stdout)["cases"][-1]["folder"]
        assert "has not been restarted since" in bench.kleff("resume", case, code=5).stderr
        assert "is unfinished" in bench.kleff("run", "/srv/print-bridge.toml", "--on", "this", "--yes", code=3).stderr
        bench.restart()
        bench.kleff("resume", case)
    finally:
        child.kill()
    assert "nothing is left" in bench.kleff("verify", case).stdout
    assert bench.do("systemctl", "is-active", "brindlewort-bridge").stdout.strip() == "inactive"
    assert bench.do("dpkg", "--audit", code=0).stdout == ""
    assert bench.do("dpkg-query", "-W", "-f", "${Package}", "brindlewort-stocktake", code=0).stdout == "brindlewort-stocktake"
    assert not (bench.top / "etc/systemd/system/brindlewort-bridge.service.d").exists()
    bench.kleff("discard", case, "--yes")
    assert not (bench.top / ".kleff").exists()
