"""Packages that need what goes, and packages that came along with it: told, and gone only if somebody says so."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import pexpect
import pytest

from debs import NEEDED, build, dpkg, states
from kleff.case.guard.kept import Kept
from kleff.case.record.beforehand import Beforehand, stays_of
from kleff.errors import NeverBegun, Refused
from kleff.objects.packages.choosing import let_go
from kleff.report.short_plan import short_plan
from kleff.workstation.memory.packages import MemoryPackages
from memory import Bench, Killed, killed_at
from support import IS_ROOT, Kleff, differences, linux_tree, procedure, tree, write

PURGE = "[[purge]]\npackage = 'hoe'\n"


def shed(folder: Path) -> Bench:
    """A server with two libraries of its own and one that a neighbour needs too; a plug-in that needs the server; something left over."""
    bench = Bench(folder, "linux")
    packages = bench.on.packages
    for name in ("hoe", "libhoe1", "libbeds2", "libshared3", "rake", "hoe-plugin", "hoe-plugin-extra", "oldlib0", "libc6"):
        packages.add(name, "1.0", [f"/usr/lib/{name}/x.so"])
    packages.needs = {
        "hoe": ["libhoe1", "libshared3", "libc6"], "libhoe1": ["libbeds2", "libc6"], "rake": ["libshared3"], "hoe-plugin": ["hoe"],
        "hoe-plugin-extra": ["hoe-plugin"],
    }  # fmt: skip
    packages.automatic = {"libhoe1", "libbeds2", "libshared3", "oldlib0"}
    return bench


def names(bench: Bench) -> set[str]:
    return {p.name for p in bench.on.packages.all()}


def test_what_needs_it_is_refused_or_allowed(folder: Path) -> None:
    """In chains, by name."""
    bench = shed(folder)
    before = names(bench)
    with pytest.raises(Refused, match="hoe-plugin, hoe-plugin-extra need it and would go too"):
        bench.run(PURGE)
    with pytest.raises(Refused, match="hoe-plugin-extra needs it and would go too"):
        bench.run(PURGE + "allows = ['hoe-plugin']\n")
    assert names(bench) == before
    job, _ = bench.run(PURGE + "allows = ['hoe-plugin*']\ncame_along = 'none'\n")
    assert names(bench) == before - {"hoe", "hoe-plugin", "hoe-plugin-extra"}
    job.undo()
    assert names(bench) == before


@pytest.mark.parametrize(
    ("said", "goes"), [("these", {"libhoe1", "libbeds2"}), ("all", {"libhoe1", "libbeds2", "oldlib0"}), ("none", set())]
)
def test_what_came_along(folder: Path, said: str, goes: set[str]) -> None:
    """In all rounds; never what another needs, what a person has asked for, or what nothing needed before."""
    bench = shed(folder)
    before = names(bench)
    job, ended = bench.run(PURGE + f"allows = ['hoe-plugin*']\ncame_along = '{said}'\n")
    assert before - names(bench) == {"hoe", "hoe-plugin", "hoe-plugin-extra"} | goes
    assert ended.clean
    job.undo()
    assert names(bench) == before


def test_where_nobody_says_they_stay_and_are_told(folder: Path) -> None:
    bench = shed(folder)
    before = names(bench)
    made = bench.preview(PURGE + "allows = ['hoe-plugin*']\n")
    assert (
        "STAY: 2 packages that came along, 0 B; nothing says that they go:  --came-along these  takes them too"
        in short_plan(made.here, made.plan).text()
    )
    _, ended = bench.run(PURGE + "allows = ['hoe-plugin*']\n")
    assert before - names(bench) == {"hoe", "hoe-plugin", "hoe-plugin-extra"}
    assert ended.clean


def test_what_stays_keeps_what_it_needs(folder: Path) -> None:
    """A package of the system's own that came along stays, and so does its library; it goes if it was installed in the same act."""
    bench = shed(folder)
    packages = bench.on.packages
    for name in ("ip-tools", "libelf", "libmnl"):
        packages.add(name, "1.0", [f"/usr/lib/{name}"])
    packages.known["ip-tools"] = (replace(packages.known["ip-tools"][0], priority="important"), ["/usr/lib/ip-tools"])
    packages.needs |= {"ip-tools": ["libelf"], "libelf": ["libmnl"], "hoe": [*packages.needs["hoe"], "ip-tools", "libmnl"]}
    packages.automatic |= {"ip-tools", "libelf", "libmnl"}
    before = names(bench)
    job, ended = bench.run(PURGE + "allows = ['hoe-plugin*']\ncame_along = 'these'\n")
    assert ended.clean
    assert before - names(bench) == {"hoe", "hoe-plugin", "hoe-plugin-extra", "libhoe1", "libbeds2"}
    job.undo()
    packages.installed_with = {"ip-tools": ["hoe"]}
    bench.run(PURGE + "allows = ['hoe-plugin*']\ncame_along = 'these'\n")
    assert before - names(bench) == {"hoe", "hoe-plugin", "hoe-plugin-extra", "libhoe1", "libbeds2", "ip-tools", "libelf", "libmnl"}


def test_what_only_came_along_refuses_nothing(folder: Path) -> None:
    """It needs what is purged, and was brought in with it in the same act; one that somebody asked for still refuses the run."""
    bench = shed(folder)
    packages = bench.on.packages
    assert {a.state for a in bench.plan(PURGE, phase="purge")} == {"refused"}
    packages.automatic |= {"hoe-plugin", "hoe-plugin-extra"}
    packages.installed_with = {"hoe-plugin": ["hoe"], "hoe-plugin-extra": ["hoe"]}
    before = names(bench)
    planned = bench.plan(PURGE, phase="purge")[0]
    assert planned.state == "to do"
    assert any("goes too: " in line and "hoe-plugin" in line for line in planned.shows)
    job, ended = bench.run(PURGE)
    assert ended.clean
    assert {"hoe", "hoe-plugin", "hoe-plugin-extra"} <= before - names(bench)
    job.undo()
    assert names(bench) == before
    packages.automatic.discard("hoe-plugin")
    assert "refused" in {a.state for a in bench.plan(PURGE, phase="purge")}


def test_killed_at_every_write(folder: Path) -> None:
    """Resumed it ends as an undisturbed run does, and undo brings all of them back."""
    body = PURGE + "allows = ['hoe-plugin*']\ncame_along = 'these'\n[[delete]]\npaths = ['/usr/lib/libhoe1']\n"
    for number in range(1, 60):
        bench = shed(folder / str(number))
        before = names(bench)
        with killed_at(number, False) as writes:
            bench.run(body)
        if writes[0] < number:
            break
        case = next((bench.folder / "cases").iterdir(), None)
        try:
            again = bench.again(bench.job(body), case) if case else None
            if again is None or not again.record().rows:
                continue
        except NeverBegun:
            continue
        again.resume()
        assert before - names(bench) == {"hoe", "hoe-plugin", "hoe-plugin-extra", "libhoe1", "libbeds2"}, number
        again.undo()
        assert names(bench) == before, number
    assert number > 8


missing = [n for n in (*NEEDED, "apt-get") if shutil.which(n) is None]


@pytest.fixture
def top(tmp_path: Path) -> Path:
    """The made-up packages in a tree, the library marked as brought in for another."""
    top = linux_tree(tmp_path / "tree")
    dpkg(top, "-i", *build(tmp_path / "debs", scripts=False))
    write(top / "var/lib/apt/extended_states", "Package: libbrindle1\nArchitecture: all\nAuto-Installed: 1\n\n")
    return top


@pytest.mark.skipif(not IS_ROOT, reason="works in another tree, which needs root")
@pytest.mark.skipif(bool(missing), reason=f"needs {', '.join(missing)}")
def test_by_real_dpkg_and_apt(kleff: Kleff, tmp_path: Path, top: Path) -> None:
    on = ("--on", f"root:{top}")
    library = procedure(tmp_path / "l.toml", "[[purge]]\npackage = 'libbrindle1'\n")
    before = tree(top)
    assert "brindlewort-bridge needs it and would go too" in kleff("run", library, *on, "--yes", code=3).err
    file = procedure(tmp_path / "p.toml", "[[purge]]\npackage = 'brindlewort-bridge'\n")
    shown = kleff("preview", file, *on, short=True).out
    assert "STAY: 1 package that came along" in shown
    assert differences(before, tree(top)) == [], "asking changes nothing"
    done = kleff("run", file, *on, "--yes", short=True).out
    assert "stays      1 package that came along" in done
    assert "later:  apt-get autoremove --purge" in done
    assert states(top) == {"libbrindle1": "ii", "brindlewort-stocktake": "ii"}
    kleff("undo", kleff.case(), "--yes")
    child = pexpect.spawn(
        str(kleff.program), ["run", str(file), *on, "--cases", str(kleff.cases)], encoding="utf-8", timeout=60, dimensions=(60, 160)
    )
    child.expect(r"1 package that came along, .*, and nothing needs it then:\s+libbrindle1")
    child.expect(r"Remove them too\? \[y/N\] ")
    child.sendline("y")
    child.expect(r"came along .*libbrindle1 1.4-2")
    child.expect(r"Do this on .*\[y/N\] ")
    child.sendline("n")
    child.expect(pexpect.EOF)
    kleff("run", file, *on, "--yes", "--came-along", "these")
    assert states(top) == {"brindlewort-stocktake": "ii"}
    kleff("undo", kleff.case(), "--yes")
    assert states(top) == {"libbrindle1": "ii", "brindlewort-bridge": "ii", "brindlewort-stocktake": "ii"}
    asked = ["apt-get", "-o", f"Dir={top}", "-o", f"Dir::State::status={top}/var/lib/dpkg/status", "-s", "autoremove"]
    assert "0 to remove" in subprocess.run(asked, capture_output=True, text=True).stdout
    assert "Auto-Installed: 1" in (top / "var/lib/apt/extended_states").read_text()


def test_cut_off_between_a_package_and_what_it_stands_for(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Only the one that is named is gone: its part is not taken for another's package, whose folder would have to stay."""
    bench = Bench(folder, "linux")
    bench.on.packages.add("hoe", "1.0", [])
    bench.on.packages.add("hoe-server", "1.0", ["/usr/bin/hoed"], folders=["/etc/hoe"])
    bench.on.packages.needs, bench.on.packages.automatic = {"hoe": ["hoe-server"]}, {"hoe-server"}
    bench.on.files.add("/etc/hoe/rows", "7")
    body, remove = PURGE + "[[delete]]\npaths = ['/etc/hoe']\n", MemoryPackages.remove

    def cut_off(self: MemoryPackages, names: Sequence[str], purge: bool, output: Path) -> None:
        remove(self, ["hoe"], purge, output)
        raise Killed

    with monkeypatch.context() as patch:
        patch.setattr(MemoryPackages, "remove", cut_off)
        with pytest.raises(Killed):
            bench.run(body)
    job = bench.again(bench.job(body), next((bench.folder / "cases").iterdir()))
    assert job.resume().clean
    assert bench.on.files.look(bench.on.files.path("/etc/hoe")) is None


def test_what_something_else_keeps_too_is_not_let_go(folder: Path) -> None:
    """Nobody's package owns it any more, but it had to stay from the beginning, or another procedure claims it."""
    bench = shed(folder)
    here = bench.preview(PURGE + "allows = ['hoe-plugin*']\n").here
    kept, paths = here.guard.kept, [here.workstation.files.path(f"/srv/{name}") for name in ("mine", "claimed", "noted")]
    kept.places = [(path, "a package's") for path in paths] + [(paths[1], "the procedure of Rake, which is present, claims it")]
    kept.owned = {path.key for path in paths}
    noted = Beforehand(stays=stays_of(Kept(places=[(paths[2], "then")]), here.workstation.style))
    let_go(here, noted)
    assert [path.name for path, _ in kept.places] == ["claimed", "noted", "claimed"]


def test_a_file_of_a_package_that_is_gone_is_let_go(folder: Path) -> None:
    """As a folder is: one that dpkg left when it was cut off. What had to stay from the beginning stays, and what a package owns."""
    bench = shed(folder)
    here = bench.preview(PURGE + "allows = ['hoe-plugin*']\n").here
    paths = [here.workstation.files.path(text) for text in ("/etc/hoe/hoe.conf", "/srv/noted", "/usr/lib/rake/x.so")]
    here.guard.kept.single = {path.key: "a package's" for path in paths}
    let_go(here, Beforehand(stays=stays_of(Kept(single={paths[1].key: "then"}), here.workstation.style)))
    assert set(here.guard.kept.single) == {paths[1].key, paths[2].key}
