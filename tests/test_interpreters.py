"""A script that an interpreter runs is a program of the product where it lies in its places; by a later argument it is not."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from kleff.procedure.globs import POSIX, WINDOWS
from kleff.workstation.programs.interpreters import script_of
from kleff.workstation.things import Process
from support import IS_ROOT, Kleff, procedure, until, write


@pytest.mark.parametrize(
    ("command", "script"),
    [
        (["/bin/sh", "/opt/hoe/hoed", "-x"], "/opt/hoe/hoed"),
        (["/usr/bin/bash", "-eu", "-o", "pipefail", "/opt/hoe/../hoe/hoed"], "/opt/hoe/hoed"),
        (["/usr/bin/python3.11", "-s", "-W", "ignore", "/opt/hoe/hoed.py", "/opt/rake"], "/opt/hoe/hoed.py"),
        (["/usr/bin/node", "--require", "/opt/rake/x.js", "/opt/hoe/hoed.js"], "/opt/hoe/hoed.js"),
        (["/usr/bin/java", "-Xmx1g", "-cp", "/opt/rake/x.jar", "-jar", "/opt/hoe/hoed.jar", "-jar", "/opt/rake.jar"], "/opt/hoe/hoed.jar"),
        (["/usr/bin/perl", "-w", "--", "/opt/hoe/hoed.pl"], "/opt/hoe/hoed.pl"),
        ([r"C:\Windows\System32\cscript.exe", "//nologo", r"C:\Hoe\beds.vbs"], r"C:\Hoe\beds.vbs"),
        (["powershell.exe", "-NoProfile", "-File", r"C:\Hoe\.\beds.ps1"], r"C:\Hoe\beds.ps1"),
        (["/usr/bin/java", "-cp", "/opt/rake", "rake.Main", "-jar", "/opt/hoe/hoed.jar"], ""),
        (["/usr/bin/python3", "-m", "http.server", "/opt/hoe/hoed.py"], ""),
        (["/bin/sh", "-c", "/opt/hoe/hoed"], ""),
        (["/usr/bin/vim", "/opt/hoe/hoed"], ""),
        (["/bin/sh", "hoed"], ""),
        (["/usr/bin/python3", "/opt/rake/rake.py", "/opt/hoe/hoed.py"], "/opt/rake/rake.py"),
        (["/usr/bin/python3"], ""),
    ],
)
def test_what_is_run(command: list[str], script: str) -> None:
    style = WINDOWS if "\\" in "".join(command) else POSIX
    assert script_of(Process(7, 0.0, command[0], command[0], tuple(command), 1), style) == script


@pytest.mark.skipif(not IS_ROOT, reason="needs root: below /opt")
@pytest.mark.usefixtures("this_machine")
@pytest.mark.parametrize(
    "text",
    [
        f"#!{sys.executable}\nimport time\nprint('up', flush=True)\ntime.sleep(600)\n",
        "#!/bin/sh\necho up\nwhile :; do sleep 1; done\n",
    ],
)
def test_a_daemon_that_runs_on(kleff: Kleff, tmp_path: Path, text: str) -> None:
    """Once called gone: its interpreter is the system's, its script is set aside, and it runs on."""
    top = Path("/opt/brindlewort-hoe-daemon")
    script = write(top / "hoed", text, 0o755)
    neighbour = write(tmp_path / "rake", script.read_text(), 0o755)
    running = [subprocess.Popen([one, *more], stdout=subprocess.PIPE, text=True) for one, *more in ((script,), (neighbour, script))]
    try:
        assert [child.stdout.readline() for child in running if child.stdout] == ["up\n", "up\n"]
        file = procedure(tmp_path / "p.toml", f"[[delete]]\npaths = ['{top}']\n")
        said = kleff("run", file, "--on", "this", "--yes", code=4).out
        assert f"number {running[0].pid}" in said
        assert f"number {running[1].pid}" not in said
        kleff("undo", kleff.case(), "--yes")
        stops = procedure(tmp_path / "s.toml", f"[[stop]]\nprocess = '{top}/*'\nwithin = '1s'\n[[delete]]\npaths = ['{top}']\n")
        kleff("run", stops, "--on", "this", "--yes")
        assert until(lambda: running[0].poll() is not None)
        assert running[1].poll() is None
    finally:
        for child in running:
            child.kill()
            child.wait()
        subprocess.run(["rm", "-rf", top], check=True)
