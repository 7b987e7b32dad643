"""A made-up product on a machine that nobody needs, with files and keys, to be removed and taken back."""

from __future__ import annotations

from kleff.registry.registry import Registry
from kleff.registry.values import list_value, text_value
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath

KEY = r"HKLM\SOFTWARE\Alder Row\Selftest"
FOLDER = r"C:\Program Files\Alder Row Selftest"
FILES = (("tool.exe", b"MZ"), ("gr\u00fcn.ini", b"[beds]\r\nsage=12\r\n"), ("\u85ac\u8349.txt", b""))
PROCEDURE = rf"""
format = 1
[product]
id = "selftest"
name = "Alder Row Selftest"
[[evidence]]
path = '{FOLDER}\tool.exe'
[[backup]]
label = "settings"
paths = ['{FOLDER}\*.ini']
[[delete]]
paths = ['{FOLDER}']
[[delete]]
key = '{KEY}'
"""


class SampleProduct:
    """Args: files, registry: of the machine."""

    def __init__(self, files: FileTree, registry: Registry) -> None:
        self._files, self._registry = files, registry
        self._made = False

    def make(self) -> None:
        """Put it there.

        Raises:
            OSError: EEXIST, something of that name is there already.
        """
        folder = self._folder()
        with self._files.folder(folder.parent) as above:
            above.make_folder(folder.name, 0o755)
        self._made = True
        with self._files.folder(folder) as top:
            for name, data in FILES:
                file = top.create(name)
                file.write(data)
                file.close()
        for key in self._registry.canonical(KEY):
            self._registry.api.create(key.hive, key.physical)
            self._registry.api.set(key.hive, key.physical, text_value("Bits", str(key.view)))
            self._registry.api.set(key.hive, key.physical, list_value("Beds", ["sage", "mint"]))

    def stands(self) -> tuple[list[object], list[object]]:
        """What is there of it: files, and values of its keys."""
        files = [(str(path), look.word, look.size, look.times[1]) for path, look in self._files.walk(self._folder())]
        found = [self._registry.values(key) for key in self._registry.canonical(KEY) if self._registry.exists(key)]
        return list(files), [sorted((v.name, v.type, v.raw) for v in values) for values in found]

    def clear(self) -> None:
        """Take it away, if it was made here."""
        if not self._made:
            return
        with self._files.parent(self._folder()) as (above, name):
            above.delete_tree(name, lambda count: None)
        for key in self._registry.canonical(KEY):
            self._registry.delete_tree(key)
            vendor = next(k for k in self._registry.canonical(KEY.rpartition("\\")[0]) if k.view == key.view)
            if not self._registry.subkeys(vendor):
                self._registry.delete_tree(vendor)

    def _folder(self) -> WPath:
        folder = self._files.path(FOLDER)
        assert folder is not None
        return folder
