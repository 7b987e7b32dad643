"""Packages off a real Debian tree and back, exactly: modes, owners, times, capabilities, second names, generated files, dpkg's database."""

from __future__ import annotations

import json
import os
import random
import re
import shutil
import signal
import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from booted import NEEDED, make_base
from debs import build_one, dpkg, states
from killing import EVERY
from kleff.case.aside.as_it_was import settle_file
from kleff.case.aside.spare_index import SparedItem
from kleff.workstation.open import open_workstation
from support import IS_ROOT, Kleff, differences, linux_tree, procedure, tree, until, write

missing = [n for n in (*NEEDED, "chroot") if shutil.which(n) is None]
pytestmark = [
    pytest.mark.skipif(not IS_ROOT, reason="needs root: installs packages in a tree"),
    pytest.mark.skipif(bool(missing), reason=f"needs {', '.join(missing)}"),
]
# What a package manager writes whenever it works, and what belongs to Kleff alone.
NOISE = re.compile(
    r"(dev|proc|sys|run|tmp|\.kleff)(/|\Z)|var/(tmp|log|cache)(/|\Z)|var/lib/kleff(/|\Z)|etc/ld\.so\.cache\Z|.*/__pycache__(/|\Z)"
    r"|var/lib/dpkg/(lock.*|updates|status-old|available.*|.*-old|triggers/(Lock|Unincorp))(/|\Z)|var/lib/apt/(lists|periodic)(/|\Z)"
)
CAPABLE = bytes.fromhex("0100000200040000000000000000000000000000")  # cap_net_bind_service=ep (capabilities(7), VFS_CAP_REVISION_2)
PLUM_POSTINST = """#!/bin/sh
set -e
test ! -e /tmp/plum-waits || sleep 1
head -c 16 /dev/urandom > /etc/plum/key; chmod 640 /etc/plum/key; chgrp plum /etc/plum/key
echo "generated $(date +%s%N)" > /etc/plum-generated.conf
ln -sf /usr/lib/systemd/system/plum.service /etc/systemd/system/plum-alias.service
mkdir -p /usr/share/icons/hicolor
echo rows > /usr/share/icons/hicolor/icon-theme.cache
touch /var/lib/systemd/plum.new
rm /var/lib/systemd/plum.new
grep -q plum-row /etc/hosts || echo "127.0.0.9 plum-row" >> /etc/hosts
test ! -e /tmp/plum-waits || sleep 9
"""
PLUM_POSTRM = """#!/bin/sh
set -e
if [ "$1" = purge ]; then
  rm -f /etc/plum/key /etc/plum-generated.conf /etc/systemd/system/plum-alias.service
  sed -i /plum-row/d /etc/hosts
  echo rows > /usr/share/icons/hicolor/icon-theme.cache
  rmdir --ignore-fail-on-non-empty /etc/plum 2>/dev/null || true
fi
"""
BASE_POSTINST = "#!/bin/sh\nset -e\ntest ! -e /tmp/plum-no\ninstall -m 755 /dev/null /usr/bin/plum-base-is-configured\n"
PRE = "#!/bin/sh\nset -e\ntest -x /usr/bin/plum-base-is-configured\n"


def make_plums(folder: Path) -> list[Path]:
    """Three packages, each of which needs the one before configured before it can be unpacked; and a neighbour with files beside theirs."""
    base, core, top, rake = (folder / name for name in ("plum-base", "plum-core", "plum-top", "plum-rake"))
    write(base / "usr/lib/plum/base.so", "base\n" * 10)
    write(
        base / "DEBIAN/postinst",
        "#!/bin/sh\nset -e\ntest ! -e /tmp/plum-no\ninstall -m 755 /dev/null /usr/bin/plum-base-is-configured\n",
        0o755,
    )
    write(base / "DEBIAN/postrm", "#!/bin/sh\nset -e\n[ $1 != remove ] || rm -f /usr/bin/plum-base-is-configured\n", 0o755)
    for name, mode, size in (("plumd", 0o4755, 100_000), ("plum-small", 0o2755, 900), ("plum-port", 0o755, 80_000)):
        write(core / "usr/bin" / name, f"#!{name}\n" * (size // 10), mode)
    os.link(core / "usr/bin/plumd", core / "usr/bin/plumctl")
    write(core / "usr/lib/systemd/system/plum.service", "[Service]\nExecStart=/usr/bin/plumd\n")
    write(core / "etc/plum/plum.conf", "rows = 4\n")
    write(core / "DEBIAN/conffiles", "/etc/plum/plum.conf\n")
    write(core / "DEBIAN/preinst", PRE, 0o755)
    write(core / "DEBIAN/postinst", PLUM_POSTINST, 0o755)
    write(core / "DEBIAN/postrm", PLUM_POSTRM, 0o755)
    write(top / "usr/share/plum/top", "top\n")
    write(top / "DEBIAN/preinst", "#!/bin/sh\nset -e\ntest -e /etc/plum/key\n", 0o755)
    write(rake / "usr/lib/plum/rake.so", "rake\n")
    write(rake / "etc/plum/rake.conf", "teeth = 9\n")
    write(rake / "DEBIAN/conffiles", "/etc/plum/rake.conf\n")
    older = folder / "plum-older"  # brings a configuration file that the next version does not bring any more
    write(older / "etc/plum-old.conf", "old\n")
    write(older / "DEBIAN/conffiles", "/etc/plum-old.conf\n")
    return [
        build_one(older, "plum-base", version="0.9"),
        build_one(base, "plum-base"),
        build_one(core, "plum-core", more="Pre-Depends: plum-base\n"),
        build_one(top, "plum-top", more="Pre-Depends: plum-core (>= 1.0)\n"),
        build_one(rake, "plum-rake"),
    ]


@pytest.fixture(scope="module")
def master(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    folder = tmp_path_factory.mktemp("exact")
    top = folder / "tree"
    subprocess.run(["cp", "-a", make_base(tmp_path_factory), top], check=True)
    for line, file in (("plum:x:4711:\n", "group"), ("plum:!::\n", "gshadow")):
        with (top / "etc" / file).open("a") as out:
            out.write(line)
    for deb in make_plums(folder / "debs"):
        shutil.copy(deb, top / "var/cache/plums.deb")
        subprocess.run(["chroot", top, "dpkg", "-i", "/var/cache/plums.deb"], check=True, capture_output=True)
    write(top / "etc/plum/plum.conf", "rows = 9, by the technician\n")
    os.setxattr(top / "usr/bin/plum-port", "security.capability", CAPABLE)
    # A group that this machine has not: from outside, dpkg then says that its database is damaged.
    subprocess.run(["chroot", top, "dpkg-statoverride", "--update", "--add", "root", "plum", "2755", "/usr/bin/plum-small"], check=True)
    yield top
    shutil.rmtree(top)


@pytest.fixture
def top(master: Path, tmp_path: Path) -> Path:
    subprocess.run(["cp", "-a", master, tmp_path / "tree"], check=True)
    return tmp_path / "tree"


def snapshot(top: Path) -> dict[str, Any]:
    """All that must come back; of dpkg's status what it means, since its order and its fillers are dpkg's own."""
    found = {name: what for name, what in tree(top).items() if not NOISE.match(name)}
    for name in [n for n in found if n.startswith("var/lib/dpkg")]:
        mode, uid, gid, _, content, extended, _ = found[name]
        found[name] = (mode, uid, gid, 0, content, extended, "")
    paragraphs = (top / "var/lib/dpkg/status").read_text().split("\n\n")
    found["var/lib/dpkg/status"] = tuple(sorted(p.strip() for p in paragraphs if "not-installed" not in p))
    return found


STEPS = '[[evidence]]\npackage = "plum-*"\n[[purge]]\npackage = ["plum-base", "plum-core", "plum-top"]\n'


def test_there_and_back(kleff: Kleff, top: Path, tmp_path: Path) -> None:
    """Setuid and setgid programs, large, small, with a second name, with capabilities; what scripts made and would make otherwise; an owner
    that is set for a group of the tree alone; packages that cannot be unpacked before others are configured.
    """
    before = snapshot(top)
    assert before["usr/bin/plumd"][0] & 0o7777 == 0o4755
    assert before["usr/bin/plumd"][-1] == before["usr/bin/plumctl"][-1] != ""
    kleff("run", procedure(tmp_path / "p.toml", STEPS), "--on", f"root:{top}", "--yes", code=None)
    assert not {"plum-base", "plum-core", "plum-top"} & set(states(top, "plum"))
    assert not (top / "usr/bin/plumd").exists()
    kleff("undo", kleff.case(), "--yes")
    assert differences(before, snapshot(top)) == []
    assert not (top / "usr/sbin/policy-rc.d").exists()
    assert not (top / ".kleff").exists()


def test_a_program_is_never_kept_by_a_second_name(kleff: Kleff, top: Path, tmp_path: Path) -> None:
    """The spare of a program with special rights is a copy without them; only where one of its names is somebody else's it is that file."""
    outside = top / "srv/plum-own-name"
    os.link(top / "usr/bin/plumd", outside)
    before = snapshot(top)
    kleff("run", procedure(tmp_path / "p.toml", STEPS), "--on", f"root:{top}", "--yes", code=None)
    lying = [path for path in (top / ".kleff").rglob("*") if path.is_file() and not path.is_symlink()]
    assert not [path for path in lying if path.stat().st_mode & 0o6000]
    assert any(path.samefile(outside) for path in lying)
    kleff("undo", kleff.case(), "--yes")
    assert differences(before, snapshot(top)) == []
    assert outside.samefile(top / "usr/bin/plumd")


def test_what_somebody_has_changed_since_stays(kleff: Kleff, top: Path, tmp_path: Path) -> None:
    """Of what scripts have changed too: left as it is, and told; what nobody touched is as before."""
    before = snapshot(top)
    kleff("run", procedure(tmp_path / "p.toml", STEPS), "--on", f"root:{top}", "--yes", code=None)
    with (top / "etc/hosts").open("a") as hosts:
        hosts.write("127.0.0.8 since\n")
    write(top / "etc/plum-generated.conf", "mine now\n")
    kleff("undo", kleff.case(), "--yes", code=None)
    assert "127.0.0.8 since" in (top / "etc/hosts").read_text()
    assert (top / "etc/plum-generated.conf").read_text().startswith(("mine now", "generated"))
    left = {line.split(": ")[1] for line in differences(before, snapshot(top))}
    assert left <= {"etc/hosts", "etc/plum-generated.conf", "etc"}


def killed_in_dpkg(kleff: Kleff, words: list[object], top: Path, at: Callable[[], bool]) -> bool:
    """Run a command and cut the power, all programs in the tree included, once something is so. False if it ended before."""
    command = [kleff.program, *map(str, words), "--cases", str(kleff.cases)]
    child = subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    until(lambda: at() or child.poll() is not None, 60, 0.001)
    ended = child.poll() is not None
    child.kill()
    for _ in range(3):  # dpkg's children begin others
        for pid in (int(name) for name in os.listdir("/proc") if name.isdigit()):
            try:
                words_of = Path(f"/proc/{pid}/cmdline").read_bytes()
                inside = os.readlink(f"/proc/{pid}/root").startswith(str(top))
            except OSError:
                continue
            if inside or (str(top).encode() in words_of and pid != os.getpid() and b"pytest" not in words_of):
                os.kill(pid, signal.SIGKILL)
        time.sleep(0.05)
    child.wait()
    return not ended


@pytest.mark.parametrize("seed", range(50 if EVERY else 4))
def test_killed_while_dpkg_works(kleff: Kleff, top: Path, tmp_path: Path, seed: int) -> None:
    """At a moment of a removal, and every other time at one of its undo too: taken back, everything is as before."""
    before, chance = snapshot(top), random.Random(seed)
    file = procedure(tmp_path / "p.toml", STEPS)
    begun = [0.0]

    def moment(after: float) -> Callable[[], bool]:
        def now() -> bool:
            if not begun[0] and list(kleff.cases.glob("*/output/*.txt")):
                begun[0] = time.monotonic()
            return bool(begun[0]) and time.monotonic() - begun[0] > after

        return now

    killed_in_dpkg(kleff, ["run", file, "--on", f"root:{top}", "--yes"], top, moment(chance.uniform(0, 1.0)))
    if seed % 2:
        begun[0] = time.monotonic()
        killed_in_dpkg(kleff, ["undo", kleff.case(), "--yes"], top, moment(chance.uniform(0.3, 3.0)))
    kleff("undo", kleff.case(), "--yes", code=None)
    assert differences(before, snapshot(top)) == []
    assert not (top / "usr/sbin/policy-rc.d").exists()


def test_a_killed_undo_leaves_no_policy(kleff: Kleff, top: Path, tmp_path: Path) -> None:
    """Killed once the packages stand again: nothing is left to install, and all the same services may start afterwards."""
    before, policy = snapshot(top), top / "usr/sbin/policy-rc.d"
    kleff("run", procedure(tmp_path / "p.toml", STEPS), "--on", f"root:{top}", "--yes", code=None)
    killed = killed_in_dpkg(kleff, ["undo", kleff.case(), "--yes"], top, policy.exists)
    assert killed
    assert policy.exists()
    kleff("preview", tmp_path / "p.toml", "--on", f"root:{top}", code=None)
    assert not policy.exists(), "the next of any command clears it"
    kleff("undo", kleff.case(), "--yes")
    assert differences(before, snapshot(top)) == []


def test_killed_when_a_script_has_long_been_silent(kleff: Kleff, top: Path, tmp_path: Path) -> None:
    """What it wrote since the package manager's last word is its doing all the same, and none of somebody else's."""
    before = snapshot(top)
    kleff("run", procedure(tmp_path / "p.toml", STEPS), "--on", f"root:{top}", "--yes", code=None)
    write(top / "tmp/plum-waits", "")
    hosts = top / "etc/hosts"
    assert killed_in_dpkg(kleff, ["undo", kleff.case(), "--yes"], top, lambda: "plum-row" in hosts.read_text())
    assert (top / "etc/plum-generated.conf").exists()
    (top / "tmp/plum-waits").unlink()
    kleff("undo", kleff.case(), "--yes")
    assert differences(before, snapshot(top)) == []


def test_an_undo_that_fails_stays_open(kleff: Kleff, top: Path, tmp_path: Path) -> None:
    """dpkg says no in the middle: told with its words, nothing else may begin, and once the cause is gone the same command ends it."""
    before = snapshot(top)
    kleff("run", procedure(tmp_path / "p.toml", STEPS), "--on", f"root:{top}", "--yes", code=None)
    stop = write(top / "tmp/plum-no", "")
    said = kleff("undo", kleff.case(), "--yes", code=1)
    assert "dpkg --configure ended with 1: dpkg: error processing package plum-base" in said.out
    assert "; half done: plum-base; " in said.out
    assert f"kleff undo {kleff.cases / kleff.case()}" in said.err
    assert "half" not in kleff("cases").out
    assert json.loads(kleff("report", kleff.case(), "--json").out)["case"]["state"] == "undoing"
    blocked = kleff("run", tmp_path / "p.toml", "--on", f"root:{top}", "--yes", code=3)
    assert "go on taking it back with" in blocked.err
    assert "kleff resume" not in blocked.err
    stop.unlink()
    with (top / "etc/hosts").open("a") as hosts:
        hosts.write("127.0.0.7 between the tries\n")
    kleff("undo", kleff.case(), "--yes")
    assert "127.0.0.7 between the tries" in (top / "etc/hosts").read_text()
    assert [line.split(": ")[1] for line in differences(before, snapshot(top))] == ["etc/hosts"]


def test_left_as_it_is_with_a_reason(kleff: Kleff, top: Path, tmp_path: Path) -> None:
    """Where the cause does not go, the technician goes past it, and the workstation is free again."""
    kleff("run", procedure(tmp_path / "p.toml", STEPS), "--on", f"root:{top}", "--yes", code=None)
    write(top / "tmp/plum-no", "")
    kleff("undo", kleff.case(), "--yes", code=1)
    kleff("undo", kleff.case(), "--yes", "--past", "1", code=2)
    done = kleff("undo", kleff.case(), "--yes", "--past", "1", "--because", "the machine is set up anew", code=4)
    assert "left: the machine is set up anew" in done.out
    kleff("preview", tmp_path / "p.toml", "--on", f"root:{top}", code=None)
    assert json.loads(kleff("report", kleff.case(), "--json").out)["case"]["state"] == "undone"


def test_real_programs_with_special_rights(kleff: Kleff, top: Path, tmp_path: Path) -> None:
    """Debian's own openssh-client: its agent is setgid and large."""
    before = snapshot(top)
    assert before["usr/bin/ssh-agent"][0] & 0o2000
    kleff("run", procedure(tmp_path / "p.toml", '[[purge]]\npackage = "openssh-client"\n'), "--on", f"root:{top}", "--yes", code=None)
    assert "openssh-client" not in states(top, "openssh")
    kleff("undo", kleff.case(), "--yes")
    assert differences(before, snapshot(top)) == []
    assert dpkg(top, "--audit") == ""


def test_what_apt_offers(kleff: Kleff, top: Path, tmp_path: Path) -> None:
    """As apt says, also of a package that calls itself required where the archive does not: apt believes the archive."""
    repository = top / "srv/garden"
    old, new = repository / "plum-old", repository / "plum-new"
    write(old / "usr/lib/plum/old.so", "old\n")
    write(new / "usr/lib/plum/new.so", "new\n")
    for source, priority in ((old, "required"), (new, "optional")):
        deb = build_one(source, source.name, more=f"Priority: {priority}\n")
        subprocess.run(["chroot", top, "dpkg", "-i", f"/srv/garden/{deb.name}"], check=True, capture_output=True)
    listed = "".join(
        f"Package: {name}\nVersion: 1.0\nArchitecture: all\nPriority: optional\nDescription: made-up package\n"
        f"Filename: ./{name}.deb\nSize: {(repository / f'{name}.deb').stat().st_size}\n\n"
        for name in ("plum-old", "plum-new")
    )
    write(repository / "Packages", listed)
    shutil.rmtree(top / "etc/apt/sources.list.d")
    write(top / "etc/apt/sources.list", "deb [trusted=yes] copy:/srv/garden ./\n")
    subprocess.run(["chroot", top, "apt-get", "-qq", "update"], check=True, capture_output=True)
    subprocess.run(["chroot", top, "apt-mark", "auto", "plum-old", "plum-new"], check=True, capture_output=True)
    said = subprocess.run(["chroot", top, "apt-get", "-s", "autoremove"], check=True, capture_output=True, text=True).stdout
    offered = sorted(re.findall(r"^Remv (\S+)", said, re.MULTILINE))
    assert "plum-old" in offered
    found = kleff("unneeded", "--all", "--on", f"root:{top}", "--json").json()
    assert sorted(one["name"] for one in found["packages"]) == offered


def test_a_name_of_somebody_else_s_file(tmp_path: Path) -> None:
    """An account that may write in a folder puts a second name of another's file, of the same size and time, where its own had been: undo
    gives it neither that owner nor those rights.
    """
    top = linux_tree(tmp_path / "tree")
    own = write(top / "home/mira/tool", "x" * 500, 0o4755)
    os.chown(own, 1001, 1001)
    theirs = write(top / "srv/theirs", "y" * 500, 0o600)
    os.utime(theirs, ns=(own.stat().st_atime_ns, own.stat().st_mtime_ns))
    look = own.stat()
    kept = SparedItem(path="", mode=look.st_mode, uid=1001, gid=1001, atime=look.st_atime_ns, mtime=look.st_mtime_ns, size=500)
    own.unlink()
    os.link(theirs, own)
    workstation = open_workstation(f"root:{top}")
    place = workstation.files.path("/home/mira/tool")
    assert place is not None
    with workstation.files.parent(place) as (folder, name):
        settle_file(folder, name, kept)
    assert (theirs.stat().st_uid, theirs.stat().st_mode & 0o7777) == (0, 0o600)
