"""Real input on Linux: made-up packages, real dpkg, a real running program and service."""

from __future__ import annotations

import os
import shutil
import stat
import subprocess
from pathlib import Path
from typing import Any

import psutil
import pytest

from debs import BRIDGE, LIBRARY, NEEDED, NEIGHBOUR, build, dpkg, states, used_for_a_while
from killing import EVERY, KILLED, points, run_until
from kleff.workstation.linux.processes import LinuxProcesses
from support import IS_ROOT, Kleff, differences, linux_tree, procedure, tree, until, write

SAMPLE = Path(__file__).parent.parent / "src/kleff/samples/print-bridge.toml"
BUSYBOX = Path("/bin/busybox")
missing = [n for n in NEEDED if shutil.which(n) is None]
pytestmark = [
    pytest.mark.skipif(not IS_ROOT, reason="needs root: real dpkg --root, owners"),
    pytest.mark.skipif(bool(missing), reason=f"needs {', '.join(missing) or 'dpkg'}"),
]


@pytest.fixture
def bridge_procedure(tmp_path: Path) -> Path:
    return Path(shutil.copy(SAMPLE, tmp_path / "print-bridge.toml"))


def installed_tree(tmp_path: Path, scripts: bool) -> Path:
    top = linux_tree(tmp_path / "tree")
    if scripts:
        if not BUSYBOX.exists():
            pytest.skip("needs busybox-static: maintainer scripts run inside the tree")
        shutil.copy(BUSYBOX, top / "usr/bin/busybox")
        for name in ("sh", "mkdir", "echo", "true"):
            (top / "usr/bin" / name).symlink_to("busybox")
    dpkg(top, "-i", *build(tmp_path / "debs", scripts))
    used_for_a_while(top, 1001)
    return top


@pytest.mark.parametrize("scripts", [False, True], ids=["plain", "with maintainer scripts"])
def test_a_tree_that_is_not_running(kleff: Kleff, tmp_path: Path, bridge_procedure: Path, scripts: bool) -> None:
    top = installed_tree(tmp_path, scripts)
    assert states(top) == {BRIDGE: "ii", LIBRARY: "ii", NEIGHBOUR: "ii"}
    before = tree(top)
    found = kleff("survey", bridge_procedure, "--on", f"root:{top}", "--json").json()
    assert (found["present"], found["versions"], found["accounts"]) == (True, ["4.2.0-1"], ["mira"])
    kleff("run", bridge_procedure, "--on", f"root:{top}", "--yes")
    assert states(top) == {NEIGHBOUR: "ii"}
    assert dpkg(top, "--audit") == ""
    after = tree(top)
    left = [p for p in after if "brindle" in p and "stocktake" not in p and "var/lib/dpkg" not in p]
    assert left == ["opt/brindlewort"]
    folders = {p for p, v in before.items() if stat.S_ISDIR(int(str(v[0])))}  # dpkg takes along what is empty then
    lost = [p for p in before if p not in after and "brindle" not in p and "tagbridge" not in p and p not in folders]
    assert lost == []
    dirty = ("var/lib/dpkg", "var/log", "var/lib/kleff")
    same = {p: v[:3] + v[4:] if v[4] is None else v for p, v in before.items() if p in after and not p.startswith(dirty)}
    assert differences(same, {p: after[p][:3] + after[p][4:] if after[p][4] is None else after[p] for p in same}) == []
    assert not (top / "usr/sbin/policy-rc.d").exists()
    saved = subprocess.run(["tar", "--zstd", "-tf", next(kleff.case().glob("undo/*configuration.tar.zst"))], capture_output=True, text=True)
    if saved.returncode == 0:
        assert "root/etc/brindlewort-bridge/bridge.conf" in saved.stdout


def known(top: Path | None) -> tuple[str, str, dict[str, bytes]]:
    """What dpkg says of the made-up packages: fields, what differs from what was installed, its own files of them."""
    options = [f"--root={top}"] if top else []
    fields = "${Package} ${Version} ${db:Status-Want} ${db:Status-Status} ${Depends} ${Description} ${Conffiles}\n"
    asked = subprocess.run(["dpkg-query", *options, "-W", "-f", fields, "*brindle*"], capture_output=True, text=True).stdout
    info = (top or Path("/")) / "var/lib/dpkg/info"
    checked = subprocess.run(["dpkg", *options, "--verify"], capture_output=True, text=True).stdout
    lines = [line for line in checked.splitlines() if "brindle" in line or "tagbridge" in line]
    return asked, "\n".join(lines), {p.name: p.read_bytes() for p in sorted(info.glob("*brindle*"))}


def outside_dpkg(found: list[str]) -> list[str]:
    return [d for d in found if not d.split(": ")[1].startswith(("var/lib/dpkg", "var/lib/kleff", "var/log"))]


@pytest.mark.parametrize("scripts", [False, True], ids=["plain", "with maintainer scripts"])
def test_purged_packages_are_put_back(kleff: Kleff, tmp_path: Path, bridge_procedure: Path, scripts: bool) -> None:
    """Same version, marks, configuration state, scripts, files, times: what dpkg and the tree say is as before."""
    top = installed_tree(tmp_path, scripts)
    (top / "opt/brindlewort/bridge/driver03.so").unlink()  # an administrator deleted one, and changed another
    write(top / "opt/brindlewort/bridge/driver04.so", "patched")
    (top / "opt/brindlewort/bridge/second.so").hardlink_to(top / "opt/brindlewort/bridge/driver05.so")
    write(top / "opt/brindlewort/bridge/large.bin", os.urandom(200_000))
    os.setxattr(top / "opt/brindlewort/bridge/driver06.so", "user.bed", b"7")
    write(top / "var/lib/brindlewort-bridge/spool.db", "the person's own jobs")  # which the package's script makes anew
    before, said = tree(top), known(top)
    assert "c /etc/brindlewort-bridge" not in said[1]
    shown = kleff("preview", bridge_procedure, "--on", f"root:{top}").out
    assert "installed again from the spare, without network" in shown
    assert "everything can be taken back until it is discarded" in shown
    kleff("run", bridge_procedure, "--on", f"root:{top}", "--yes")
    assert states(top) == {NEIGHBOUR: "ii"}
    done = kleff("undo", kleff.case(), "--yes")
    assert "installed again from the spare: brindlewort-bridge 4.2.0-1, libbrindle1 1.4-2" in done.out
    assert known(top) == said
    assert dpkg(top, "--audit") == ""
    assert outside_dpkg(differences(before, tree(top))) == []
    assert not (top / ".kleff").exists()


def test_configuration_keeps_its_state(kleff: Kleff, tmp_path: Path) -> None:
    """A changed file still counts as changed, a deleted one stays deleted; only removed, and only configuration left, come back so."""
    top = installed_tree(tmp_path, scripts=False)
    write(top / "etc/brindlewort-bridge/bridge.conf", "listen = 0.0.0.0\n")
    (top / "etc/init.d/brindlewort-bridge").unlink()
    for mode, wanted in (("remove", "rc"), ("purge", "")):
        before, said = tree(top), known(top)
        assert "c /etc/brindlewort-bridge/bridge.conf" in said[1]
        file = procedure(tmp_path / "p.toml", f'[[purge]]\npackage = "{BRIDGE}"\nmode = "{mode}"')
        kleff("run", file, "--on", f"root:{top}", "--yes", code={"remove": 0, "purge": 4}[mode])
        assert states(top).get(BRIDGE, "") == wanted
        kleff("undo", kleff.case(), "--yes")
        assert outside_dpkg(differences(before, tree(top))) == []
        assert known(top)[1] == said[1]
    dpkg(top, "--remove", BRIDGE)
    before = tree(top)
    assert states(top)[BRIDGE] == "rc"
    kleff("run", procedure(tmp_path / "p.toml", f'[[purge]]\npackage = "{BRIDGE}"'), "--on", f"root:{top}", "--yes", code=4)
    assert BRIDGE not in states(top)
    kleff("undo", kleff.case(), "--yes")
    assert states(top)[BRIDGE] == "rc"
    assert outside_dpkg(differences(before, tree(top))) == []


def test_without_a_spare_a_purge_is_final(kleff: Kleff, tmp_path: Path, bridge_procedure: Path) -> None:
    top = installed_tree(tmp_path, scripts=False)
    before = tree(top)
    assert "line of no return" in kleff("preview", bridge_procedure, "--on", f"root:{top}", "--spare", "off").out
    kleff("run", bridge_procedure, "--on", f"root:{top}", "--yes", "--spare", "off")
    done = kleff("undo", kleff.case(), "--yes", code=4)
    assert "the package manager removed brindlewort-bridge 4.2.0-1, libbrindle1 1.4-2" in done.out
    for path in ("home/mira/.brindlewort/labels/basil.lbl", "etc/brindlewort-bridge/own-printers.conf"):
        assert tree(top)[path] == before[path]


def test_what_appeared_at_a_packages_paths_is_not_lost(kleff: Kleff, tmp_path: Path) -> None:
    """dpkg would replace it: named and left, also where the package's own file had been deleted before; then all comes back."""
    top = installed_tree(tmp_path, scripts=False)
    (top / "opt/brindlewort/bridge/driver03.so").unlink()
    before, said = tree(top), known(top)
    kleff("run", procedure(tmp_path / "p.toml", f'[[purge]]\npackage = "{BRIDGE}"'), "--on", f"root:{top}", "--yes", code=4)
    for name in ("opt/brindlewort/bridge/driver07.so", "opt/brindlewort/bridge/driver03.so", "usr/bin/tagbridge"):
        newer = write(top / name, "somebody's own")
        done = kleff("undo", kleff.case(), "--yes", code=1)
        assert f"/{name} has appeared or changed since; the packages are not installed over it" in done.out
        assert newer.read_text() == "somebody's own"
        assert BRIDGE not in states(top)
        newer.unlink()
    kleff("undo", kleff.case(), "--yes")
    assert outside_dpkg(differences(before, tree(top))) == []
    assert known(top) == said


def test_what_went_otherwise_is_not_brought_back(kleff: Kleff, tmp_path: Path) -> None:
    """The spare holds what a removal script names; what somebody deletes there after the purge stays deleted."""
    top = linux_tree(tmp_path / "tree")
    if not BUSYBOX.exists():
        pytest.skip("needs busybox-static: maintainer scripts run inside the tree")
    shutil.copy(BUSYBOX, top / "usr/bin/busybox")
    for name in ("sh", "rm"):
        (top / "usr/bin" / name).symlink_to("busybox")
    build(tmp_path / "debs", scripts=False)
    script = "#!/bin/sh\nset -e\nrm -rf /etc/alder-shelf/bridge.d/own\n"
    write(tmp_path / "debs" / BRIDGE / "DEBIAN/postrm", script.replace("/own", "/own # in /etc/alder-shelf/bridge.d"), mode=0o755)
    for name in (LIBRARY, BRIDGE):
        deb = tmp_path / f"{name}.deb"
        subprocess.run(["dpkg-deb", "--root-owner-group", "-b", tmp_path / "debs" / name, deb], check=True, capture_output=True)
        dpkg(top, "-i", deb)
    own, others = (write(top / f"etc/alder-shelf/bridge.d/{name}", name) for name in ("own", "others"))
    kleff("run", procedure(tmp_path / "p.toml", f'[[purge]]\npackage = "{BRIDGE}"'), "--on", f"root:{top}", "--yes")
    assert (own.exists(), others.exists()) == (False, True)
    others.unlink()
    kleff("undo", kleff.case(), "--yes")
    assert (own.read_text(), others.exists()) == ("own", False)


def test_a_package_that_cannot_be_put_back_at_once(kleff: Kleff, tmp_path: Path) -> None:
    """What it depends on has gone since: named before the first is unpacked; once that is back, undo ends as if nothing had been."""
    top = installed_tree(tmp_path, scripts=False)
    write(top / "etc/brindlewort-bridge/bridge.conf", "listen = 0.0.0.0\n")
    before, said = tree(top), known(top)
    kleff("run", procedure(tmp_path / "p.toml", f'[[purge]]\npackage = "{BRIDGE}"'), "--on", f"root:{top}", "--yes", code=4)
    dpkg(top, "--purge", LIBRARY)
    done = kleff("undo", kleff.case(), "--yes", code=1)
    assert f"{BRIDGE} needs {LIBRARY}, which is not installed any more; nothing was begun" in done.out
    assert dpkg(top, "--audit") == ""
    assert BRIDGE not in states(top)
    dpkg(top, "-i", tmp_path / "debs" / f"{LIBRARY}.deb")
    newer = write(top / "etc/brindlewort-bridge/since.conf", "made in between")
    kleff("undo", kleff.case(), "--yes")
    assert newer.read_text() == "made in between"
    newer.unlink()
    left = [d for d in outside_dpkg(differences(before, tree(top))) if "brindlewort-bridge: (" not in d and "usr/lib" not in d]
    assert left == []
    assert known(top)[1] == said[1]


def test_another_version_installed_since_is_left(kleff: Kleff, tmp_path: Path) -> None:
    top = installed_tree(tmp_path, scripts=False)
    kleff("run", procedure(tmp_path / "p.toml", f'[[purge]]\npackage = "{BRIDGE}"'), "--on", f"root:{top}", "--yes", code=4)
    control = tmp_path / "debs" / BRIDGE / "DEBIAN/control"
    control.write_text(control.read_text().replace("4.2.0-1", "4.3.0-1"))
    subprocess.run(
        ["dpkg-deb", "--root-owner-group", "-b", tmp_path / "debs" / BRIDGE, tmp_path / "new.deb"], check=True, capture_output=True
    )
    dpkg(top, "-i", tmp_path / "new.deb")
    done = kleff("undo", kleff.case(), "--yes", code=1)
    assert "brindlewort-bridge 4.3.0-1 is installed now, not 4.2.0-1; it is left" in done.out


def test_removing_without_packages_is_undone_byte_by_byte(kleff: Kleff, tmp_path: Path) -> None:
    top = installed_tree(tmp_path, scripts=False)
    labels = top / "home/mira/.brindlewort/labels"
    (labels / "link").symlink_to("/etc/passwd")
    (labels / "hard").hardlink_to(labels / "basil.lbl")
    os.setxattr(labels / "basil.lbl", "user.bed", b"7")
    (labels / "empty").mkdir(mode=0o750)
    (labels / "run").write_bytes(b"#!")
    (labels / "run").chmod(0o4755)
    steps = "[[delete]]\npaths = ['{user.home}/.brindlewort', '/var/lib/brindlewort-bridge', '/etc/brindlewort-bridge/*.conf']\n"
    before = tree(top)
    kleff("run", procedure(tmp_path / "p.toml", steps), "--on", f"root:{top}", "--yes")
    assert (top / "etc/brindlewort-bridge/bridge.conf").exists(), "an installed package owns it"
    assert not (top / "etc/brindlewort-bridge/own-printers.conf").exists()
    modes = {stat.S_IMODE(p.stat().st_mode) for p in (top / ".kleff").rglob("run")}
    assert modes == {0o755}, "a set-aside program does not run as its owner any more"
    kleff("undo", kleff.case(), "--yes")
    found = [d for d in differences(before, tree(top)) if "var/lib/kleff" not in d]
    assert found == []


def test_what_appeared_since_is_never_overwritten(kleff: Kleff, tmp_path: Path) -> None:
    top = linux_tree(tmp_path / "tree")
    write(top / "opt/brindlewort/x", "old")
    kleff("run", procedure(tmp_path / "p.toml", "[[delete]]\npaths = ['/opt/brindlewort']"), "--on", f"root:{top}", "--yes")
    write(top / "opt/brindlewort/y", "new")
    done = kleff("undo", kleff.case(), "--yes", code=4)
    assert "something else stands there now; both are left" in done.out
    assert (top / "opt/brindlewort/y").read_text() == "new"
    shutil.rmtree(top / "opt/brindlewort")
    kleff("undo", kleff.case(), "--yes")  # now that the place is free
    assert (top / "opt/brindlewort/x").read_text() == "old"


def test_packages_others_need_are_refused(kleff: Kleff, tmp_path: Path) -> None:
    top = installed_tree(tmp_path, scripts=False)
    before = tree(top)
    done = kleff("run", procedure(tmp_path / "p.toml", f'[[purge]]\npackage = "{LIBRARY}"'), "--on", f"root:{top}", "--yes", code=3)
    assert "brindlewort-bridge needs it and would go too" in done.err
    assert differences(before, tree(top)) == []


def test_a_linux_procedure_killed_on_the_way(tmp_path: Path, bridge_procedure: Path) -> None:
    """Killed at journal writes, packages included: resume ends with everything gone, undo with everything there."""
    packages = build(tmp_path / "debs", scripts=False)
    original = linux_tree(tmp_path / "original")
    dpkg(original, "-i", *packages)
    used_for_a_while(original, 1001)
    top, cases, log = tmp_path / "tree", tmp_path / "cases", tmp_path / "log.txt"

    def fresh() -> None:
        for folder in (top, cases):
            shutil.rmtree(folder, ignore_errors=True)
        subprocess.run(["cp", "-a", original, top], check=True)

    def do(*words: object, write: int = 0, after: bool = True) -> tuple[int, int]:
        return run_until([*map(str, words), "--cases", str(cases), "--quiet"], write, after, log)

    def gone() -> tuple[set[str], dict[str, str]]:
        return set(tree(top, skip=(".kleff", "dpkg", "kleff"))), states(top)

    def back() -> list[str]:
        return outside_dpkg(differences(before, tree(top)))

    fresh()
    before, said = tree(top), known(top)
    code, writes = do("run", bridge_procedure, "--on", f"root:{top}", "--yes")
    assert code == 0, log.read_text()
    wanted = gone()
    undo_writes = do("undo", next(cases.iterdir()), "--yes")[1]
    assert (back(), known(top)) == ([], said)
    for number, (at, after) in enumerate(points(writes, 7, 4)):
        fresh()
        assert do("run", bridge_procedure, "--on", f"root:{top}", "--yes", write=at, after=after)[0] == KILLED
        case = next(iter(cases.iterdir()), None) if cases.exists() else None
        for verb in ("resume", "undo") if EVERY or number % 3 == 2 else ("undo",) if number % 3 else ("resume",):
            code = do(verb, case, *(["--yes"] if verb == "undo" else []))[0] if case else 3
            if verb == "resume" and code in (1, 3):  # cut off before it was begun
                assert do("run", bridge_procedure, "--on", f"root:{top}", "--yes")[0] == 0, log.read_text()
                case = max(cases.iterdir())
            if verb == "resume":
                now = gone()
                assert now == wanted, (at, after, now[0] ^ wanted[0], now[1], wanted[1])
            else:
                assert (back(), known(top)) == ([], said), (at, after)
            assert dpkg(top, "--audit") == ""
    for at, after in points(undo_writes, 8, 1):
        fresh()
        assert do("run", bridge_procedure, "--on", f"root:{top}", "--yes")[0] == 0
        case = next(cases.iterdir())
        assert do("undo", case, "--yes", write=at, after=after)[0] == KILLED
        assert do("undo", case, "--yes")[0] in (0, 3), log.read_text()
        assert (back(), known(top)) == ([], said), (at, after)


def _running() -> list[psutil.Process]:
    """The program's processes, as Kleff sees them: none that is dead, nor one of a booted workstation."""
    return [psutil.Process(p.pid) for p in LinuxProcesses().all() if p.name == "tagbridge"]


def _taken_off() -> None:
    """Nothing of the made-up packages on this machine."""
    for process in _running():
        process.kill()
    subprocess.run(["dpkg", "--purge", BRIDGE, LIBRARY, NEIGHBOUR], capture_output=True)
    for path in ("/opt/brindlewort", "/var/lib/brindlewort-bridge", "/var/log/brindlewort-bridge", "/etc/brindlewort-bridge"):
        shutil.rmtree(path, ignore_errors=True)


@pytest.mark.skipif(Path("/run/systemd/system").exists(), reason="with systemd as init the service is tested on a booted workstation")
@pytest.mark.skipif(shutil.which("start-stop-daemon") is None, reason="needs start-stop-daemon")
@pytest.mark.usefixtures("this_machine")
def test_this_machine(kleff: Kleff, tmp_path: Path, bridge_procedure: Path) -> None:
    """Real files, real dpkg, a real process of a person's, and a real service by its init script."""
    _taken_off()  # an earlier test may have been killed
    packages = build(tmp_path / "debs", scripts=True)
    try:
        dpkg(None, "-i", *packages)
        used_for_a_while(Path("/"), None)
        subprocess.run(["/etc/init.d/brindlewort-bridge", "start"], check=True, capture_output=True)
        own = subprocess.Popen(["/usr/bin/tagbridge", "99999"])
        assert until(lambda: len(_running()) == 2)
        found = kleff("survey", bridge_procedure, "--on", "this", "--json").json()
        assert found["present"]
        assert len(found["running"]) == 3
        stopped = procedure(tmp_path / "stop.toml", '[[stop]]\nservice = "brindlewort-bridge"\n[[stop]]\nprocess = "tagbridge"\n')
        kleff("run", stopped, "--on", "this", "--yes")
        own.wait(5)
        assert _running() == []
        kleff("undo", kleff.case(), "--yes")
        assert len(_running()) == 1, "the service runs again, the person's own program is only named"
        kleff("run", bridge_procedure, "--on", "this", "--yes")
        assert _running() == []
        assert states(None) == {NEIGHBOUR: "ii"}
        assert dpkg(None, "--audit") == ""
        assert Path("/opt/brindlewort/stocktake/stocktake.so").exists()
        for path in ("/var/lib/brindlewort-bridge", "/etc/brindlewort-bridge", "/opt/brindlewort/bridge", "/usr/bin/tagbridge"):
            assert not Path(path).exists()
        kleff("verify", bridge_procedure, "--on", "this")
        kleff("discard", kleff.case(), "--yes")
    finally:
        _taken_off()


def test_marks_survive(kleff: Kleff, tmp_path: Path, bridge_procedure: Path) -> None:
    """Brought in for others, held: as before, also if somebody else has cleaned up the marks; a held one needs a word of its own."""
    top = installed_tree(tmp_path, scripts=False)
    of_x = "Package: x\nArchitecture: all\nAuto-Installed: 1\n\n"
    marks = write(top / "var/lib/apt/extended_states", of_x.replace("Package: x", f"Package: {LIBRARY}") + of_x)
    kleff("run", bridge_procedure, "--on", f"root:{top}", "--yes")
    marks.write_text(of_x)
    kleff("undo", kleff.case(), "--yes")
    assert sorted(line for line in marks.read_text().splitlines() if line.startswith("Package")) == [f"Package: {LIBRARY}", "Package: x"]
    subprocess.run(["dpkg", f"--root={top}", "--set-selections"], input=f"{BRIDGE} hold\n", text=True, check=True)
    said = known(top)
    file = procedure(tmp_path / "p.toml", f'[[purge]]\npackage = "{BRIDGE}"')
    done = kleff("run", file, "--on", f"root:{top}", "--yes", code=3)
    assert "put on hold by an administrator" in done.err
    file = procedure(tmp_path / "p.toml", f'[[purge]]\npackage = "{BRIDGE}"\neven_if_held = true')
    kleff("run", file, "--on", f"root:{top}", "--yes", code=4)
    kleff("undo", kleff.case(), "--yes")
    assert known(top) == said


def test_what_packages_need() -> None:
    """Versions, alternatives, what others provide, and what is built anew beside."""
    from kleff.workstation.linux.packages.rebuilding.dependencies import Present, lacking
    from kleff.workstation.things import PackageRecord

    def record(name: str, control: str) -> PackageRecord:
        return PackageRecord(name=name, version="1.0", installed=True, control=control, members={}, paths=[], config_files=[], services=[])

    def compare(a: str, b: str) -> int:
        return (a > b) - (a < b)

    present = Present({"a": "2", "b": "1"}, {"mail": {""}, "api": {"3"}})
    for control, missing in {
        "Depends: a": [], "Depends: a (>= 2), b (<< 2)": [], "Depends: a (>= 3)": ["a (>= 3)"], "Depends: c | a": [], "Depends: c": ["c"],
        "Pre-Depends: c\nDepends: mail, api (>= 2)": ["c"], "Depends: api (>= 4)": ["api (>= 4)"], "Depends: mail (>= 1)": ["mail (>= 1)"],
        "Depends: other (= 1.0)": [], "Depends: a:any,\n b": [], "Recommends: c": [], "": [],
    }.items():  # fmt: skip
        found = lacking([record("x", control), record("other", "")], present, compare)
        assert [what for _, what in found] == missing, control


@pytest.mark.usefixtures("this_machine")
def test_who_owns_what() -> None:
    """Of few paths and of many, itself and below: the same as dpkg's own search says, without asking it each time."""
    from kleff.workstation.linux.packages.ownership import FORM, Ownership
    from kleff.workstation.open import open_workstation

    files = open_workstation("this").files
    listed = subprocess.run(["dpkg-query", "-W", f"-f={FORM}"], capture_output=True, check=True).stdout.decode("utf-8", "surrogateescape")
    names = ["/usr/lib/systemd", "/usr/bin/dpkg", "/usr/share/doc/dpkg", "/etc/dpkg", "/usr/lib/dpk", "/nowhere", "/usr/bin/sh", "/etc"]
    many = [*names, *(f"/usr/share/doc/{n}" for n in ("bash", "tar", "sed", "grep", "gzip", "dash"))]
    for below in (False, True):
        for texts in (names[:1], names, many):
            paths = [path for text in texts if (path := files.path(text))]
            found = {k: sorted(set(v)) for k, v in Ownership(listed, files).of(paths, below).items()}
            other = Ownership(listed, files)
            assert found == {k: sorted(set(v)) for k, v in _as_dpkg_says(texts, below, files).items()}, (texts, below)
            exact = [str(p)[1:] for p in paths]
            assert set(other._searched(exact, below)) == set(other._looked_up(exact, below))


def _as_dpkg_says(texts: list[str], below: bool, files: Any) -> dict[str, list[str]]:
    spelled = [t for text in texts for t in ([text, text[4:]] if text.startswith(("/usr/lib", "/usr/bin")) else [text])]
    patterns = [p for t in spelled for p in ([t, f"{t}/*"] if below else [t])]
    found: dict[str, list[str]] = {}
    for line in subprocess.run(["dpkg-query", "-S", "--", *patterns], capture_output=True, text=True).stdout.splitlines():
        owners, colon, owned = line.partition(": /")
        if colon and not owners.startswith(("diversion by", "local diversion")):
            path = files.path(f"/{owned}")
            found.setdefault(str(files.resolve(path).path), []).extend(n.strip() for n in owners.split(","))
    return found
