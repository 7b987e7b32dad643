"""Starting programs under a supervisor, without a shell, and waiting for them, also for those an earlier run of Kleff started."""

from __future__ import annotations

import contextlib
import json
import msvcrt
import os
import subprocess
import sys
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, suppress
from pathlib import Path
from typing import IO, Any

import kleff
from kleff.errors import ActionFailed
from kleff.workstation.programs.supervised import over, record_of, recorded
from kleff.workstation.things import Given, Known, Running
from kleff.workstation.windows.host import opened
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.system.files.nt import NtFiles
from kleff.workstation.windows.system.moments import running_since

MODULE = "kleff.workstation.windows.host.supervisor"
PACKAGES = Path(kleff.__file__).parent.parent
KEPT = ("SystemRoot", "SystemDrive", "TEMP", "TMP")  # of the variables; it needs no others
APART = subprocess.CREATE_NO_WINDOW | subprocess.CREATE_NEW_PROCESS_GROUP
SAME = 0.01  # seconds between two moments that are one
SETTLING = 5.0  # seconds
FIRST, LONGEST = 0.005, 0.1  # seconds between two looks


class Programs:
    """Programs of this machine.

    Attributes:
        pipes: where pipes are for a program that is told to write to one; how it ended is kept beside the file it stands for.
    """

    def __init__(self, api: Api, files: NtFiles) -> None:
        self._api = api
        self._files = files
        self.pipes: dict[Path, Path] = {}
        self._brief: set[int] = set()  # supervisors that end with their program
        self._children: dict[int, subprocess.Popen[bytes]] = {}

    def start(self, argv: Sequence[str], output: Path, environment: Mapping[str, str], given: Given | None, known: Known | None) -> Running:
        """Start a program: first its supervisor, then, once that is `known`, the program itself.

        Raises:
            ActionFailed: it cannot be started.
        """
        given = given or Given()
        record_of(output).unlink(missing_ok=True)
        order = {
            "argv": list(argv), "line": given.line, "environment": {**environment, **given.environment}, "text": given.text,
            "hide": [text for text in given.hide if text], "together": given.errors is None, "record": str(record_of(output)),
            "linger": given.linger,
        }  # fmt: skip
        with ExitStack() as stack:
            streams = self._streams(stack, output, given)
            child = self._supervised(list(streams.values()))
            running = Running(child.pid, running_since(self._api, child.pid), output)
            if known is not None:
                known(running)
            self._children[child.pid] = child
            self._brief |= set() if given.linger else {child.pid}
            assert child.stdin is not None
            assert child.stdout is not None
            with suppress(OSError):
                child.stdin.write(json.dumps(order | streams).encode() + b"\n")
                child.stdin.close()
            answer: dict[str, Any] = json.loads(child.stdout.readline() or "{}")
            child.stdout.close()
        if "program" not in answer:
            self.wait(running, 10)
            raise ActionFailed(f"{argv[0]} cannot be started: {answer.get('error', 'its supervisor ended')}", remedy="check the program")
        running.program = answer["program"]
        return running

    def _streams(self, stack: ExitStack, output: Path, given: Given) -> dict[str, int]:
        """Handles for what a program says and reads, which the supervisor inherits."""
        says = _inherited(stack.enter_context(self._keeping(output)))
        complains = says if given.errors is None else _inherited(stack.enter_context(self._keeping(given.errors)))
        with Path(os.devnull).open("rb") as nothing:
            reads = given.stdin or stack.enter_context(os.fdopen(os.dup(nothing.fileno()), "rb"))
        return {"says": says, "complains": complains, "reads": _inherited(reads)}

    @contextlib.contextmanager
    def _keeping(self, file: Path) -> Iterator[IO[bytes]]:
        if file in self.pipes:
            with open(self.pipes[file], "wb", buffering=0) as pipe:
                yield pipe
            return
        with opened.added_to(self._files, file) as out:
            out.seek(0, os.SEEK_END)
            yield out

    def _supervised(self, handles: list[int]) -> subprocess.Popen[bytes]:
        """A supervisor that waits to be told what to run."""
        command, environment = words_for(MODULE), variables_for_helpers()
        for flags in (APART | subprocess.CREATE_BREAKAWAY_FROM_JOB, APART):  # what Kleff itself runs in may forbid the first
            how = subprocess.STARTUPINFO(lpAttributeList={"handle_list": list(dict.fromkeys(handles))})
            with suppress(PermissionError):
                child = subprocess.Popen(
                    command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, env=environment,
                    creationflags=flags, startupinfo=how,
                )  # fmt: skip
                assert child.stdout is not None
                if child.stdout.read(1):
                    return child
        raise ActionFailed("no program can be started from here", remedy="start Kleff from an ordinary console")

    # -- waiting ----------------------------------------------------------------------------------------------

    def wait(self, running: Running, seconds: float) -> bool:
        """Wait for the end of a program."""
        deadline, pause = time.monotonic() + seconds, FIRST
        while not over(running, self._runs):
            left = deadline - time.monotonic()
            if left <= 0:
                return False
            time.sleep(min(pause, left))
            pause = min(2 * pause, LONGEST)
        if running.pid in self._brief:  # until then it holds the files that it has written
            with suppress(subprocess.TimeoutExpired):
                self._children[running.pid].wait(SETTLING)
        return True

    def busy(self, running: Running) -> bool:
        """Whether the supervisor still watches something, or, without one, the program runs."""
        return self._runs(running.pid, running.started) or not over(running, self._runs)

    def find(self, output: Path) -> Running | None:
        """A program whose record is there and that still runs."""
        record = recorded(output)
        if record is None or record.code is not None or not self._runs(record.program, record.started):
            return None
        return Running(record.program, record.started, output, program=record.program)

    def _runs(self, pid: int, at: float) -> bool:
        """Whether the very process still runs (number and start time)."""
        return pid > 0 and abs(running_since(self._api, pid) - at) < SAME


def words_for(module: str) -> list[str]:
    """The command line of a helper: the main function of a module, with the standard library and Kleff alone."""
    text = f"import sys; sys.path.append(sys.argv[1]); from {module} import main; main()"
    return [sys.executable, "-I", "-S", "-B", "-c", text, str(PACKAGES)]


def variables_for_helpers() -> dict[str, str]:
    return {name: os.environ[name] for name in KEPT if name in os.environ}


def _inherited(file: IO[bytes]) -> int:
    handle = msvcrt.get_osfhandle(file.fileno())
    os.set_handle_inheritable(handle, True)
    return handle
