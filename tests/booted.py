"""A whole workstation with real systemd in a folder, for the tests: made once, booted, restarted."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import subprocess
import sys
from collections.abc import Callable, Sequence
from pathlib import Path

import pytest

import kleff
from support import once, until

NEEDED = ("mmdebstrap", "systemd-nspawn", "nsenter", "apt-get")
TESTS = Path(__file__).parent
missing = [name for name in NEEDED if shutil.which(name) is None]
BOOT = r"""
for h in systemd unified .; do b=/sys/fs/cgroup/$h
  [ -e "$b/cgroup.procs" ] && mkdir -p "$b/$2" && echo $$ > "$b/$2/cgroup.procs"; done
dir=$1 name=$2; shift 2
while :; do
  systemd-nspawn -q -D "$dir" --machine="$name" --boot --register=no --keep-unit --link-journal=no --console=pipe "$@" </dev/null
  status=$?; [ $status = 133 ] || exit $status   # 133: it asked for a restart
done
"""


def boots(group: str) -> list[pytest.MarkDecorator]:
    """The marks of tests that boot a workstation: those of a group one after the other."""
    return [
        pytest.mark.skipif(os.geteuid() != 0, reason="needs root: boots a workstation"),
        pytest.mark.skipif(bool(missing), reason=f"needs {', '.join(missing)}"),
        pytest.mark.skipif(sys.version_info[:2] != (3, 11), reason="the workstation that is booted has Python 3.11"),
        pytest.mark.xdist_group(group),
    ]


def make_base(factory: pytest.TempPathFactory) -> Path:
    """A Debian tree with systemd and Python, from the machine's own package source; one for all workers of a run, or one that is kept."""
    if kept := os.environ.get("KLEFF_TEST_BASE"):
        if not Path(kept, "etc/os-release").exists():
            _make_base(Path(kept))
        return Path(kept)
    return once(factory, "booted-base", _make_base)


def _make_base(target: Path) -> None:
    release = Path("/etc/os-release").read_text()
    codename = next((x.split("=")[1].strip('"') for x in release.splitlines() if x.startswith("VERSION_CODENAME=")), "")
    listed = subprocess.run(
        ["apt-get", "indextargets", "--format", "$(REPO_URI) $(CODENAME) $(ORIGIN)", "Created-By: Packages"], capture_output=True, text=True
    ).stdout.splitlines()
    sources = [words[0] for words in map(str.split, listed) if words[1:] == [codename, "Debian"]]
    if not sources:
        pytest.skip("no Debian package source is set up on this machine")
    command = [
        "mmdebstrap",
        "--variant=minbase",
        "--include=systemd,systemd-sysv,dbus,libpam-systemd,python3,openssh-client",
        codename,
        target,
        sources[0],
    ]
    done = subprocess.run(command, capture_output=True, text=True, timeout=900)
    if done.returncode != 0:
        pytest.skip(f"mmdebstrap failed: {done.stdout.strip().splitlines()[-1:]}")


class Booted:
    """A booted workstation; `do` runs a command in it. `prepare` is given its tree before."""

    def __init__(self, base: Path, folder: Path, prepare: Callable[[Path], None] = lambda top: None) -> None:
        self.top = folder / "bench"
        subprocess.run(["cp", "-a", base, self.top], check=True)
        prepare(self.top)
        site = Path(sys.prefix) / f"lib/python{sys.version_info[0]}.{sys.version_info[1]}/site-packages"
        source = Path(kleff.__file__).parent.parent
        self.path = f"{site}:{source}"
        binds = [f"--bind-ro={p}" for p in dict.fromkeys((site, source, TESTS))]
        self._name = f"kleff-{os.getpid()}"
        self._log = (folder / "boot.log").open("wb")
        self._words = ["bash", "-c", BOOT, "boot", str(self.top), self._name, "--private-network", *binds]
        self._boot()

    def _boot(self) -> None:
        self._process = subprocess.Popen(
            self._words, stdin=subprocess.DEVNULL, stdout=self._log, stderr=subprocess.STDOUT, start_new_session=True
        )
        self.wait()

    def cut(self) -> None:
        """All its processes are killed at once; then it is booted again."""
        subprocess.run(["kill", "-9", self._leader()], check=True)
        self._process.wait(30)
        self._boot()

    def wait(self) -> None:
        """Until it runs."""
        if not until(lambda: bool(self._leader()) and self.do("systemctl", "is-system-running").stdout.strip() in ("running", "degraded")):
            pytest.fail(f"the workstation does not boot: {Path(self._log.name).read_text(errors='replace')[-2000:]}")

    def _leader(self) -> str:
        """The process that is number 1 inside."""
        found = subprocess.run(["pgrep", "-f", f"^systemd-nspawn.*--machine={self._name}"], capture_output=True, text=True).stdout.split()
        below = subprocess.run(["pgrep", "-P", found[-1]], capture_output=True, text=True).stdout.split() if found else []
        return below[0] if below else ""

    def _inside(self, words: Sequence[object]) -> list[str]:
        environment = ["env", "-i", "PATH=/usr/sbin:/usr/bin:/sbin:/bin", f"PYTHONPATH={self.path}", "HOME=/root"]
        return ["nsenter", "-t", self._leader(), "-a", *environment, *map(str, words)]

    def begin(self, *words: object) -> subprocess.Popen[bytes]:
        """A command in it that is not waited for."""
        nowhere = subprocess.DEVNULL
        return subprocess.Popen(self._inside(words), stdin=nowhere, stdout=nowhere, stderr=nowhere)

    def do(self, *words: object, code: int | None = None) -> subprocess.CompletedProcess[str]:
        done = subprocess.run(self._inside(words), capture_output=True, text=True, timeout=180, stdin=subprocess.DEVNULL)
        assert code is None or done.returncode == code, f"{words}: {done.returncode}\n{done.stdout}\n{done.stderr}"
        return done

    def kleff(self, *words: object, code: int | None = 0) -> subprocess.CompletedProcess[str]:
        return self.do("python3", "-m", "kleff", *words, code=code)

    def restart(self) -> None:
        before = self.do("cat", "/proc/sys/kernel/random/boot_id").stdout
        self.do("systemctl", "reboot")
        until(lambda: bool(self._leader()) and self.do("cat", "/proc/sys/kernel/random/boot_id").stdout not in ("", before))
        self.wait()

    def stop(self) -> None:
        if self._leader():
            self.do("systemctl", "poweroff")
        try:
            self._process.wait(20)
        except subprocess.TimeoutExpired:
            subprocess.run(["pkill", "-9", "-f", f"--machine={self._name}"])
        self._log.close()
        for group in Path("/sys/fs/cgroup").glob(f"*/{self._name}"):  # what it ran in is empty now; the deepest first
            for folder in sorted((p for p in (group, *group.rglob("*")) if p.is_dir()), reverse=True):
                with contextlib.suppress(OSError):
                    folder.rmdir()
        shutil.rmtree(self.top, ignore_errors=True)


def fetch(top: Path, products: list[str]) -> None:
    """Bring each product's packages and what they need into a tree's archive folder; the workstation itself has no network."""
    options = [f"Dir={top}", f"Dir::State::status={top}/var/lib/dpkg/status", "Dir::Etc::trustedparts=/etc/apt/trusted.gpg.d"]
    words = ["apt-get", "-q", *(w for o in options for w in ("-o", o))]
    asked = [["install", "--yes", "--no-install-recommends", "--download-only", *one.split()] for one in products]
    for command in ([*words, "update"], *([*words, *one] for one in asked)):
        done = subprocess.run(command, capture_output=True, text=True, timeout=600)
        if done.returncode != 0:
            pytest.skip(f"packages cannot be fetched: {done.stderr.strip().splitlines()[-1:]}")


def newest(bench: Booted) -> str:
    return str(json.loads(bench.kleff("cases", "--json").stdout)["cases"][-1]["folder"])
