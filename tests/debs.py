"""Made-up packages of the print bridge, built with dpkg-deb: a program with its library, conffiles, a service, and a neighbour."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

from support import write

NEEDED = ("dpkg", "dpkg-deb", "dpkg-query")
BRIDGE, LIBRARY, NEIGHBOUR = "brindlewort-bridge", "libbrindle1", "brindlewort-stocktake"

INIT = """#!/bin/sh
### BEGIN INIT INFO
# Provides: brindlewort-bridge
# Required-Start:
# Required-Stop:
# Default-Start: 2 3 4 5
# Default-Stop: 0 1 6
# Short-Description: print bridge
### END INIT INFO
PID=/run/brindlewort-bridge.pid
case "$1" in
  start) start-stop-daemon --start --oknodo --background --make-pidfile --pidfile $PID --exec /usr/bin/tagbridge -- 100000 ;;
  stop) start-stop-daemon --stop --oknodo --retry 5 --pidfile $PID --exec /usr/bin/tagbridge; rm -f $PID ;;
  status) start-stop-daemon --status --pidfile $PID --exec /usr/bin/tagbridge ;;
esac
"""
UNIT = """[Unit]
Description=Brindlewort print bridge
[Service]
ExecStart=/usr/bin/tagbridge 100000
[Install]
WantedBy=multi-user.target
"""
POSTINST = """#!/bin/sh
set -e
mkdir -p /var/lib/brindlewort-bridge /var/log/brindlewort-bridge
echo made > /var/lib/brindlewort-bridge/spool.db
"""
PRERM = "#!/bin/sh\nset -e\nif [ -x /usr/sbin/invoke-rc.d ]; then invoke-rc.d brindlewort-bridge stop || true; fi\n"


def build(folder: Path, scripts: bool) -> list[Path]:
    """The three packages, libraries first.

    Args:
        scripts: with maintainer scripts (on a tree they need a shell in it).
    """
    library, bridge, stock = folder / LIBRARY, folder / BRIDGE, folder / NEIGHBOUR
    write(library / "usr/lib/brindlewort/libbrindle.so.1", "ELF library\n")
    _control(library, LIBRARY, "1.4-2")
    shutil.copy("/bin/sleep", write(bridge / "usr/bin/tagbridge"))
    (bridge / "usr/bin/tagbridge").chmod(0o755)
    write(bridge / "etc/brindlewort-bridge/bridge.conf", "listen = 127.0.0.1\n")
    write(bridge / "etc/init.d/brindlewort-bridge", INIT, 0o755)
    write(bridge / "usr/lib/systemd/system/brindlewort-bridge.service", UNIT)
    for number in range(30):
        write(bridge / f"opt/brindlewort/bridge/driver{number:02d}.so", f"driver {number}\n" * 50)
    write(bridge / "DEBIAN/conffiles", "/etc/brindlewort-bridge/bridge.conf\n/etc/init.d/brindlewort-bridge\n")
    if scripts:
        write(bridge / "DEBIAN/postinst", POSTINST, 0o755)
        write(bridge / "DEBIAN/prerm", PRERM, 0o755)
    _control(bridge, BRIDGE, "4.2.0-1", f"Depends: {LIBRARY}\n")
    write(stock / "opt/brindlewort/stocktake/stocktake.so", "count\n")
    write(stock / "etc/brindlewort-stocktake/stock.conf", "shelves = 40\n")
    write(stock / "DEBIAN/conffiles", "/etc/brindlewort-stocktake/stock.conf\n")
    _control(stock, NEIGHBOUR, "2.1.0-1")
    return [_package(source) for source in (library, bridge, stock)]


SHED, RAKE, LIBRAKES = "rakeworks-shed", "rakeworks-rake", "librakes1"
SHED_POSTINST = """#!/bin/sh
set -e
getent passwd shed >/dev/null || useradd --system --no-create-home shed
mkdir -p /var/lib/rakeworks-shed
chown shed:shed /var/lib/rakeworks-shed
"""
SHED_POSTRM = """#!/bin/sh
set -e
if [ "$1" = purge ]; then
  rm -rf /etc/rakeworks /var/lib/rakeworks
  userdel shed 2>/dev/null || true
fi
"""


def build_shed(folder: Path) -> list[Path]:
    """A package with a template unit, an account, a database that a program in `sbin` exports, and a script that deletes a folder which it
    shares with a neighbour; its library, and the neighbour."""
    library, shed, rake = folder / LIBRAKES, folder / SHED, folder / RAKE
    write(library / "usr/lib/rakeworks/librakes.so.1", "ELF library\n")
    _control(library, LIBRAKES, "1.0-1")
    shutil.copy("/bin/sleep", write(shed / "usr/bin/shedd"))
    (shed / "usr/bin/shedd").chmod(0o755)
    write(shed / "usr/sbin/shed-export", "#!/bin/sh\ncat /var/lib/rakeworks-shed/beds.db\n", 0o755)
    write(shed / "usr/lib/systemd/system/shed@.service", "[Service]\nExecStart=/usr/bin/shedd 99999\n")
    write(shed / "etc/rakeworks/shed.conf", "beds = 4\n")
    write(shed / "DEBIAN/conffiles", "/etc/rakeworks/shed.conf\n")
    write(shed / "DEBIAN/postinst", SHED_POSTINST, 0o755)
    write(shed / "DEBIAN/postrm", SHED_POSTRM, 0o755)
    _control(shed, SHED, "2.0-1", f"Depends: {LIBRAKES}\n")
    write(rake / "etc/rakeworks/rake.conf", "teeth = 12\n")
    write(rake / "var/lib/rakeworks/rake/factory", "new\n")
    write(rake / "DEBIAN/conffiles", "/etc/rakeworks/rake.conf\n")
    _control(rake, RAKE, "1.1-1")
    return [_package(source) for source in (library, shed, rake)]


def build_one(source: Path, name: str, version: str = "1.0", more: str = "", told: str = "made-up package") -> Path:
    """A made-up package of what lies in a folder; `more` are further fields, each a line."""
    _control(source, name, version, more, told)
    return _package(source)


def _package(source: Path) -> Path:
    made = source.parent / f"{source.name}.deb"
    subprocess.run(["dpkg-deb", "--root-owner-group", "-b", source, made], check=True, capture_output=True)
    return made


def _control(folder: Path, name: str, version: str, more: str = "", told: str = "made-up package of a made-up vendor") -> None:
    text = f"Package: {name}\nVersion: {version}\nArchitecture: all\nMaintainer: Alder Row Nursery <it@alder-row.example>\n{more}"
    write(folder / "DEBIAN/control", f"{text}Description: {told}\n")


def dpkg(root: Path | None, *arguments: object, said: str = "") -> str:
    """Run real dpkg, and say something to it; its output."""
    options = [f"--root={root}"] if root else []
    done = subprocess.run(["dpkg", *options, *map(str, arguments)], capture_output=True, text=True, input=said)
    assert done.returncode == 0, done.stderr
    return done.stdout


def states(root: Path | None, like: str = "brindle") -> dict[str, str]:
    """Package -> state, of the packages with that in their name."""
    options = [f"--root={root}"] if root else []
    command = ["dpkg-query", *options, "-W", "-f", "${Package} ${db:Status-Abbrev}\n"]
    lines = subprocess.run(command, capture_output=True, text=True).stdout.split("\n")
    return {w[0]: w[1] for w in (line.split() for line in lines) if len(w) == 2 and like in w[0] and w[1] != "un"}


def used_for_a_while(top: Path, owner: int | None) -> None:
    """What running and people add: state, logs, an administrator's own file, an account's dot-folder."""
    import os

    for path in (
        "var/lib/brindlewort-bridge/queue/job1",
        "var/log/brindlewort-bridge/bridge.log",
        "etc/brindlewort-bridge/own-printers.conf",
    ):
        write(top / path, f"{path}\n")
    if owner is not None:
        home = top / "home/mira"
        write(home / ".brindlewort/labels/basil.lbl", "basil")
        write(home / ".config/brindlewort-bridge/ui.ini", "x=1")
        write(home / "Documents/bridge notes.txt", "mine")
        for path in [home, *home.rglob("*")]:
            os.chown(path, owner, owner, follow_symlinks=False)
