"""The task scheduler of a lab: definitions are files, and the registry knows each by a number of its own."""

from __future__ import annotations

import errno
from pathlib import Path
from uuid import NAMESPACE_URL, uuid5

from kleff.registry.registry import KeyRef, Registry
from kleff.registry.values import text_value
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.lab.lab import Lab
from kleff.workstation.paths import WPath
from kleff.workstation.windows.tasks import text_of

FOLDER = r"C:\Windows\System32\Tasks"
CACHE = r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Schedule\TaskCache"


class LabTaskControl:
    """Implements `TaskControl`."""

    def __init__(self, lab: Lab, files: FileTree, registry: Registry) -> None:
        self._lab, self._files, self._registry = lab, files, registry

    def disabled(self, name: str) -> bool:
        return name in self._lab.state().disabled_tasks

    def set_enabled(self, name: str, enabled: bool) -> None:
        self._there(name)
        self._switch(name, enabled)

    def definition(self, name: str) -> str:
        return text_of(self._files.read(self._there(name)))

    def delete(self, name: str) -> None:
        path = self._files.path(f"{FOLDER}\\{name}")
        if path is not None and self._files.look(path) is not None:
            self._files.remove_single(path)
        for key in self._known(name):
            self._registry.delete_tree(key)
        self._registry.api.flush()
        self._switch(name, True)

    def register(self, name: str, definition: str) -> None:
        path = self._files.path(f"{FOLDER}\\{name}")
        assert path is not None
        file = Path(self._files.host(path))
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(definition.encode("utf-16"))
        tree, task = self._known(name)
        for key, value in ((tree, text_value("Id", task.parts[-1])), (task, text_value("Path", f"\\{name}"))):
            self._registry.api.create(key.hive, key.physical)
            self._registry.api.set(key.hive, key.physical, value)
        self._registry.api.flush()
        self._switch(name, "<Enabled>false</Enabled>" not in definition)

    def _there(self, name: str) -> WPath:
        path = self._files.path(f"{FOLDER}\\{name}")
        if path is None or self._files.look(path) is None:
            raise FileNotFoundError(errno.ENOENT, "there is no such task", name)
        return path

    def _known(self, name: str) -> tuple[KeyRef, KeyRef]:
        """Its place in the tree of names, and what is known of it by its number."""
        number = "{" + str(uuid5(NAMESPACE_URL, f"task:{name}")).upper() + "}"
        (top,) = self._registry.canonical(CACHE, view=64)
        return KeyRef(top.hive, rf"{top.path}\Tree\{name}", top.view), KeyRef(top.hive, rf"{top.path}\Tasks\{number}", top.view)

    def _switch(self, name: str, enabled: bool) -> None:
        with self._lab.locked():
            state = self._lab.state()
            state.disabled_tasks = [n for n in state.disabled_tasks if n != name] + ([] if enabled else [name])
            self._lab.save(state)
