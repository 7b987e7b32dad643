"""Evidence that something says or does: a program's output, a port, a variable of a script; and pieces that count only together."""

from __future__ import annotations

import os
import socket
import time
from pathlib import Path

import psutil
import pytest

from kleff.engine.context import look_only
from kleff.engine.survey import Survey, survey
from kleff.errors import ProcedureError
from memory import Bench
from support import IS_ROOT, Kleff, procedure, write


def seen(bench: Bench, body: str, versions: str = "") -> Survey:
    job = bench.job(body, versions=versions)
    return survey(look_only(job.workstation, job.procedure))


def test_what_a_program_says(folder: Path) -> None:
    body = "[[evidence]]\ncommand = ['/opt/hoe/bin/hoe', '--version']\nsays = 'Hoe *'\n"
    bench = Bench(folder, "linux")
    assert not seen(bench, body).present
    bench.on.commands.add("/opt/hoe/bin/hoe", lambda argv: (0, "starting\nHoe 4.2.1-rc1 (beds)\n"))
    found = seen(bench, body, ">=4,<5")
    assert (found.present, found.versions) == (True, ["4.2.1-rc1"])
    assert not seen(bench, body, ">=5").present
    assert not seen(bench, body.replace("Hoe *", "Rake *")).present
    bench.on.commands.add("/opt/hoe/bin/hoe", lambda argv: (3, ""))
    assert [s.unreadable for s in seen(bench, body).unreadable] == [True]


def test_pieces_that_belong_together(folder: Path) -> None:
    """The package alone is another product's; the variable tells the version of all; each is told by itself after the removal."""
    body = (
        "[[evidence]]\npackage = 'rake-common'\ntogether = 'hoe'\n"
        "[[evidence]]\nvariable = 'HOE_VERSION'\nset_by = '/etc/profile.d/hoe.sh'\ntogether = 'hoe'\n"
        "[[delete]]\npaths = ['/etc/profile.d/hoe.sh']\n"
    )
    bench = Bench(folder, "linux")
    bench.on.packages.add("rake-common", "9.0", ["/usr/share/rake/x"])
    assert not seen(bench, body).present
    bench.on.files.add("/etc/profile.d/hoe.sh", "HOE_VERSION=4.2\n", uid=0)
    found = seen(bench, body)
    assert (found.present, sorted(found.versions)) == (True, ["4.2", "9.0"])
    assert not seen(bench, body, ">=4,<5").present  # one of them is of another version
    _, ended = bench.run(body)
    assert not ended.clean
    told = [f.target for f in ended.verification.findings] if ended.verification else []
    assert told == ["rake-common"]
    with pytest.raises(ProcedureError, match="together is for pieces"):
        bench.job("[[delete]]\npaths = ['/opt/hoe']\ntogether = 'x'\n")


def test_a_variable_that_others_could_set(folder: Path) -> None:
    """A script that another account can write is not sourced; one that is not there sets nothing."""
    body = "[[evidence]]\nvariable = 'HOE_HOME'\nset_by = '/home/mira/hoe.sh'\n"
    bench = Bench(folder, "linux")
    assert not seen(bench, body).unreadable
    bench.on.files.add("/home/mira/hoe.sh", "HOE_HOME=/opt/hoe\n", uid=1001)
    assert not seen(bench, body).present
    assert seen(bench, body).unreadable


@pytest.mark.skipif(not IS_ROOT, reason="needs root: the script is sourced as another account")
@pytest.mark.xdist_group("this")
def test_really_sourced(kleff: Kleff, tmp_path: Path) -> None:
    """On this machine: with no rights, no network and no time to lose; what it says and what it tries comes to nothing."""
    folder = Path("/opt/kleff-test-hoe")
    witness = folder / "witness"
    script = f"""echo noise
id -u > {witness}
touch {folder}/made
HOE_AS=$(id -u)/$(tail -n +3 /proc/net/dev | cut -d: -f1 | tr -d ' \\n')
HOE_HOME='/opt/kleff-test-hoe/ä; $(touch {witness})'
HOE_SECRET="${{KLEFF_TEST_SECRET-none}}"
"""
    try:
        write(folder / "set.sh", script)
        folder.chmod(0o755)
        for variable, said in (("HOE_HOME", "/opt/kleff-test-hoe/ä; $(touch"), ("HOE_AS", "HOE_AS=65534/lo"), ("HOE_SECRET", "=none")):
            body = f"[[evidence]]\nvariable = '{variable}'\nset_by = '{folder}/set.sh'\n"
            told = kleff("survey", procedure(tmp_path / "p.toml", body), "--on", "this", env={"KLEFF_TEST_SECRET": "plum"}).out
            assert said in told, told
            assert "sourced as an account that owns nothing" in told
        assert sorted(f.name for f in folder.iterdir()) == ["set.sh"]
        write(folder / "set.sh", "HOE_HOME=x\nsetsid sleep 4399 &\nsleep 60\n")
        begun = time.monotonic()
        told = kleff("survey", procedure(tmp_path / "p.toml", body.replace("HOE_SECRET", "HOE_HOME")), "--on", "this", code=None).out
        assert "has not ended after 5 s" in told
        assert time.monotonic() - begun < 20
        assert not [p for p in psutil.process_iter(["cmdline"]) if p.info["cmdline"] == ["sleep", "4399"]]
        os.chmod(folder / "set.sh", 0o666)
        told = kleff("survey", procedure(tmp_path / "p.toml", body), "--on", "this", code=None).out
        assert "others than an administrator can change" in told
    finally:
        for file in folder.glob("*"):
            file.unlink()
        folder.rmdir()


def test_a_port(kleff: Kleff, tmp_path: Path) -> None:
    with socket.socket() as listener:
        listener.bind(("127.0.0.1", 0))
        listener.listen()
        port = listener.getsockname()[1]
        file = procedure(tmp_path / "p.toml", f"[[evidence]]\nport = {port}\n")
        assert f"port {port}" in kleff("survey", file, "--on", "this").out
    assert f"port {port}" not in kleff("survey", file, "--on", "this", code=None).out.split("Who has")[0]
