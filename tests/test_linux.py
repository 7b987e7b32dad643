"""Real input on Linux: made-up packages, real dpkg, a real running program and service."""

from __future__ import annotations

import os
import shutil
import stat
import subprocess
import time
from pathlib import Path

import psutil
import pytest

from debs import BRIDGE, LIBRARY, NEEDED, NEIGHBOUR, build, dpkg, states, used_for_a_while
from killing import KILLED, run_until
from support import IS_ROOT, Kleff, differences, linux_tree, procedure, tree, write

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
    done = kleff("undo", kleff.case(), "--yes", code=4)
    assert "the package manager removed brindlewort-bridge 4.2.0-1, libbrindle1 1.4-2" in done.out
    for path in (
        "home/mira/.brindlewort/labels/basil.lbl",
        "etc/brindlewort-bridge/own-printers.conf",
        "var/lib/brindlewort-bridge/queue/job1",
    ):
        assert tree(top)[path] == before[path]
    assert dpkg(top, "--audit") == ""


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
    assert "brindlewort-bridge depends on libbrindle1" in done.err
    assert differences(before, tree(top)) == []


def test_a_linux_procedure_killed_on_the_way(tmp_path: Path, bridge_procedure: Path) -> None:
    """Killed at a sample of its journal writes, packages included: resume ends with everything gone."""
    packages = build(tmp_path / "debs", scripts=False)

    def fresh(name: str) -> Path:
        top = linux_tree(tmp_path / name)
        dpkg(top, "-i", *packages)
        used_for_a_while(top, 1001)
        return top

    def do(top: Path, *words: object, write: int = 0) -> tuple[int, int]:
        return run_until([*map(str, words), "--cases", f"{top}-cases", "--quiet"], write, True, tmp_path / "log.txt")

    top = fresh("undisturbed")
    code, writes = do(top, "run", bridge_procedure, "--on", f"root:{top}", "--yes")
    assert code == 0, (tmp_path / "log.txt").read_text()
    wanted = set(tree(top, skip=(".kleff", "dpkg", "kleff")))
    for number in sorted({writes // 3, writes // 2, writes // 2 + 3, writes * 3 // 4, writes - 3}):
        top = fresh(f"killed{number}")
        assert do(top, "run", bridge_procedure, "--on", f"root:{top}", "--yes", write=number)[0] == KILLED
        case = next(Path(f"{top}-cases").iterdir())
        assert do(top, "resume", case)[0] == 0, (tmp_path / "log.txt").read_text()
        assert set(tree(top, skip=(".kleff", "dpkg", "kleff"))) == wanted
        assert (states(top), dpkg(top, "--audit")) == ({NEIGHBOUR: "ii"}, "")


def _running() -> list[psutil.Process]:
    """The program's processes; a killed one whose parent (init here) does not reap it is none."""
    return [
        p for p in psutil.process_iter(["name", "status"]) if p.info["name"] == "tagbridge" and p.info["status"] != psutil.STATUS_ZOMBIE
    ]


@pytest.mark.skipif(Path("/run/systemd/system").exists(), reason="with systemd as init the service is tested on a booted workstation")
@pytest.mark.skipif(shutil.which("start-stop-daemon") is None, reason="needs start-stop-daemon")
def test_this_machine(kleff: Kleff, tmp_path: Path, bridge_procedure: Path) -> None:
    """Real files, real dpkg, a real process of a person's, and a real service by its init script."""
    if any(Path(p).exists() for p in ("/opt/brindlewort", "/var/lib/brindlewort-bridge", "/usr/bin/tagbridge")):
        pytest.fail("an earlier test has left the made-up packages on this machine")
    packages = build(tmp_path / "debs", scripts=True)
    try:
        dpkg(None, "-i", *packages)
        used_for_a_while(Path("/"), None)
        subprocess.run(["/etc/init.d/brindlewort-bridge", "start"], check=True, capture_output=True)
        own = subprocess.Popen(["/usr/bin/tagbridge", "99999"])
        time.sleep(0.3)
        assert len(_running()) == 2
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
        for process in _running():
            process.kill()
        subprocess.run(["dpkg", "--purge", BRIDGE, LIBRARY, NEIGHBOUR], capture_output=True)
        for path in ("/opt/brindlewort", "/var/lib/brindlewort-bridge", "/var/log/brindlewort-bridge", "/etc/brindlewort-bridge"):
            shutil.rmtree(path, ignore_errors=True)
