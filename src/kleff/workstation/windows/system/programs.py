"""Programs of a running Windows."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Protocol

from kleff.errors import ActionFailed
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath
from kleff.workstation.things import Given, Known, Running
from kleff.workstation.windows.command_lines import for_interpreter, is_batch
from kleff.workstation.windows.programs import find_program, objection

USUAL = r"C:\Windows"


class Starting(Protocol):
    """What starts programs and waits for them: the part of `Host` that does."""

    def start_program(
        self, argv: Sequence[str], output: Path, environment: Mapping[str, str], given: Given | None = None, known: Known | None = None
    ) -> Running: ...

    def find_program(self, last: Sequence[str], output: Path) -> Running | None: ...

    def wait_for_program(self, running: Running, seconds: float) -> bool: ...

    def program_busy(self, running: Running) -> bool: ...


class WindowsPrograms:
    """Implements `Commands`.

    Args:
        search: the folders in which a bare name is looked for; registered: gives the names that are registered as programs besides.
        environment: what programs get of variables; release: lets go of what must not be held while a program works.
    """

    def __init__(
        self,
        files: FileTree,
        starting: Starting,
        search: Sequence[str],
        registered: Callable[[], list[str]],
        environment: Mapping[str, str],
        release: Callable[[], object],
    ) -> None:
        self._files = files
        self._starting = starting
        self._search = search
        self._registered = registered
        self._environment = environment
        self._release = release

    def find(self, name: str) -> str | None:
        return find_program(self._files, self._search, self._registered(), name)

    def objection(self, program: WPath) -> str | None:
        return objection(self._files, program)

    def start(self, argv: Sequence[str], output: Path, given: Given | None = None, known: Known | None = None) -> Running:
        self._release()
        if is_batch(argv[0]):
            argv, given = self._interpreted(argv, given or Given())
        return self._starting.start_program(argv, output, self._environment, given, known)

    def _interpreted(self, argv: Sequence[str], given: Given) -> tuple[list[str], Given]:
        """A file of commands, which reads its arguments as the command interpreter does."""
        try:
            line = for_interpreter(argv[0], given.line, argv[1:])
        except ValueError as error:
            raise ActionFailed(f"{argv[0]} cannot be given {error}", remedy="correct the procedure") from None
        interpreter = self._environment.get("SystemRoot", USUAL) + r"\System32\cmd.exe"
        return [interpreter], dataclasses.replace(given, line=line)

    def find_running(self, argv: Sequence[str], output: Path) -> Running | None:
        return self._starting.find_program(argv, output)

    def wait(self, running: Running, seconds: float) -> bool:
        return self._starting.wait_for_program(running, seconds)

    def busy(self, running: Running) -> bool:
        return self._starting.program_busy(running)
