"""A Linux tree that has something of every kind of object, wholly there, and a step for each."""

from __future__ import annotations

import os
from pathlib import Path

from support import linux_tree, write

STEPS = r"""
[[evidence]]
path = "/opt/hoe/bin/hoed"
[[evidence]]
package = "hoe"
[[evidence]]
module = "hoe-probe"
[[evidence]]
lines = "hoe.example"
in_file = "/etc/hosts"
[[evidence]]
python = "hoe-labels"
[[evidence]]
account = "hoed"
[[evidence]]
group = "hoers"
[[evidence]]
service = "hoed"
[[backup]]
label = "settings"
paths = ["{user.roaming}/hoe"]
[[stop]]
startup = "hoe-tray*"
[[purge]]
package = "hoe"
[[purge]]
python = "hoe-labels"
[[delete]]
paths = ["/opt/hoe", "{user.home}/.hoe-cache/*", "/var/lib/hoe-state"]
[[delete]]
lines = "hoe.example"
in_file = "/etc/hosts"
[[delete]]
lines = "export HOE_HOME=/opt/hoe"
in_file = "{user.home}/.profile"
[[delete]]
list_item = "/opt/hoe/bin"
in_file = "/etc/environment"
in_value = "PATH"
between = ":"
[[delete]]
section = "hoes *"
in_file = "/etc/beds.ini"
[[delete]]
units_of = "hoed"
[[delete]]
trash_of = ["/opt/hoe", "{user.home}/beds"]
[[delete]]
temp = "hoe-beds-*"
[[delete]]
alternatives_to = "/opt/hoe"
[[delete]]
source = "hoe.list"
[[delete]]
account = "hoed"
[[delete]]
group = "hoers"
[[verify]]
paths = ["/opt/hoe/bin"]
[[verify]]
service = "hoed"
[[verify]]
command_missing = "hoe"
[[verify]]
module = "hoe-probe"
"""
RUNNING = """
[[stop]]
service = "hoed"
[[verify]]
process = "hoed"
"""
UNIT = "[Service]\nExecStart=/opt/hoe/bin/hoed\n[Install]\nWantedBy=multi-user.target\n"
DESKTOP = "[Desktop Entry]\nType=Application\nName=Hoe\nExec=/opt/hoe/bin/hoe-tray %U\n"
ALTERNATIVE = "auto\n/usr/bin/dig\n\n/opt/hoe/bin/dig\n10\n/usr/bin/dig-by-hand\n5\n\n"
SITE = ".local/lib/python3.11/site-packages"
STATUS = (
    "Package: hoe\nStatus: install ok installed\nMaintainer: A <a@example.org>\nArchitecture: all\nVersion: 1.0\nDescription: made up\n\n"
)


def whole(top: Path) -> Path:
    """Made at a path at which nothing is yet."""
    linux_tree(top)
    (top / "lib").unlink()
    (top / "lib").symlink_to("usr/lib")
    write(top / "etc/group", "root:x:0:\nmira:x:1001:\ntomas:x:1002:\n")
    write(top / "etc/login.defs", "UID_MIN 1000\nUID_MAX 60000\n")
    write(top / "etc/hosts", "127.0.0.1 localhost\n")
    return lay(top)


def lay(top: Path) -> Path:
    """The product, into a tree with the accounts `mira` (1001) and `tomas` (1002)."""
    for name in ("hoed", "hoe", "hoe-tray", "dig"):
        write(top / "opt/hoe/bin" / name, "#!/bin/sh\n", 0o755)
    write(top / "var/lib/hoe-state/x")
    _add(top / "etc/group", "hoed:x:880:\nhoers:x:881:mira\n")
    _add(top / "etc/passwd", "hoed:x:880:880::/var/lib/hoe-state:/usr/sbin/nologin\n")
    _add(top / "etc/hosts", "10.0.0.9 hoe.example\n")
    write(top / "etc/environment", "PATH=/usr/bin:/opt/hoe/bin:/bin\n")
    write(top / "etc/beds.ini", "[rake]\nx=1\n[hoes one]\ny=2\n")
    write(top / "etc/systemd/system/hoed.service", UNIT)
    (top / "etc/systemd/system/multi-user.target.wants").mkdir(exist_ok=True)
    (top / "etc/systemd/system/multi-user.target.wants/hoed.service").symlink_to("/etc/systemd/system/hoed.service")
    write(top / "etc/apt/sources.list.d/hoe.list", "deb https://hoe.example/deb stable main\n")
    write(top / "usr/lib/modules/6.1.0/extra/hoe-probe.ko", "elf")
    write(top / "etc/modules-load.d/hoe.conf", "hoe_probe\n")
    (top / "usr/bin/hoe").symlink_to("/opt/hoe/bin/hoe")
    write(top / "usr/bin/dig-by-hand", "#!/bin/sh\n", 0o755)
    write(top / "var/lib/dpkg/alternatives/dig", ALTERNATIVE)
    (top / "etc/alternatives").mkdir(exist_ok=True)
    (top / "etc/alternatives/dig").symlink_to("/opt/hoe/bin/dig")
    (top / "usr/bin/dig").symlink_to("/etc/alternatives/dig")
    write(top / "usr/share/hoe/one", "one")
    _add(top / "var/lib/dpkg/status", STATUS)
    write(top / "var/lib/dpkg/info/hoe.list", "/.\n/usr\n/usr/share\n/usr/share/hoe\n/usr/share/hoe/one\n")
    write(top / "tmp/hoe-beds-1", "x")
    os.utime(top / "tmp/hoe-beds-1", (1_700_000_000,) * 2)
    for name, uid in (("mira", 1001), ("tomas", 1002)):
        _lay_home(top / "home" / name, name, uid)
    return top


def _lay_home(home: Path, name: str, uid: int) -> None:
    write(home / ".config/hoe/settings", name)
    write(home / ".hoe-cache/x", name)
    write(home / ".profile", "umask 22\nexport HOE_HOME=/opt/hoe\n")
    write(home / ".config/autostart/hoe-tray.desktop", DESKTOP)
    write(home / ".local/share/Trash/files/old beds", name)
    trashed = f"[Trash Info]\nPath=/home/{name}/beds/old\nDeletionDate=2026-01-01T00:00:00\n"
    write(home / ".local/share/Trash/info/old beds.trashinfo", trashed)
    info = home / SITE / "hoe_labels-1.2.dist-info"
    write(home / SITE / "hoe_labels/__init__.py", "")
    write(info / "METADATA", "Metadata-Version: 2.1\nName: hoe-labels\nVersion: 1.2\n")
    write(info / "RECORD", "hoe_labels/__init__.py,,\nhoe_labels-1.2.dist-info/METADATA,,\nhoe_labels-1.2.dist-info/RECORD,,\n")
    for path in [home, *home.rglob("*")]:
        os.chown(path, uid, uid, follow_symlinks=False)


def _add(file: Path, text: str) -> None:
    with file.open("a") as out:
        out.write(text)
