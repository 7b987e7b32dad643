"""Which packages a step means: by section, source and path; what one without content stands for; what is removed and not purged."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

import msgspec
import pytest

from debs import NEEDED, build_one, dpkg, states
from killing import KILLED, run_until
from kleff.errors import Refused
from kleff.workstation.open import open_workstation
from memory import Bench, each_kill
from support import IS_ROOT, Kleff, linux_tree, procedure, write

missing = [n for n in (*NEEDED, "apt-get") if shutil.which(n) is None]


def names(bench: Bench) -> set[str]:
    return {p.name for p in bench.on.packages.all()}


def shed(folder: Path) -> Bench:
    """A package without content that stands for a server, which stands for nothing, and for a tool that a neighbour needs too."""
    bench = Bench(folder, "linux")
    packages = bench.on.packages
    packages.add("hoe-suite", "1.0", [])
    for name in ("hoe-server", "hoe-client", "shared-tool", "rake", "hoe-extra"):
        packages.add(name, "1.0", [f"/usr/lib/{name}/x.so"])
    packages.add("hoe-all", "1.0", [])
    packages.needs = {
        "hoe-all": ["hoe-suite", "hoe-extra"],
        "hoe-suite": ["hoe-server", "hoe-client", "shared-tool"],
        "rake": ["shared-tool"],
    }
    packages.automatic = {"hoe-suite", "hoe-server", "hoe-client", "shared-tool"}
    packages.sources = {"hoe.list": ["hoe-server", "hoe-client"]}
    return bench


STEP = "[[purge]]\npackage = 'hoe-all'\ncame_along = 'none'\n"


def test_what_it_stands_for(folder: Path) -> None:
    """In chains; not what another needs, not what was chosen by hand."""
    bench = shed(folder)
    before = names(bench)
    (action,) = bench.plan(STEP, phase="purge")
    assert "hoe-suite stands for hoe-server, hoe-client" in action.shows
    job, ended = bench.run(STEP)
    assert ended.clean
    assert before - names(bench) == {"hoe-all", "hoe-suite", "hoe-server", "hoe-client"}
    assert job.undo().stays == []
    assert names(bench) == before


def test_killed_anywhere(folder: Path) -> None:
    for bench, job, _ in each_kill(folder, shed, STEP):
        assert job.undo().stays == []
        assert {"hoe-all", "hoe-server", "hoe-client"} <= names(bench)


def test_by_source_and_path(folder: Path) -> None:
    """A wide name is refused alone, and allowed where a source or a path says besides what is meant."""
    bench = shed(folder)
    with pytest.raises(Refused, match="at least 4 letters"):
        bench.run("[[purge]]\npackage = '*'\n")
    step = "[[purge]]\npackage = '*'\nfrom_source = 'hoe.list'\nallows = ['hoe-*']\ncame_along = 'none'\n"
    _, ended = bench.run(step)
    assert ended.clean
    assert {"hoe-server", "hoe-client"}.isdisjoint(names(bench))
    assert "hoe-extra" in names(bench)
    bench = shed(folder / "two")
    bench.run("[[purge]]\npackage = '*'\nowns = '/usr/lib/hoe-extra'\nallows = ['hoe-*']\ncame_along = 'none'\n")
    assert "hoe-extra" not in names(bench)
    assert "hoe-server" in names(bench)


def newest(kleff: Kleff) -> Path:
    return max(kleff.cases.iterdir(), key=lambda case: int(case.name.rpartition("-")[2]))


def installed(top: Path) -> set[str]:
    return {name for name, state in states(top, "").items() if state.startswith("ii")}


def test_a_source_with_its_key(folder: Path) -> None:
    """The key that another source names too stays; what is left of the source's packages is told."""
    bench = shed(folder)
    text = "deb [arch=amd64 signed-by=/usr/share/keyrings/{key}.gpg] https://hoe.example/deb stable main\n"
    bench.on.files.add("/etc/apt/sources.list.d/hoe.list", text.format(key="hoe-keys") + text.format(key="shared-keys"))
    bench.on.files.add("/etc/apt/sources.list.d/rake.sources", "Types: deb\nSigned-By: /usr/share/keyrings/shared-keys.gpg\n")
    for key in ("hoe-keys", "shared-keys"):
        bench.on.files.add(f"/usr/share/keyrings/{key}.gpg", key)
    before = bench.files
    body = "[[purge]]\npackage = 'hoe-client'\nallows = ['hoe-*']\n[[delete]]\nsource = 'hoe.list'\n"
    (action,) = bench.plan(body, phase="delete")
    assert any("packages of it stay, and are not renewed any more: hoe-server 1.0" in line for line in action.shows)
    job, ended = bench.run(body)
    assert ended.clean
    assert bench.names("/etc/apt/sources.list.d") == ["rake.sources"]
    assert bench.names("/usr/share/keyrings") == ["shared-keys.gpg"]
    assert job.undo().stays == []
    assert {k: v for k, v in bench.files.items() if "apt" in k or "keyrings" in k} == {
        k: v for k, v in before.items() if "apt" in k or "keyrings" in k
    }


@pytest.mark.skipif(not IS_ROOT or bool(missing), reason=f"needs root and {', '.join(missing) or 'dpkg'}")
def test_really(kleff: Kleff, tmp_path: Path) -> None:
    """Real dpkg in a tree: a package without content, one of which only the configuration is left, one by the path it owns."""
    top, folder = linux_tree(tmp_path / "tree"), tmp_path / "debs"
    made = []
    for name, more in (("hoe-suite", "Depends: hoe-server, hoe-client\n"), ("hoe-server", ""), ("hoe-client", ""), ("rake", "")):
        source = folder / name
        write(source / f"usr/share/doc/{name}/copyright", "x")
        if name != "hoe-suite":
            write(source / f"opt/{name}/program", name)
            write(source / f"etc/{name}.conf", "beds = 4\n")
            write(source / "DEBIAN/conffiles", f"/etc/{name}.conf\n")
        made.append(build_one(source, name, more=more))
    dpkg(top, "-i", *reversed(made))
    brought = "".join(f"Package: {n}\nArchitecture: all\nAuto-Installed: 1\n\n" for n in ("hoe-server", "hoe-client"))
    write(top / "var/lib/apt/extended_states", brought)
    before = states(top, "")
    body = "[[evidence]]\npackage = 'hoe-*'\n[[purge]]\npackage = 'hoe-suite'\n"
    file = procedure(tmp_path / "hoe.toml", body)
    assert "hoe-suite stands for hoe-server, hoe-client" in kleff("preview", file, "--on", f"root:{top}").out
    kleff("run", file, "--on", f"root:{top}", "--yes")
    assert installed(top) == {"rake"}
    kleff("undo", next(kleff.cases.iterdir()).name, "--yes")
    assert states(top, "") == before
    kept = top / "var/cache/apt/archives/hoe-server_1.0_all.deb"
    write(kept, build_one(folder / "hoe-server", "hoe-server", more="Homepage: https://hoe.example\n").read_bytes())
    for mode, used in ((0o666, 0), (0o644, 1)):  # what others can write is not installed
        kept.chmod(mode)
        kleff("run", file, "--on", f"root:{top}", "--yes")
        kleff("undo", newest(kleff).name, "--yes")
        assert states(top, "") == before
        assert dpkg(top, "-s", "hoe-server").count("Homepage") == used
        assert (top / "opt/hoe-server/program").read_text() == "hoe-server"
        assert dpkg(top, "--verify") == ""
    assert kept.exists()
    dpkg(top, "--remove", "hoe-suite", "hoe-client")
    found = kleff("survey", file, "--on", f"root:{top}").out
    assert "removed; its configuration stayed" in found
    wide = procedure(
        tmp_path / "wide.toml", "[[evidence]]\npath = '/opt/rake'\n[[purge]]\npackage = '*'\nowns = '/opt/rake'\nmode = 'remove'\n"
    )
    shown = kleff("preview", wide, "--on", f"root:{top}").out
    assert "the next installation goes on with it" in shown
    assert "hoe-server" not in shown
    kleff("run", procedure(tmp_path / "rest.toml", "[[purge]]\npackage = 'hoe-client'\n"), "--on", f"root:{top}", "--yes")
    assert "hoe-client" not in dpkg(top, "-l")
    assert not (top / "etc/hoe-client.conf").exists()


@pytest.mark.skipif(not IS_ROOT or bool(missing), reason=f"needs root and {', '.join(missing) or 'dpkg'}")
def test_killed_with_a_large_configuration_file_of_its_account(kleff: Kleff, tmp_path: Path) -> None:
    """The spare of a large file is a second name of it; it is no reason to stop, neither for the next try nor for lines taken out of it."""
    top, source = linux_tree(tmp_path / "tree"), tmp_path / "hoe-server"
    write(source / "etc/hoe.conf", "beds = 4\n" * 9000)
    write(source / "DEBIAN/conffiles", "/etc/hoe.conf\n")
    dpkg(top, "-i", build_one(source, "hoe-server"))
    os.chown(top / "etc/hoe.conf", 105, 105)
    body = "[[purge]]\npackage = 'hoe-server'\nmode = 'remove'\n[[delete]]\nlines = 'beds = 7'\nin_file = '/etc/hoe.conf'\n"
    (top / "etc/hoe.conf").write_text("beds = 7\n" + "beds = 4\n" * 9000)
    file = procedure(tmp_path / "p.toml", body)
    words = ["run", str(file), "--on", f"root:{top}", "--yes", "--without-evidence", "--cases", str(kleff.cases)]
    for number in range(1, 60):
        if run_until(words, number, True, tmp_path / "log")[0] != KILLED:
            break
        case = newest(kleff).name
        said = kleff("resume", case, code=None)
        if said.code == 3 and "is finished" not in said.err:  # nothing was done yet
            shutil.rmtree(kleff.cases / case)
            continue
        assert "beds = 7" not in (top / "etc/hoe.conf").read_text()
        kleff("undo", case, "--yes")
        assert (top / "etc/hoe.conf").read_text().startswith("beds = 7\n")
        assert (top / "etc/hoe.conf").stat().st_uid == 105
    assert number > 8
    kleff("undo", newest(kleff).name, "--yes")
    aside = write(top / ".kleff/an-earlier-case/0001-spare/0")  # of a case that was taken back in part
    aside.unlink()
    aside.hardlink_to(top / "etc/hoe.conf")
    (top / ".kleff").chmod(0o700)
    kleff("run", file, "--on", f"root:{top}", "--yes")
    kleff("undo", newest(kleff).name, "--yes")
    (top / "home/second").hardlink_to(top / "etc/hoe.conf")
    assert "second name" in kleff("run", file, "--on", f"root:{top}", "--yes", code=1).err


@pytest.mark.skipif(not IS_ROOT or shutil.which("update-alternatives") is None, reason="needs root and update-alternatives")
def test_alternatives_that_lead_to_it(kleff: Kleff, tmp_path: Path) -> None:
    """By the real program in a tree: the neighbour's takes over; back by undo, with what went along and as it was chosen."""
    top = linux_tree(tmp_path / "tree")
    for name in ("hoe", "rake"):
        write(top / f"opt/{name}/bin/dig", name, 0o755)
        write(top / f"opt/{name}/dig.1", name)

    def alternatives(*words: str) -> str:
        return subprocess.run(["update-alternatives", "--root", top, *words], check=True, capture_output=True, text=True).stdout

    for folder in ("var/lib/dpkg/alternatives", "etc/alternatives", "var/log", "usr/share/man/man1"):
        (top / folder).mkdir(parents=True, exist_ok=True)
    write(top / "var/lib/dpkg/status", "")
    for name, priority in (("hoe", 10), ("rake", 50)):
        slave = ("--slave", "/usr/share/man/man1/dig.1", "dig.1", f"/opt/{name}/dig.1")
        alternatives("--install", "/usr/bin/dig", "dig", f"/opt/{name}/bin/dig", str(priority), *slave)
    alternatives("--set", "dig", "/opt/hoe/bin/dig")
    before = alternatives("--query", "dig")
    file = procedure(tmp_path / "p.toml", "[[delete]]\nalternatives_to = '/opt/hoe'\n[[delete]]\npaths = ['/opt/hoe']\n")
    assert "alternative /opt/hoe/bin/dig for dig" in kleff("preview", file, "--on", f"root:{top}").out
    kleff("run", file, "--on", f"root:{top}", "--yes")
    now = alternatives("--query", "dig")
    assert "/opt/hoe" not in now
    assert "Value: /opt/rake/bin/dig" in now
    kleff("undo", newest(kleff).name, "--yes")
    assert sorted(alternatives("--query", "dig").split("\n")) == sorted(before.split("\n"))
    assert os.readlink(top / "etc/alternatives/dig") == "/opt/hoe/bin/dig"
    lists = top / "var/lib/dpkg/alternatives"
    lists.rename(tmp_path / "away")
    lists.write_text("no folder")
    assert "UNREADABLE" in kleff("preview", file, "--on", f"root:{top}", code=None).out.upper()
    lists.unlink()
    (tmp_path / "away").rename(lists)
    wide = procedure(tmp_path / "w.toml", "[[delete]]\nalternatives_to = '/opt'\n")
    kleff("run", wide, "--on", f"root:{top}", "--yes", code=None)
    assert sorted(alternatives("--query", "dig").split("\n")) == sorted(before.split("\n"))


@pytest.mark.skipif(not IS_ROOT or bool(missing), reason=f"needs root and {', '.join(missing) or 'dpkg'}")
def test_a_source_without_lists_is_not_known(kleff: Kleff, tmp_path: Path) -> None:
    """Never the same as absent: seen in survey and preview. One that is not there has nothing."""
    top = linux_tree(tmp_path / "tree")
    for name in ("var/lib/dpkg", "var/lib/apt/lists/partial", "etc/apt/apt.conf.d", "var/cache/apt/archives/partial"):
        (top / name).mkdir(parents=True, exist_ok=True)
    write(
        top / "var/lib/dpkg/status", "Package: hoe\nStatus: install ok installed\nArchitecture: all\nVersion: 1.0\nDescription: made up\n"
    )
    write(top / "etc/apt/sources.list.d/hoe.list", "deb https://hoe.example/deb stable main\n")
    body = "[[evidence]]\npackage = 'hoe'\nfrom_source = 'hoe.list'\n[[purge]]\npackage = '*'\nfrom_source = 'hoe.list'\n"
    file = procedure(tmp_path / "p.toml", body)
    assert "apt has no lists of the source hoe.list" in kleff("survey", file, "--on", f"root:{top}", code=None).out
    assert "apt has no lists of the source hoe.list" in kleff("preview", file, "--on", f"root:{top}", code=None).out
    other = procedure(tmp_path / "o.toml", body.replace("hoe.list", "none.list"))
    assert "apt has no lists" not in kleff("preview", other, "--on", f"root:{top}", code=None).out


@pytest.mark.skipif(not IS_ROOT or bool(missing), reason=f"needs root and {', '.join(missing) or 'dpkg'}")
def test_what_is_set_about_a_package_is_given_again_or_told(tmp_path: Path) -> None:
    """An owner that is set by hand: read, lost, given again; one whose account is gone is told, never passed over."""
    top, source = linux_tree(tmp_path / "tree"), tmp_path / "hoe-server"
    write(source / "opt/hoe/program", "x")
    dpkg(top, "-i", build_one(source, "hoe-server"))
    overrides = top / "var/lib/dpkg/statoverride"
    overrides.write_text("root root 750 /opt/hoe/program\n")
    packages = open_workstation(f"root:{top}").packages
    assert packages is not None
    record = packages.record("hoe-server")
    assert record.overrides == [("root", "root", "750", "/opt/hoe/program")]
    overrides.write_text("")
    assert packages.settle([record]) == []
    assert overrides.read_text() == "root root 750 /opt/hoe/program\n"
    assert (top / "opt/hoe/program").stat().st_mode & 0o777 == 0o750
    overrides.write_text("")
    lost = msgspec.structs.replace(record, overrides=[("nobody-there", "root", "750", "/opt/hoe/program")])
    assert packages.settle([lost]) == ["/opt/hoe/program is not set to nobody-there:root 750 as before"]


DIVERTS = """#!/bin/sh
set -e
[ "$1" = install ] || exit 0
dpkg-divert --package hoe-works --divert /opt/rake-works/rake.first --rename --add /opt/rake-works/rake
[ -e /opt/hoe-works/registers ] || dpkg-divert --package hoe-works --divert /opt/rake-works/off --rename --add /opt/rake-works/handle
"""
REGISTERS = """#!/bin/sh
set -e
[ ! -e /opt/hoe-works/registers ] || exit 0
ucf /opt/hoe-works/hoe.conf /etc/hoe-works.conf </dev/null
ucfr hoe-works /etc/hoe-works.conf
"""
FORGETS = """#!/bin/sh
set -e
[ "$1" = upgrade ] || for file in rake handle; do dpkg-divert --package hoe-works --rename --remove /opt/rake-works/$file; done
[ "$1" != purge ] || { ucf --purge /etc/hoe-works.conf; ucfr --purge hoe-works /etc/hoe-works.conf; rm -f /etc/hoe-works.conf*; }
"""


def _of_hoe_works() -> dict[str, object]:
    """What the system keeps beside the package's own files."""
    kept = Path("/var/lib/ucf")
    diverted = subprocess.run(["dpkg-divert", "--list", "*-works*"], capture_output=True, text=True, check=True).stdout
    noted = {n: sorted(line for line in (kept / n).read_text().split("\n") if "hoe-works" in line) for n in ("registry", "hashfile")}
    files = {str(p): p.read_text() for top in ("/opt/rake-works", "/opt/hoe-works") for p in sorted(Path(top).glob("*"))}
    return {"diverted": diverted, **noted, **files, "etc": {p.name: p.read_text() for p in Path("/etc").glob("hoe-works*")}}


@pytest.mark.skipif(not IS_ROOT or shutil.which("ucf") is None, reason="needs root and ucf: the scripts run on this machine")
@pytest.mark.usefixtures("this_machine")
def test_diversions_and_files_that_scripts_register(kleff: Kleff, tmp_path: Path) -> None:
    """Saved and told; back by undo, by the package's own scripts or without them."""

    def taken_off() -> None:
        for name in ("hoe-works", "rake-works"):
            subprocess.run(["dpkg", "--purge", name], capture_output=True, check=False)
        for path in ("/opt/hoe-works", "/opt/rake-works"):
            shutil.rmtree(path, ignore_errors=True)

    rake, hoe = tmp_path / "rake-works", tmp_path / "hoe-works"
    write(rake / "opt/rake-works/rake", "twelve teeth\n")
    write(rake / "opt/rake-works/handle", "ash\n")
    write(hoe / "opt/rake-works/rake", "a hoe instead\n")
    write(hoe / "opt/hoe-works/hoe.conf", "beds = 4\n")
    for script, text in (("preinst", DIVERTS), ("postinst", REGISTERS), ("postrm", FORGETS)):
        write(hoe / "DEBIAN" / script, text, 0o755)
    taken_off()
    try:
        dpkg(None, "-i", build_one(rake, "rake-works"))
        bare = _of_hoe_works()
        dpkg(None, "-i", build_one(hoe, "hoe-works"))
        Path("/etc/hoe-works.conf").write_text("beds = 7\n")
        used = _of_hoe_works()
        assert used["/opt/rake-works/rake.first"] == "twelve teeth\n"
        file = procedure(tmp_path / "p.toml", "[[evidence]]\npackage = 'hoe-works'\n[[purge]]\npackage = 'hoe-works'\n")
        shown = kleff("preview", file, "--on", "this").out
        assert "saved with it: 2 diversions, 1 file that its scripts have registered" in shown
        (owner,) = open_workstation("this").packages.owners([open_workstation("this").files.path("/opt/rake-works/off")]).values()
        assert owner == ["rake-works"]
        for own_scripts in (True, False):
            kleff("run", file, "--on", "this", "--yes")
            assert _of_hoe_works() == bare
            if not own_scripts:  # it registers nothing again
                write(Path("/opt/hoe-works/registers"), "not again\n")
            kleff("undo", newest(kleff).name, "--yes")
            shutil.rmtree("/opt/hoe-works/registers", ignore_errors=True)
            Path("/opt/hoe-works/registers").unlink(missing_ok=True)
            assert _of_hoe_works() == used
            assert dpkg(None, "--audit") == ""
    finally:
        taken_off()
