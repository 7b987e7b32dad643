"""A Wine prefix in which deleting is safe.

Wine follows the links of the machine it runs on whatever an open asks for, and deletes what they lead to. A fresh prefix has the folders of
whoever runs it as links, and a drive that is the whole machine: both go before anything else happens there.
"""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.native.caller import number
from kleff.workstation.windows.native.constants import (
    HKEY_LOCAL_MACHINE,
    KEY_CREATE_LINK,
    KEY_READ,
    KEY_WOW64_64KEY,
    KEY_WRITE,
    REG_LINK,
    REG_OPTION_CREATE_LINK,
)  # fmt: skip
from wine.headers import COMPILER
from wine.remote import WINE, RemoteCaller, environment

HERE = Path(__file__).parent
NEEDED = ("wine", WINE, "wineserver", COMPILER)
SETTINGS = (
    ("winecfg", "-v", "win10"),  # it would say that it is an older one
    ("reg", "add", r"HKCU\Software\Wine\Drivers", "/v", "Graphics", "/t", "REG_SZ", "/d", "null", "/f"),  # windows without a display
)


def missing() -> list[str]:
    """What it takes and is not here."""
    return [name for name in NEEDED if shutil.which(name) is None]


def compiled(source: Path, made: Path) -> Path:
    """A program of the tests' own, made for Windows."""
    words = [COMPILER, "-O1", "-municode", "-Wall", "-Wextra", "-Werror", "-s", str(source), "-o", str(made), "-ladvapi32"]
    subprocess.run(words, check=True, capture_output=True, text=True)
    return made


def make(folder: Path, helper: Path) -> None:
    """A new prefix, from which copies are made."""
    _run(folder, "wine", "wineboot", "-i")
    for words in SETTINGS:
        _run(folder, WINE, *words)
    _control_set(folder, helper)
    end(folder)
    for device in (folder / "dosdevices").iterdir():
        if device.name != "c:":
            device.unlink()
    for path in list((folder / "drive_c").rglob("*")):
        if path.is_symlink():
            path.unlink()
            path.mkdir()
    assert not [path for path in (folder / "drive_c").rglob("*") if path.is_symlink()]


def copied(made: Path, to: Path) -> Path:
    """A prefix of a test's own, by second names: what lies on drive C is replaced there, never changed in place."""
    shutil.copytree(made, to, symlinks=True, copy_function=os.link)
    for file in to.glob("*.reg"):
        file.unlink()
        shutil.copy(made / file.name, file)
    return to


def end(folder: Path) -> None:
    """End all that runs in a prefix, and have its registry written."""
    subprocess.run(["wineserver", "-k", "-w"], env=environment(folder), check=False, timeout=60)


def _run(folder: Path, *words: str) -> None:
    subprocess.run(words, env=environment(folder), check=True, capture_output=True, timeout=300)


def _control_set(folder: Path, helper: Path) -> None:
    """Windows keeps its settings in `ControlSet001`, to which `CurrentControlSet` is a link; Wine has the second alone."""
    caller = RemoteCaller(helper, folder, 300)
    api, handle = Api(caller), bytearray(8)
    target = r"\Registry\Machine\System\CurrentControlSet".encode("utf-16-le")
    access = KEY_READ | KEY_WRITE | KEY_WOW64_64KEY | KEY_CREATE_LINK
    name = r"System\ControlSet001"
    api.RegCreateKeyExW(HKEY_LOCAL_MACHINE, name, 0, None, REG_OPTION_CREATE_LINK, access, None, handle, None)
    api.RegSetValueExW(number(handle), "SymbolicLinkValue", 0, REG_LINK, target, len(target))
    api.RegCloseKey(number(handle))
    caller.close()
