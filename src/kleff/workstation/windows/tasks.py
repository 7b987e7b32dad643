"""Scheduled tasks of a Windows workstation: their definitions from the system's own folder, switched through its lowest layer."""

from __future__ import annotations

import re
from typing import Protocol

from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath
from kleff.workstation.things import Task

MOST = 1 << 20  # bytes of a definition


class TaskControl(Protocol):
    """The task scheduler."""

    def disabled(self, name: str) -> bool: ...

    def set_enabled(self, name: str, enabled: bool) -> None: ...

    def definition(self, name: str) -> str: ...

    def delete(self, name: str) -> None: ...

    def register(self, name: str, definition: str) -> None: ...


class WindowsTasks:
    """Args: folder: where definitions are kept, as XML (Task Scheduler schema)."""

    def __init__(self, files: FileTree, folder: WPath, control: TaskControl) -> None:
        self._files = files
        self._folder = folder
        self._control = control

    def all(self) -> list[Task]:
        found = []
        for path, look in self._files.walk(self._folder):
            if look.is_file:
                name = "\\".join(path.parts[len(self._folder.parts) :])
                found.append(Task(name, _command(self._files.read(path, MOST)), not self._control.disabled(name)))
        return found

    def set_enabled(self, name: str, enabled: bool) -> None:
        self._control.set_enabled(name, enabled)

    def definition(self, name: str) -> str:
        return self._control.definition(name)

    def delete(self, name: str) -> None:
        self._control.delete(name)

    def register(self, name: str, definition: str) -> None:
        self._control.register(name, definition)


def text_of(data: bytes) -> str:
    """The text of a definition, in 16 bits or 8."""
    return data.decode("utf-16", "replace") if data[:2] in (b"\xff\xfe", b"\xfe\xff") else data.decode("utf-8", "replace")


def _command(data: bytes) -> str:
    text = text_of(data)
    command = re.search(r"<Command>(.*?)</Command>", text, re.DOTALL)
    arguments = re.search(r"<Arguments>(.*?)</Arguments>", text, re.DOTALL)
    return " ".join(m[1].strip() for m in (command, arguments) if m)
