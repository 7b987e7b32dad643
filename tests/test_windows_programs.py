"""Programs on a running Windows, as far as Wine can show them: followed to the end with all they start; their whole exit codes."""

from __future__ import annotations

import itertools
import random
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import pytest

from kleff.errors import ActionFailed
from kleff.workstation.things import Given, Running
from kleff.workstation.windows.command_lines import split_arguments
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.system.files.tree import NtTree
from kleff.workstation.windows.system.jobs import Job
from kleff.workstation.windows.system.power.machine import SystemMachine, boot_id
from kleff.workstation.windows.system.programs import WindowsPrograms
from test_command_lines import REGISTERED
from wine.direct import Direct, started
from wine.fixtures import on_wine

pytestmark = [*on_wine, pytest.mark.usefixtures("service")]  # its program lies in the prefix then

PROGRAM = r"C:\program.exe"
ENVIRONMENT = {"SystemRoot": r"C:\windows", "PATH": r"C:\windows\system32", "TEMP": r"C:\windows\temp", "Beds": "grün"}
numbers = itertools.count()


@pytest.fixture
def run(api: Api, prefix: Path) -> Iterator[Callable[..., tuple[Job, Path]]]:
    """Starts a program; the job, and where what it says is kept."""
    jobs = []

    def run_it(*argv: str) -> tuple[Job, Path]:
        name = f"said{next(numbers)}.txt"
        jobs.append(started(api, argv, f"C:\\{name}", ENVIRONMENT))
        return jobs[-1], prefix / "drive_c" / name

    yield run_it
    for job in jobs:
        job.close()


def test_followed_to_the_end(run: Callable[..., tuple[Job, Path]]) -> None:
    """One that hands over and ends at once is not over before the other is."""
    job, _ = run(PROGRAM, "start", f"{PROGRAM} sleep 2")
    assert not job.wait(0.8)
    assert (job.code, job.busy) == (0, True)
    assert job.wait(30)
    assert not job.busy
    assert job.wait(0)


@pytest.mark.parametrize("code", [0, 1603, 3010, 0xC0000005])
def test_its_whole_exit_code(run: Callable[..., tuple[Job, Path]], code: int) -> None:
    job, _ = run(PROGRAM, "exit", str(code if code < 1 << 31 else code - (1 << 32)), "1")
    assert job.code is None
    assert job.started > 13_000_000_000
    assert job.wait(30)
    assert job.code == code


def test_what_it_says_and_is_given(run: Callable[..., tuple[Job, Path]]) -> None:
    """Arguments as they were given, whatever is in them; the variables and no others; a file of its own for what it says."""
    job, said = run(r"C:\windows\system32\cmd.exe", "/c", "echo [%Beds%] [%USERNAME%]&& echo told >&2")
    assert job.wait(30)
    lines = said.read_bytes().decode("cp1252", "replace").splitlines()
    assert lines[0].startswith("[gr")
    assert lines[0].endswith("[%USERNAME%]")
    assert lines[1].strip() == "told"


def test_what_cannot_be_started(api: Api, prefix: Path) -> None:
    """No such program, and a place for its output that is taken: an error each, nothing runs."""
    with pytest.raises(Failed) as caught:
        started(api, [r"C:\nowhere.exe"], f"C:\\said{next(numbers)}.txt", ENVIRONMENT)
    assert caught.value.code == 2
    (prefix / "drive_c/taken.txt").write_text("mine")
    with pytest.raises(Failed) as caught:
        started(api, [PROGRAM, "exit", "0"], r"C:\taken.txt", ENVIRONMENT)
    assert (prefix / "drive_c/taken.txt").read_text() == "mine"


def test_power_sessions_and_boot(api: Api) -> None:
    power = SystemMachine(api).power()
    assert power.mains or power.percent is not None
    assert SystemMachine(api).sessions() == []  # Wine tells of none
    assert boot_id(api) == boot_id(api)
    assert int(boot_id(api).by_clock) > 130_000_000_000_000_000  # 100 ns since 1601


@pytest.fixture
def programs(api: Api, prefix: Path) -> Callable[[Sequence[str], str], str]:
    """Runs a program of a Wine as Kleff would on a Windows; what it said."""
    drive = prefix / "drive_c"
    files = NtTree(api, {"C:": drive})
    environment = {"SystemRoot": r"C:\windows", "PATH": r"C:\windows\system32", "TEMP": r"C:\windows\temp", "Beds": "three"}
    commands = WindowsPrograms(files, Direct(api, drive, list), [], list, environment, list)

    def run(argv: Sequence[str], line: str = "") -> str:
        output = drive / f"line{next(numbers)}.txt"
        running: Running = commands.start(argv, output, Given(line=line))
        assert commands.wait(running, 60)
        return output.read_bytes().decode("cp1252", "replace")

    return run


def test_taken_apart_as_a_windows_does(programs: Callable[..., str], prefix: Path) -> None:
    draw = random.Random(7)
    lines = ["".join(draw.choices('ab "\\\t', (4, 2, 4, 5, 4, 1), k=draw.randrange(1, 20))) for _ in range(3000)]
    (prefix / "drive_c/lines.txt").write_bytes("".join(f"{line}\n" for line in lines).encode("ascii"))
    said = programs([r"C:\program.exe", "split", r"C:\lines.txt"])
    assert len(said.split("\n")) == 3001, said[-300:]
    found = [one.rstrip("\r").split("\1")[:-1] for one in said.split("\n")[:-1]]
    assert [(line, split_arguments(line)) for line in lines] == list(zip(lines, found, strict=True))


def test_a_running_windows_gets_the_line_as_it_stands(programs: Callable[..., str]) -> None:
    for line in REGISTERED:
        whole = " ".join(part for part in (f"line {line.strip()}".strip(), '"--all of it"') if part)
        assert programs([r"C:\program.exe", "--all of it"], f"line {line.strip()}".strip()).strip() == f'"C:\\program.exe" {whole}'


def test_a_file_of_commands_gets_its_arguments(programs: Callable[..., str], prefix: Path) -> None:
    """As the command interpreter reads them: no variable is put in, no second command begins."""
    folder = prefix / "drive_c/Row 7"
    folder.mkdir(exist_ok=True)
    (folder / "take off.cmd").write_bytes(b"@echo off\r\necho [%1]\r\necho [%2]\r\necho [%3]\r\n")
    said = programs([r"C:\Row 7\take off.cmd", "a b", "^c!Beds!", "x&echo more"])
    assert [line.strip() for line in said.splitlines() if line.strip()][:3] == ['["a b"]', '["^c!Beds!"]', '["x&echo more"]']
    with pytest.raises(ActionFailed, match="as its own"):
        programs([r"C:\Row 7\take off.cmd", "%Beds%"])
    assert "[/s]" in programs([r"C:\Row 7\take off.cmd"], '/s "two words"')
