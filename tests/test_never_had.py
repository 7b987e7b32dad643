"""Gone is within reach: on workstations that never had the product, nothing is in doubt, and what is not there is said to be gone."""

from __future__ import annotations

import os
import random
from collections.abc import Callable
from pathlib import Path

import pytest

import kleff
from kleff.engine.context import make_context
from kleff.engine.finding import Finding
from kleff.engine.library import load
from kleff.engine.opening import opened_workstation
from kleff.engine.verify import verify
from needs.lab import HERE, build
from support import IS_ROOT, linux_tree, procedure, write
from whole import STEPS

SAMPLES = Path(kleff.__file__).parent / "samples"
NEEDS = sorted(file.name.removesuffix(".lab.toml") for file in HERE.glob("*.lab.toml"))
EVERY = os.environ.get("KLEFF_ALL_FAULTS") == "1"


def told(file: Path, on: str) -> tuple[bool, list[Finding]]:
    workstation = opened_workstation(on)
    found = verify(make_context(workstation, load(file)))
    workstation.release()
    return found.clean, found.findings


@pytest.mark.parametrize("name", NEEDS if EVERY else random.Random(1).sample(NEEDS, 5))
def test_on_labs_of_other_products(tmp_path: Path, name: str) -> None:
    """Where another need's product has the same name, or is of the same vendor, it is left; nothing could not be looked at."""
    build(tmp_path / "lab", name)
    gone = 0
    for other in [SAMPLES / "tag-studio.toml", *(HERE / f"{need}.toml" for need in NEEDS if need != name)]:
        clean, found = told(other, f"lab:{tmp_path / 'lab'}")
        assert {finding.state for finding in found} <= {"left", "kept"}, other
        assert clean == all(finding.state == "kept" for finding in found), other
        gone += clean
    assert gone > len(NEEDS) // 2


def packages(top: Path) -> None:
    """One that is installed, one whose settings are left, and a package of Python's with what it put where."""
    status = "Status: install ok installed\nMaintainer: A <a@example.org>\nArchitecture: all\nVersion: 1.0\nDescription: made up\n"
    write(
        top / "var/lib/dpkg/status",
        f"Package: rake\n{status}\nPackage: fork\n{status.replace('install ok installed', 'deinstall ok config-files')}\n",
    )
    write(top / "var/lib/dpkg/info/rake.list", "/.\n/usr\n/usr/share\n/usr/share/rake\n/etc/rake.conf\n")
    write(top / "var/lib/dpkg/info/fork.list", "/etc/fork.conf\n")
    info = top / "usr/lib/python3/dist-packages/rake_labels-1.0.dist-info"
    write(info / "METADATA", "Metadata-Version: 2.1\nName: rake-labels\nVersion: 1.0\nSummary: Beet, Möhre\n")
    write(info / "RECORD", "rake_labels/__init__.py,,\n")
    write(top / "usr/lib/python3/dist-packages/rake_egg.egg-info", "Metadata-Version: 1.1\nName: rake-egg\nVersion: 2\n")
    write(top / "usr/lib/python3/dist-packages/loose.egg-info/PKG-INFO", "Metadata-Version: 1.1\nName: loose\nVersion: 2\n")


def homes(top: Path) -> None:
    """Settings behind links, an own environment of Python, trash, starts, a file in an 8-bit code page, and sockets."""
    home = top / "home/mira"
    write(home / "dotfiles/profile", "umask 22\n")
    (home / ".profile").symlink_to("dotfiles/profile")
    write(home / ".local/share/Trash/files/old", "x")
    write(home / ".local/share/Trash/info/old.trashinfo", "[Trash Info]\nPath=/home/mira/old\nDeletionDate=2026-01-01T00:00:00\n")
    write(home / ".config/autostart/rake.desktop", "[Desktop Entry]\nType=Application\nName=Rake\nExec=rake --tray %U\n")
    (home / ".config/autostart/gone.desktop").symlink_to("/usr/share/applications/gone.desktop")
    write(home / ".local/lib/python3.11/site-packages/rake-1.dist-info/METADATA", "Metadata-Version: 2.1\nName: rake\nVersion: 1\n")
    write(home / ".local/lib/python3.11/site-packages/rake-1.dist-info/RECORD", "")
    (top / "home/tomas/.profile").write_bytes("# Möhren\numask 22\n".encode("cp1252"))
    for name in ("mira", "tomas"):
        uid = (top / "home" / name).stat().st_uid
        for path in (top / "home" / name).rglob("*"):
            os.chown(path, uid, uid, follow_symlinks=False)


def settings(top: Path) -> None:
    """As a Debian has them: a link among the modules', masked units and units of links, lines with remarks, an empty file."""
    write(top / "etc/modules", "# none\n")
    (top / "etc/modules-load.d").mkdir()
    (top / "etc/modules-load.d/modules.conf").symlink_to("../modules")
    write(top / "etc/hosts", "127.0.0.1 localhost\n# hoe was here once\n")
    write(top / "etc/environment", "")
    write(top / "etc/beds.ini", "; beds\n[rake]\r\nx=1\r\n")
    write(top / "usr/lib/systemd/system/rake.service", "[Service]\nExecStart=/usr/bin/rake\n[Install]\nAlias=dibber.service\n")
    (top / "etc/systemd/system").mkdir(parents=True)
    (top / "etc/systemd/system/dibber.service").symlink_to("/usr/lib/systemd/system/rake.service")
    (top / "etc/systemd/system/plough.service").symlink_to("/dev/null")
    write(top / "etc/apt/sources.list", "deb http://deb.example.org stable main\n")
    write(top / "etc/apt/sources.list.d/rake.sources", "Types: deb\nURIs: http://rake.example\nSuites: stable\nComponents: main\n")


def programs(top: Path) -> None:
    """Alternatives of which some lead nowhere, links in the folders of programs, leftovers in the temporary folder."""
    write(top / "usr/bin/dig-by-hand", "#!/bin/sh\n", 0o755)
    write(top / "var/lib/dpkg/alternatives/dig", "auto\n/usr/bin/dig\n\n/usr/bin/dig-by-hand\n5\n\n/opt/plough/dig\n9\n\n")
    (top / "etc/alternatives").mkdir(exist_ok=True)
    (top / "etc/alternatives/dig").symlink_to("/opt/plough/dig")
    (top / "usr/bin/dig").symlink_to("/etc/alternatives/dig")
    (top / "usr/bin/loop").symlink_to("loop")
    (top / "usr/bin/nowhere").symlink_to("/opt/nowhere/bin/x")
    write(top / "tmp/rake-1", "x")
    os.mkfifo(top / "tmp/pipe")
    write(top / "usr/lib/modules/6.1.0/extra/rake.ko", "elf")
    (top / "usr/lib/modules/6.1.0/build").symlink_to("/usr/src/linux-headers-6.1.0")


def all_of_it(top: Path) -> None:
    for use in (packages, homes, settings, programs):
        use(top)


@pytest.mark.skipif(not IS_ROOT, reason="needs root: files of several accounts")
@pytest.mark.parametrize("used", [packages, homes, settings, programs, all_of_it])
def test_on_trees_that_were_used(tmp_path: Path, used: Callable[[Path], None]) -> None:
    top = linux_tree(tmp_path / "tree")
    write(top / "etc/group", "root:x:0:\nmira:x:1001:\ntomas:x:1002:\n")
    used(top)
    for file in (SAMPLES / "print-bridge.toml", procedure(tmp_path / "hoe.toml", STEPS)):
        assert told(file, f"root:{top}") == (True, []), file
