"""Real products of Debian on a booted workstation, off and back, compared whole: modes, owners, times, capabilities, second names, dpkg's
database, states of units, what runs. CI takes a sample; `KLEFF_ALL_PRODUCTS=1` takes all, and cuts the power many times.
"""

from __future__ import annotations

import os
import random
import re
import time
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import pytest

from booted import Booted, boots, fetch, make_base, newest
from support import differences, tree, until, write
from test_packages_exact import NOISE as OF_PACKAGES

pytestmark = boots("booted products")
EVERY = os.environ.get("KLEFF_ALL_PRODUCTS") == "1"
# What a running system writes by itself, whatever is done to it.
NOISE = re.compile(
    rf"{OF_PACKAGES.pattern}|var/lib/systemd/(random-seed|catalog|coredump|rfkill|linger|ephemeral-trees|credential\.secret|timers)(/|\Z)"
    r"|etc/(\.pwd\.lock|mtab)\Z|root/\.cache(/|\Z)|srv/[a-z-]+\.toml\Z|var/lib/dbus(/|\Z)"
)
PASSING = re.compile(r"(user@|user-runtime-dir|systemd-(tmpfiles|hostnamed|timedated|udev)|e2scrub|apt-|dpkg-)")  # units of a moment


@dataclass(frozen=True)
class Product:
    """A product as Debian has it, how it is used, and what takes it off beside its packages."""

    packages: str
    used: str = "true"
    purge: str = ""
    steps: str = ""
    still: str = "true"  # a command that says something of its data
    running: str = ""  # its unit
    writes: str = r"\Z."  # what it writes whenever it starts or stops

    def procedure(self, name: str) -> str:
        purged = ", ".join(f'"{package}"' for package in (self.purge or self.packages).split())
        stop = f'[[stop]]\nservice = "{self.running}"\n' if self.running else ""
        steps = f'{stop}[[purge]]\npackage = [{purged}]\ncame_along = "these"\n{self.steps}'
        return f'format = 1\n[product]\nid = "{name}"\nname = "{name}"\n[[evidence]]\npackage = [{purged}]\n{steps}'


PRODUCTS = {
    "lighttpd": Product(
        "lighttpd lighttpd-mod-deflate",
        "lighty-enable-mod deflate; echo beds > /var/www/html/beds.html; chown mira: /var/www/html/beds.html",
        steps='[[delete]]\npaths = ["/var/www/html", "/var/cache/lighttpd"]\n[[delete]]\nunits_of = "lighttpd"\n',
        still="cat /var/www/html/beds.html",
        running="lighttpd",
        writes=r"var/(lib|log)/lighttpd",
    ),
    "openssh-client": Product("openssh-client", "mkdir -p /home/mira/.ssh; echo k > /home/mira/.ssh/known_hosts"),
    "gpsd": Product(
        "gpsd",
        "sed -i 's/^DEVICES=.*/DEVICES=\"\\/dev\\/beds\"/' /etc/default/gpsd",
        still="cat /etc/default/gpsd",
        running="gpsd",
    ),
    "syncthing": Product(
        "syncthing",
        "mkdir -p /home/mira/.config/syncthing; echo beds > /home/mira/.config/syncthing/config.xml; chown -R mira: /home/mira/.config;"
        " systemctl enable --now syncthing@mira; sleep 3",
        steps='[[delete]]\npaths = ["{user.roaming}/syncthing"]\n',
        running="syncthing@mira",
        writes=r"home/mira/\.(config|local)",
    ),
    "influxdb": Product(
        "influxdb influxdb-client",
        "sleep 3; influx -execute 'create database beds'",
        steps='[[delete]]\npaths = ["/var/lib/influxdb"]\n[[delete]]\nunits_of = "influxdb"\n',
        still="sleep 3; influx -execute 'show databases'",
        running="influxdb",
        writes=r"var/lib/influxdb/",
    ),
    "postgresql": Product(
        "postgresql postgresql-contrib",
        "su postgres -c \"psql -c 'create table beds as select 7 as rows'\"",
        purge="postgresql postgresql-15 postgresql-contrib",
        still="su postgres -c \"psql -Atc 'select * from beds'\"",
        running="postgresql@15-main",
        writes=r"var/lib/postgresql/15/main",
    ),
    "docker": Product(
        "docker.io",
        "mkdir -p /etc/docker; echo '{}' > /etc/docker/daemon.json; usermod -aG docker mira",
        steps='[[delete]]\npaths = ["/var/lib/docker", "/etc/docker"]\n',
        still="cat /etc/docker/daemon.json",
        writes=r"var/lib/(docker|containerd)|etc/(docker|containerd)\Z|opt/containerd",
    ),
    "thunderbird": Product(
        "thunderbird",
        "mkdir -p /home/mira/.thunderbird; echo beds > /home/mira/.thunderbird/profiles.ini; chown -R mira: /home/mira/.thunderbird",
        steps='[[delete]]\npaths = ["{user.home}/.thunderbird"]\n',
        still="cat /home/mira/.thunderbird/profiles.ini",
    ),
    "sudo": Product("sudo", "echo 'mira ALL=(ALL) ALL' > /etc/sudoers.d/mira; chmod 440 /etc/sudoers.d/mira"),
}
SAMPLE = ["lighttpd"]
REFUSED = {"sudo"}  # the system's own: no procedure takes it off
WANTED = list(PRODUCTS) if EVERY else SAMPLE


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Booted]:
    folder = tmp_path_factory.mktemp("products")
    box = Booted(make_base(tmp_path_factory), folder, prepare=lambda top: fetch(top, [PRODUCTS[name].packages for name in WANTED]))
    box.do("useradd", "-m", "-u", "1001", "mira", code=0)
    box.do("sh", "-c", "mkdir /home/mira/.config; chown mira: /home/mira/.config; echo 127.0.0.1 localhost > /etc/hosts", code=0)
    for name in PRODUCTS:
        write(box.top / f"home/mira/Documents/{name} notes.txt", "mira's own")
        write(box.top / f"opt/{name}-neighbour/{name}.conf", "a neighbour's")
    yield box
    box.stop()


def snapshot(bench: Booted, writes: str = r"\Z.") -> dict[str, Any]:
    """Every path with all that belongs to it, dpkg's status as it means it, and units with their states."""
    own = re.compile(writes)
    found: dict[str, Any] = {name: what for name, what in tree(bench.top).items() if not NOISE.match(name) and not own.match(name)}
    for name in [n for n in found if n.startswith("var/lib/dpkg")]:
        mode, uid, gid, _, content, extended, _ = found[name]
        found[name] = (mode, uid, gid, content, extended)
    for name in ("var", "var/lib", "etc", "", "srv", "root", "home/mira"):  # which others' things come and go in
        if name in found:
            found[name] = found[name][:3]
    paragraphs = (bench.top / "var/lib/dpkg/status").read_text().split("\n\n")
    found |= {f"status of {p.splitlines()[0]}": p.strip() for p in paragraphs if p.strip() and "not-installed" not in p}
    found.pop("var/lib/dpkg/status", None)
    found["enabled"] = sorted(bench.do("systemctl", "list-unit-files", "--no-legend", "--plain").stdout.splitlines())
    found["running"] = running(bench)
    found["automatic"] = sorted(bench.do("apt-mark", "showauto", code=0).stdout.split())
    return found


def running(bench: Booted) -> list[str]:
    """What runs now, but what only runs for a moment."""
    words = ("--state=active", "--type=service,socket,timer", "--no-legend", "--plain")
    lines = bench.do("systemctl", "list-units", *words).stdout.splitlines()
    names = (line.split()[0] for line in lines if "exited" not in line.split()[:4])
    return sorted(name for name in names if not PASSING.match(name))


def installed(bench: Booted, name: str) -> Product:
    product = PRODUCTS[name]
    env = ("env", "DEBIAN_FRONTEND=noninteractive", "apt-get", "install", "-y", "--no-install-recommends", "--no-download")
    bench.do(*env, *product.packages.split(), code=0)
    if product.running and "@" not in product.running:
        until(lambda: bench.do("systemctl", "is-active", product.running).stdout.strip() == "active", 30)
    bench.do("sh", "-c", product.used, code=0)
    write(bench.top / f"srv/{name}.toml", product.procedure(name))
    return product


@pytest.mark.parametrize("name", WANTED)
def test_off_and_back(bench: Booted, name: str) -> None:
    product = installed(bench, name)
    said = bench.do("sh", "-c", product.still, code=0).stdout
    before = snapshot(bench, product.writes)
    file = f"/srv/{name}.toml"
    if name in REFUSED:
        bench.kleff("run", file, "--on", "this", "--yes", code=3)
        assert differences(before, snapshot(bench, product.writes)) == []
        return
    done = bench.kleff("run", file, "--on", "this", "--yes")
    assert f"{name} is gone" in done.stdout, done.stdout
    bench.kleff("undo", newest(bench), "--yes")
    if product.running:
        until(lambda: bench.do("systemctl", "is-active", product.running).stdout.strip() == "active", 30)
    found = differences(before, snapshot(bench, product.writes))
    assert found == [], f"{len(found)}: {found[:100]}"
    assert bench.do("sh", "-c", product.still, code=0).stdout == said
    assert bench.do("dpkg", "--audit", code=0).stdout == ""
    # Taken off for good, so that the next begins with none of it.
    bench.kleff("run", file, "--on", "this", "--yes")
    bench.kleff("discard", newest(bench), "--yes")


@pytest.mark.parametrize("seed", range(50 if EVERY else 2))
def test_the_power_goes(bench: Booted, seed: int) -> None:
    """At random moments of a run, of its undo, of the undo of that: everything in the workstation is killed, and it is booted again."""
    product, chance = installed(bench, "lighttpd"), random.Random(seed)
    file = "/srv/lighttpd.toml"
    if seed == 0:
        bench.restart()  # what only the first start writes
    before = snapshot(bench, product.writes)
    cut_off(bench, ("run", file, "--on", "this", "--yes"), chance.uniform(1, 6))
    for _ in range(seed % 3):
        cut_off(bench, ("undo", newest(bench), "--yes"), chance.uniform(0.5, 8))
    done = bench.kleff("undo", newest(bench), "--yes", code=None)
    until(lambda: bench.do("systemctl", "is-active", product.running).stdout.strip() == "active", 30)
    if done.returncode == 4:  # started by the boot, before the undo, it may have written on: that is told, and stays
        assert all(re.search(product.writes, path.lstrip("/")) for path in left_as_it_is(done.stdout)), done.stdout
        bench.kleff("discard", newest(bench), "--yes")  # what is kept of it has names of its own there
    found = differences(before, snapshot(bench, product.writes))
    lying = [str(path) for path in (bench.top / ".kleff").rglob("*")]
    assert found == [], f"undone with {done.returncode}: {done.stdout}{done.stderr}\n{lying}\n{found[:20]}"
    assert lying == [], f"undone with {done.returncode}: {done.stdout}{done.stderr}\n{lying[:4]}"
    assert bench.do("dpkg", "--audit", code=0).stdout == ""


def left_as_it_is(said: str) -> list[str]:
    """The paths that an undo names as not taken back."""
    told = said.partition("Not taken back\n")[2].partition("\n\n")[0].splitlines()
    assert told, said
    return [line.strip().split(" was changed in place")[0] for line in told]


def cut_off(bench: Booted, words: tuple[str, ...], after: float) -> None:
    running = bench.begin("python3", "-m", "kleff", *words)
    time.sleep(after)
    bench.cut()
    running.wait(30)
