"""What runs a program for Kleff: it outlives Kleff and the unit Kleff is in, and keeps how the program ended."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from kleff.errors import ActionFailed
from kleff.workstation.posix import running
from kleff.workstation.posix.running import record_of
from kleff.workstation.things import Given, Running
from support import until
from test_entries import FOLDER, STEP, bench, procedure

ENVIRONMENT = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin"}
# A program that starts another under the supervisor, says so, and waits to be killed.
STARTER = """
import signal, sys, time
from pathlib import Path
for ignored in (signal.SIGINT, signal.SIGHUP):  # whoever started the tests may have them ignored
    signal.signal(ignored, signal.SIG_DFL)
from kleff.workstation.posix import running
def known(process):
    print(process.pid, process.started, flush=True)
    if "hang" in sys.argv:
        time.sleep(99)
running.start(["/bin/sh", "-c", sys.argv[2]], Path(sys.argv[1]), {"PATH": "/usr/bin:/bin"}, known=known)
print("started", flush=True)
time.sleep(99)
"""


def shell(script: str, output: Path, given: Given | None = None) -> Running:
    return running.start(["/bin/sh", "-c", script], output, ENVIRONMENT, given)


def recorded(output: Path) -> dict[str, Any]:
    record: dict[str, Any] = json.loads(record_of(output).read_bytes())
    return record


def test_how_a_program_ended_is_kept(tmp_path: Path) -> None:
    for number, (script, code) in enumerate((("exit 7", 7), ("kill -9 $$", -9), ("echo said; echo wrong >&2", 0))):
        output = tmp_path / f"{number}.txt"
        process = shell(script, output)
        assert running.wait(process, 10)
        assert (process.code, recorded(output)["code"], recorded(output)["program"]) == (code, code, process.program)
    assert output.read_text() == "said\nwrong\n"
    with pytest.raises(ActionFailed, match=r"/nowhere/un cannot be started: No such file"):
        running.start(["/nowhere/un"], tmp_path / "none.txt", ENVIRONMENT)
    assert recorded(tmp_path / "none.txt")["program"] == 0


def test_a_copy_it_hands_over_to_is_followed(tmp_path: Path) -> None:
    """It is in a session of its own and its parent is gone; no longer than agreed."""
    script = f"setsid sh -c 'sleep 1; touch {tmp_path}/done' & exit 3"
    process = shell(script, tmp_path / "out.txt", Given(linger=60))
    assert running.wait(process, 10)
    assert process.code == 3
    assert running.busy(process)
    assert not (tmp_path / "done").exists()
    assert until(lambda: not running.busy(process))
    assert (tmp_path / "done").exists()
    assert recorded(tmp_path / "out.txt")["left"] == []
    process = shell("setsid sleep 30 & echo $!", tmp_path / "daemon.txt")
    assert running.wait(process, 10)
    assert until(lambda: not running.busy(process))
    daemon = int((tmp_path / "daemon.txt").read_text())
    assert recorded(tmp_path / "daemon.txt")["left"] == [daemon]
    os.kill(daemon, signal.SIGKILL)


@pytest.mark.parametrize("number", [signal.SIGKILL, signal.SIGHUP, signal.SIGINT])
def test_it_goes_on_when_kleff_is_gone(tmp_path: Path, number: signal.Signals) -> None:
    """The whole session gets the signal, as when a connection breaks; a later Kleff learns how the program ended."""
    output = tmp_path / "out.txt"
    words = [sys.executable, "-c", STARTER, str(output), f"sleep 1; echo late; touch {tmp_path}/done; exit 5"]
    starter = subprocess.Popen(words, stdout=subprocess.PIPE, text=True, start_new_session=True)
    assert starter.stdout is not None
    pid, started = starter.stdout.readline().split()
    assert starter.stdout.readline() == "started\n"
    os.killpg(starter.pid, number)
    starter.wait(10)
    later = Running(int(pid), float(started), output)
    assert not running.wait(later, 0)
    assert running.wait(later, 20)
    assert (later.code, output.read_text()) == (5, "late\n")
    assert (tmp_path / "done").exists()


def test_nothing_was_started_unless_it_is_known(tmp_path: Path) -> None:
    output = tmp_path / "out.txt"
    starter = subprocess.Popen(
        [sys.executable, "-c", STARTER, str(output), f"touch {tmp_path}/done", "hang"], stdout=subprocess.PIPE, text=True
    )
    assert starter.stdout is not None
    pid, started = starter.stdout.readline().split()
    later = Running(int(pid), float(started), output)
    assert not running.wait(later, 0.2)
    starter.kill()
    starter.wait(10)
    assert running.wait(later, 10)
    assert (later.code, (tmp_path / "done").exists(), record_of(output).exists()) == (None, False, False)


def test_without_its_supervisor_the_program_itself_is_waited_for(tmp_path: Path) -> None:
    process = shell("sleep 1", tmp_path / "out.txt")
    os.kill(process.pid, signal.SIGKILL)
    later = Running(process.pid, process.started, tmp_path / "out.txt")
    assert not running.wait(later, 0.1)
    assert running.wait(later, 10)
    assert later.code is None


def test_what_must_not_be_kept_is_not(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Not in the output, not in the record, not in the arguments; also of what it says last, and through its errors."""
    secret = "Kr0kus & Söhne"
    script = 'read word; echo "got $word"; printenv BWK_PASSWORD >&2; exec sleep 0.2'
    monkeypatch.setenv("KLEFF_SECRET_BWK", secret)
    given = Given(text=secret + "\n", environment={"BWK_PASSWORD": secret}, hide=(secret,))
    process = shell(script, tmp_path / "out.txt", given)
    arguments = b"".join(Path(f"/proc/{process.pid}/{name}").read_bytes() for name in ("cmdline", "environ"))
    assert running.wait(process, 10)
    assert (tmp_path / "out.txt").read_text() == "got ......\n......\n"
    for data in (arguments, record_of(tmp_path / "out.txt").read_bytes()):
        assert secret.encode() not in data
    given = Given(environment={"BWK_PASSWORD": secret}, hide=(secret,), errors=tmp_path / "errors.txt")
    assert running.wait(shell("printenv BWK_PASSWORD >&2; echo dump", tmp_path / "two.txt", given), 10)
    assert ((tmp_path / "two.txt").read_text(), (tmp_path / "errors.txt").read_text()) == ("dump\n", "......\n")


def test_an_uninstaller_that_ended_while_nobody_was_there(kleff: Any, tmp_path: Path) -> None:
    """Its exit code is known all the same: it asked for a restart."""
    lab = bench(tmp_path / "lab", takes=1.0, exit=3010, prints="only once")
    file = procedure(tmp_path / "p.toml", STEP)
    words = [str(kleff.program), "run", str(file), "--on", f"lab:{lab}", "--yes", "--without-evidence", "--cases", str(kleff.cases)]
    child = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    assert until(lambda: any(kleff.cases.glob("*/output/*.run")))
    child.send_signal(signal.SIGKILL)
    child.wait(10)
    record = next(kleff.cases.glob("*/output/*.run"))
    assert until(lambda: "code" in json.loads(record.read_bytes()))
    assert "a restart is needed" in kleff("resume", kleff.case(), code=5).err
    assert [p.read_text().count("only once") for p in kleff.case().glob("output/*.txt")] == [1]
    kleff("lab", "restart", lab)
    kleff("resume", kleff.case())


def test_an_uninstaller_that_leaves_the_product_is_not_waited_for_in_vain(kleff: Any, tmp_path: Path) -> None:
    """It may take 45 minutes, but nothing of it is at work any more."""
    lab = bench(tmp_path / "lab", deletes_keys=[])
    file = procedure(tmp_path / "p.toml", STEP.replace("10s", "45m"))
    said = kleff("run", file, "--on", f"lab:{lab}", "--yes", code=1).err
    assert "is still registered after its uninstaller ended" in said


def test_a_command_that_was_cut_off_is_not_run_twice(kleff: Any, tmp_path: Path) -> None:
    """Killed while the product's own program is at work: it goes on, and its end counts."""
    lab = bench(tmp_path / "lab", takes=2.0, prints="only once", deletes=[], deletes_keys=[])
    words = json.dumps([FOLDER + "\\un.exe", "close"])
    file = procedure(tmp_path / "p.toml", f"[[stop]]\ncommand = {words}\nwithout_return = true\n")
    program = [str(kleff.program), "run", str(file), "--on", f"lab:{lab}", "--yes", "--without-evidence", "--cases", str(kleff.cases)]
    child = subprocess.Popen(program, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    assert until(lambda: any(kleff.cases.glob("*/output/*.run")))
    child.send_signal(signal.SIGKILL)
    child.wait(10)
    done = kleff("resume", kleff.case(), code=None)
    assert "that was started before is still at work" in done.err
    assert [p.read_text().count("only once") for p in kleff.case().glob("output/*.txt")] == [1]


def test_whoever_asks_to_stop_need_not_wait(kleff: Any, tmp_path: Path) -> None:
    """While an uninstaller works: it goes on, the case is open, and it is not started twice."""
    lab = bench(tmp_path / "lab", takes=6.0, prints="only once")
    file = procedure(tmp_path / "p.toml", STEP)
    program = [str(kleff.program), "run", str(file), "--on", f"lab:{lab}", "--yes", "--without-evidence", "--cases", str(kleff.cases)]
    child = subprocess.Popen(program, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
    assert until(lambda: any(kleff.cases.glob("*/output/*.run")))
    begun = time.monotonic()
    child.send_signal(signal.SIGINT)
    said = child.communicate(timeout=20)[1]
    assert child.returncode == 130
    assert time.monotonic() - begun < 3
    assert "goes on by itself" in said
    kleff("resume", kleff.case())
    assert [p.read_text().count("only once") for p in kleff.case().glob("output/*.txt")] == [1]
