"""Programs of a Linux workstation."""

from __future__ import annotations

import stat
from collections.abc import Sequence
from pathlib import Path

from kleff.errors import ActionFailed, LinkOnTheWay
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.linux.packages.calling import ENVIRONMENT
from kleff.workstation.paths import WPath
from kleff.workstation.posix import running
from kleff.workstation.things import Given, Known, Running


class LinuxCommands:
    """Args: runs: False for a tree that is not running, in which nothing is ever started."""

    def __init__(self, files: FileTree, runs: bool) -> None:
        self._files = files
        self._runs = runs

    def find(self, name: str) -> str | None:
        for folder in ENVIRONMENT["PATH"].split(":"):
            path = self._files.path(f"{folder}/{name}")
            if path is None or "/" in name:
                continue
            path = self._files.resolve(path).path
            look = self._files.look(path)
            if look is not None and (look.is_link or (look.is_file and look.mode & 0o111)):
                return str(path)
        return None

    def objection(self, program: WPath) -> str | None:
        if not self._runs:
            return "the workstation is not running, so its programs are not run"
        try:
            resolved = self._led_to(program)
        except LinkOnTheWay as error:
            return error.what
        look = self._files.look(resolved)
        if look is None or not look.is_file:
            return f"{program} is not there" if resolved == program else f"{program} leads to {resolved}, which is not there"
        if look.mode & (stat.S_IWOTH | stat.S_IWGRP) or not self._files.only_admin(resolved.parent) or look.uid != 0:
            return f"others than an administrator can change {program}"
        return None

    def _led_to(self, program: WPath) -> WPath:
        """The program itself, where its name is a link: every link that is followed is one that administrators alone can change."""
        return self._files.resolve(program.child("")).path.parent

    def start(self, argv: Sequence[str], output: Path, given: Given | None = None, known: Known | None = None) -> Running:
        if not self._runs:
            raise ActionFailed("the workstation is not running, so its programs are not run")
        return running.start(argv, output, ENVIRONMENT, given, known)

    def variable_of(self, script: WPath, variable: str) -> str:
        from kleff.workstation.linux.sourcing import variable_of

        return variable_of(str(self._files.resolve(script).path), variable)

    def find_running(self, argv: Sequence[str], output: Path) -> Running | None:
        return running.find(argv, output) if self._runs else None

    def wait(self, process: Running, seconds: float) -> bool:
        return running.wait(process, seconds)

    def busy(self, process: Running) -> bool:
        return running.busy(process)
