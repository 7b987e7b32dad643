"""What everything that starts programs on a Windows has to do; the system's own command interpreter is the program."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Mapping
from pathlib import Path

from kleff.errors import ActionFailed
from kleff.workstation.facets import Processes
from kleff.workstation.paths import WPath
from kleff.workstation.things import Given, Running
from kleff.workstation.windows.contract.checks import Broken, Check, expect
from kleff.workstation.windows.system.programs import Starting

SECONDS = 60.0
CODES = {"0": 0, "1603": 1603, "3010": 3010, "-1073741819": 0xC0000005}


class ProgramsContract:
    """Args:
    starting: what starts them; interpreter: `cmd.exe` by its whole path; environment: what programs get of variables.
    folder: an empty one of this machine for what they say; processes: those that run.
    place: gives what a file of this machine is called on the Windows.
    """

    def __init__(
        self, starting: Starting, interpreter: str, environment: Mapping[str, str], folder: Path, processes: Processes,
        place: Callable[[Path], WPath],
    ) -> None:  # fmt: skip
        self._starting, self._interpreter, self._environment = starting, interpreter, environment
        self._folder, self._processes, self._place = folder, processes, place
        self._count = 0

    def checks(self) -> dict[str, Check]:
        return {
            "exit codes": self._codes, "what it says": self._says, "what it is told": self._told, "a registered line": self._registered,
            "what must not be kept": self._hidden,
            "a program that is not there": self._missing, "what it leaves at work": self._left, "found among all that run": self._found,
            "who holds a file": self._holds, "a pipe that is waited for": self._waits,
        }  # fmt: skip

    def clear(self) -> None:
        """What they said is taken away with the folder."""

    def _run(self, *words: str, given: Given | None = None, wait: bool = True) -> Running:
        return self._start([self._interpreter, "/d", "/c", *words], given, wait)

    def _start(self, words: list[str], given: Given | None, wait: bool = True) -> Running:
        self._count += 1
        output = self._folder / f"said-{self._count}.txt"
        running = self._starting.start_program(words, output, self._environment, given)
        if wait and not self._starting.wait_for_program(running, SECONDS):
            raise Broken("a program that should end at once has not")
        return running

    def _codes(self) -> None:
        """All 32 bits."""
        for text, code in CODES.items():
            expect(f"the code of exit {text}", self._run("exit", text).code, code)

    def _says(self) -> None:
        """Both of its outputs, in one file or in two."""
        said = self._run("echo told& echo complained>&2").output.read_text("ascii", "replace")
        expect("what it said", said.split(), ["told", "complained"])
        errors = self._folder / "errors.txt"
        said = self._run("echo told& echo complained>&2", given=Given(errors=errors)).output.read_text("ascii", "replace")
        expect("what it said", (said.split(), errors.read_text("ascii", "replace").split()), (["told"], ["complained"]))

    def _told(self) -> None:
        """Arguments with spaces, variables that it gets and no others, and what it reads."""
        said = self._run("echo", "[two words]", "[%BEDS%]", given=Given(environment={"BEDS": "sage"})).output.read_text("ascii", "replace")
        expect("what it was told", said.replace('"', "").split("]"), ["[two words", " [sage", "\n"])
        said = self._run("findstr", "mint", given=Given(text="sage\nmint\n")).output.read_text("ascii", "replace")
        expect("what it has read", said.strip(), "mint")

    def _registered(self) -> None:
        """What is registered behind a program arrives letter by letter, then the arguments."""
        line = '/d /c echo PROP="a b"  /D=C:\\x  y'
        running = self._start([self._interpreter, "/S", "two words"], Given(line=line))
        said = running.output.read_text("ascii", "replace")
        expect("what it got", said.strip(), 'PROP="a b"  /D=C:\\x  y /S "two words"')

    def _hidden(self) -> None:
        said = self._run("echo before marigold after& echo beds", given=Given(hide=("marigold",))).output.read_text("ascii", "replace")
        expect("what is kept", said.split(), ["before", "......", "after", "beds"])

    def _missing(self) -> None:
        output = self._folder / "nothing.txt"
        try:
            self._starting.start_program([self._interpreter + ".nowhere"], output, self._environment)
        except ActionFailed:
            return
        raise Broken("it was started")

    def _left(self) -> None:
        """A program that hands over and ends is known to have ended, and to have left something at work, until that has ended too."""
        running = self._run("start", "/b", self._interpreter, "/d", "/c", "ping -n 4 127.0.0.1", given=Given(linger=SECONDS))
        expect("its code", running.code, 0)
        expect("that something is at work", self._starting.program_busy(running), True)

    def _found(self) -> None:
        running = self._run("ping -n 3 127.0.0.1", wait=False)
        found = [process for process in self._processes.all() if process.pid == running.program]
        expect("its path", [process.path.casefold() for process in found], [self._interpreter.casefold()])
        expect("its command", [process.command[1:3] for process in found], [("/d", "/c")])
        if not self._starting.wait_for_program(running, SECONDS):
            raise Broken("it has not ended")

    def _holds(self) -> None:
        """By the table of all handles: whoever has what it says open, and nobody else."""
        running = self._run("ping -n 3 127.0.0.1", wait=False)
        place = self._place(running.output)
        found = {process.pid: text.casefold() for process, text in self._processes.holders([place])}
        if not self._starting.wait_for_program(running, SECONDS):
            raise Broken("it has not ended")
        expect("what the program holds", found.get(running.program), str(place).casefold())

    def _waits(self) -> None:
        """Programs that read what nobody writes may never answer what they have open: it is told which, and the asking ends."""
        reading, writing = os.pipe()
        try:
            with os.fdopen(reading, "rb", closefd=False) as nothing:
                output = self._folder / "waits.txt"
                words = [self._interpreter, "/d"]  # it reads what it is to do
                running = self._starting.start_program(words, output, self._environment, Given(stdin=nothing))
            os.close(reading)
            began = time.monotonic()
            found = {process.pid for process, _ in self._processes.holders([self._place(output)])}
            expect("that the asking ends", time.monotonic() - began < SECONDS, True)
            expect("that it is found, or told", running.program in found | {process.pid for process in self._processes.silent()}, True)
        finally:
            os.close(writing)
        if not self._starting.wait_for_program(running, SECONDS):
            raise Broken("it has not ended")
