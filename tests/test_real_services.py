"""Real services of Debian on a booted workstation, taken off by procedures as a technician writes them: nothing of the product is left,
everything of others is as it was, and it comes back as it was used.
"""

from __future__ import annotations

import hashlib
import json
import os
import random
import re
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from booted import Booted, boots, fetch, make_base, newest
from support import content_of, until, write

pytestmark = boots("booted services")

# What a system writes for itself whenever packages come and go, and whenever it runs: nothing of any product.
NOISE = re.compile(
    r"(dev|proc|sys|run|tmp|root/\.cache)(/|\Z)|var/(tmp|log/journal|log/apt|cache/(apt|debconf|ldconfig|man))(/|\Z)|var/lib/(dpkg|apt|kleff|ucf)(/|\Z)"
    r"|var/lib/systemd/(random-seed|catalog|coredump|rfkill|linger|ephemeral-trees|credential\.secret|timers/stamp-(apt|dpkg|e2scrub|fstrim|man).*)(/|\Z)"
    r"|var/log/(dpkg|alternatives)\.log|var/log/(wtmp|btmp|lastlog|faillog)|etc/(ld\.so\.cache|\.pwd\.lock|.*-|mtab)\Z|\.kleff(/|\Z)|.*/__pycache__(/|\Z)"
)


@dataclass(frozen=True)
class Product:
    """A service as Debian has it: how it is used, and the procedure that takes it off."""

    packages: str
    service: str
    account: str
    used: str
    procedure: str
    still: str  # a command that says something of its data
    writes: str = r"\Z."  # what it writes anew whenever it stops


PRODUCTS = {
    "redis": Product(
        "redis",
        "redis-server",
        "redis",
        "redis-cli set bed tomatoes && redis-cli save && echo x > /home/mira/.rediscli_history",
        """
[[evidence]]
package = "redis*"
[[evidence]]
port = 6379
[[backup]]
label = "database"
paths = ["/var/lib/redis"]
stopped = true
[[stop]]
service = "redis-server"
[[purge]]
package = "redis"
came_along = "these"
[[delete]]
paths = ["/var/lib/redis", "/var/log/redis", "/etc/redis"]
[[delete]]
paths = ["{user.home}/.rediscli_history"]
[[delete]]
units_of = "redis-server"
[[delete]]
account = "redis"
[[verify]]
command_missing = "redis-cli"
""",
        "redis-cli get bed",
        writes=r"var/lib/redis/dump\.rdb|var/log/redis/",
    ),
    "mosquitto": Product(
        "mosquitto",
        "mosquitto",
        "mosquitto",
        "echo 'listener 1884' > /etc/mosquitto/conf.d/beds.conf && systemctl restart mosquitto && echo beds > /var/lib/mosquitto/own.db"
        " && chown mosquitto: /var/lib/mosquitto/own.db",
        """
[[evidence]]
package = "mosquitto"
[[evidence]]
command = ["/usr/sbin/mosquitto", "-h"]
says = "mosquitto version *"
[[backup]]
label = "configuration"
paths = ["/etc/mosquitto"]
[[stop]]
service = "mosquitto"
[[purge]]
package = "mosquitto"
came_along = "these"
[[delete]]
paths = ["/var/lib/mosquitto", "/var/log/mosquitto", "/etc/mosquitto"]
[[delete]]
units_of = "mosquitto"
[[delete]]
account = "mosquitto"
""",
        "cat /var/lib/mosquitto/own.db",
        writes=r"var/lib/mosquitto/mosquitto\.db|var/log/mosquitto/",
    ),
    "tftpd": Product(
        "tftpd-hpa",
        "tftpd-hpa",
        "tftp",
        "cd /etc/systemd/system && mkdir -p tftpd-hpa.service.d && printf '[Service]\\nNice=3\\n' > tftpd-hpa.service.d/nice.conf"
        " && echo beds > /srv/tftp/beds.txt && systemctl daemon-reload"
        " && echo '10.0.0.5 tftpd-hpa.alder-row.example' >> /etc/hosts && echo '0 5 * * * /usr/sbin/in.tftpd --help' > /etc/cron.d/in-tftpd"
        " && echo 'tftpd-hpa tftpd-hpa/options string --secure --verbose' | debconf-set-selections",
        """
[[evidence]]
package = "tftpd-hpa"
together = "server"
[[evidence]]
account = "tftp"
together = "server"
[[stop]]
service = "tftpd-hpa"
[[backup]]
label = "served files"
paths = ["/srv/tftp"]
[[purge]]
package = "tftpd-hpa"
came_along = "these"
[[delete]]
paths = ["/srv/tftp", "/etc/cron.d/in-tftpd"]
[[delete]]
lines = "tftpd-hpa.alder-row.example"
in_file = "/etc/hosts"
[[delete]]
units_of = "tftpd-hpa"
[[delete]]
account = "tftp"
[[verify]]
lines = "tftpd-hpa.alder-row.example"
in_file = "/etc/hosts"
""",
        "cat /srv/tftp/beds.txt && debconf-show tftpd-hpa | grep options",
    ),
    "transmission": Product(
        "transmission-daemon",
        "transmission-daemon",
        "debian-transmission",
        "cd /var/lib/transmission-daemon/downloads && echo beds > beds.txt && chown debian-transmission: beds.txt"
        " && usermod -aG debian-transmission mira && mkdir -p /home/mira/.config/transmission"
        " && echo x > /home/mira/.config/transmission/x && chown -R mira: /home/mira/.config",
        """
[[evidence]]
package = "transmission-daemon"
[[backup]]
label = "downloads"
paths = ["/var/lib/transmission-daemon/downloads"]
[[stop]]
service = "transmission-daemon"
[[purge]]
package = "transmission-*"
came_along = "these"
[[delete]]
paths = ["/var/lib/transmission-daemon", "/etc/transmission-daemon"]
[[delete]]
paths = ["{user.roaming}/transmission"]
[[delete]]
units_of = "transmission-daemon"
[[delete]]
account = "debian-transmission"
[[delete]]
group = "debian-transmission"
""",
        "cat /var/lib/transmission-daemon/downloads/beds.txt",
    ),
}


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Booted]:
    """A workstation with all the packages in its archive folder, an account, and things of others that bear the products' names."""
    folder = tmp_path_factory.mktemp("services")
    box = Booted(make_base(tmp_path_factory), folder, prepare=lambda top: fetch(top, [p.packages for p in PRODUCTS.values()]))
    box.do("useradd", "-m", "-u", "1001", "mira", code=0)
    box.do("sh", "-c", "mkdir /home/mira/.config; chown mira: /home/mira/.config; echo 127.0.0.1 localhost > /etc/hosts", code=0)
    for name in PRODUCTS:
        write(box.top / f"home/mira/Documents/{name} notes.txt", "mira's own")
        write(box.top / f"opt/{name}-neighbour/{name}.conf", "a neighbour's")
    yield box
    box.stop()


def snapshot(top: Path) -> dict[str, str]:
    """Every path that is no noise: kind, owner, mode, and content."""
    found = {}
    for path in top.rglob("*"):
        name = str(path.relative_to(top))
        if NOISE.match(name):
            continue
        try:
            status = path.lstat()
            content = str(path.readlink()) if path.is_symlink() else content_of(path, status) if path.is_file() else ""
        except OSError:
            continue
        found[name] = f"{status.st_mode:o} {status.st_uid}:{status.st_gid} {content}"
    return found


def digest(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()[:12]


def changed(a: dict[str, str], b: dict[str, str]) -> list[str]:
    differ = (name for name in a.keys() | b.keys() if a.get(name) != b.get(name))
    return sorted(f"{name}: {a.get(name, 'not there')} -> {b.get(name, 'not there')}" for name in differ)


def state(bench: Booted) -> dict[str, str]:
    """Version and state of every package, and whether it was brought in for others."""
    form = "${Package} ${Version} ${db:Status-Want} ${db:Status-Eflag} ${db:Status-Status}\n"
    lines = bench.do("dpkg-query", "-W", "-f", form, code=0).stdout.splitlines()
    found = {line.partition(" ")[0]: line for line in lines}
    return found | {f"auto {name}": "yes" for name in bench.do("apt-mark", "showauto", code=0).stdout.split()}


@pytest.mark.parametrize("name", PRODUCTS)
def test_taken_off_and_back(bench: Booted, name: str) -> None:
    product = PRODUCTS[name]
    offered = bench.do("apt-get", "-s", "autoremove", code=0).stdout.count("Remv")
    before, packages = snapshot(bench.top), state(bench)
    bench.do("apt-get", "install", "-y", "--no-install-recommends", "--no-download", product.packages, code=0)
    assert until(lambda: bench.do("systemctl", "is-active", product.service).stdout.strip() == "active", 30)
    bench.do("sh", "-c", product.used, code=0)
    said = bench.do("sh", "-c", product.still, code=0).stdout
    bench.do("systemctl", "stop", product.service, code=0)  # so that it writes down what it has
    used, with_it = snapshot(bench.top), state(bench)
    bench.do("systemctl", "start", product.service, code=0)
    write(bench.top / f"srv/{name}.toml", f'format = 1\n[product]\nid = "{name}"\nname = "{name}"\n{product.procedure}')
    file, run = f"/srv/{name}.toml", ("run", f"/srv/{name}.toml", "--on", "this", "--yes")
    bench.kleff("check", file)
    done = bench.kleff(*run)
    assert f"{name} is gone" in done.stdout, done.stdout
    case = newest(bench)
    bench.kleff("undo", case, "--yes")
    assert changed(with_it, state(bench)) == []
    assert bench.do("sh", "-c", product.still, code=0).stdout == said
    assert bench.do("systemctl", "is-active", product.service).stdout.strip() == "active"
    bench.do("systemctl", "stop", product.service, code=0)
    assert [c for c in changed(used, without(snapshot(bench.top), file)) if not re.match(product.writes, c)] == []
    bench.do("systemctl", "start", product.service, code=0)
    bench.kleff(*run)
    bench.kleff("discard", newest(bench), "--yes")
    assert changed(before, without(snapshot(bench.top), file)) == []
    assert changed(packages, state(bench)) == []
    assert bench.do("dpkg", "--audit", code=0).stdout == ""
    assert bench.do("apt-get", "-s", "autoremove", code=0).stdout.count("Remv") == offered
    assert bench.do("systemctl", "--failed", "--plain", "--no-legend").stdout.count(product.service) == 0
    assert bench.do("systemctl", "list-units", "--all", "--plain", "--no-legend", f"{product.service}*").stdout == ""


def test_cut_off_at_any_moment(bench: Booted) -> None:
    """The whole workstation is killed in the middle of a run and booted again: it is gone on with, or taken back, to the same end."""
    product, rounds = PRODUCTS["redis"], 10 if os.environ.get("KLEFF_ALL_KILLS") else 2
    bench.do("apt-get", "install", "-y", "--no-install-recommends", "--no-download", product.packages, code=0)
    write(bench.top / "srv/cut.toml", f'format = 1\n[product]\nid = "cut"\nname = "Cut"\n{product.procedure}')
    run, moments = ("run", "/srv/cut.toml", "--on", "this", "--yes"), random.Random(7)
    begun = time.monotonic()
    bench.kleff(*run)
    lasted, seen = time.monotonic() - begun, set()
    for number in range(rounds):
        bench.kleff("undo", newest(bench), "--yes", code=None)
        with_it, case = state(bench), newest(bench)
        running = bench.begin("python3", "-m", "kleff", *run)
        time.sleep(lasted * moments.uniform(0.4, 0.95))
        bench.cut()
        running.wait(30)
        seen.add(bench.do("dpkg", "--audit").stdout == "")
        if newest(bench) == case:  # before it was begun
            bench.kleff(*run)
        elif json.loads(bench.kleff("cases", "--json").stdout)["cases"][-1]["state"] != "finished":
            if number % 2:
                bench.kleff("undo", newest(bench), "--yes", code=None)  # 4: what the service has written since it was started again stays
                assert changed(with_it, state(bench)) == []
                bench.kleff(*run)
            else:
                bench.kleff("resume", newest(bench))
        assert bench.do("dpkg", "--audit", code=0).stdout == ""
        assert "is gone" in bench.kleff("verify", newest(bench)).stdout
    assert seen


def without(found: dict[str, str], file: str) -> dict[str, str]:
    """A snapshot without the procedure itself."""
    return {name: told for name, told in found.items() if name != file.lstrip("/")}
