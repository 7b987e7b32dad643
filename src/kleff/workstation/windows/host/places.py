"""Where Kleff keeps what is its own on this Windows, and the drives it has."""

from __future__ import annotations

import os
from pathlib import Path

from kleff.registry.registry import Registry
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.profiles import PROFILES
from kleff.workstation.windows.system.hives import Hives
from kleff.workstation.windows.system.registry import WindowsRegistry

LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"


def machine_folder(api: Api) -> Path:
    """Kleff's own folder below the one for data of programs; by the registry, as anybody may set his own variables."""
    registry = Registry(WindowsRegistry(api, Hives(api, str)), 64)
    text = next((registry.text(key, "ProgramData") for key in registry.canonical(f"HKLM\\{PROFILES}")), "")
    drive = system_folder(api)[:2]
    return Path(text.replace("%SystemDrive%", drive) or f"{drive}\\ProgramData") / "Kleff"


def account_folder() -> Path:
    """Kleff's own folder in an account's profile, which stays on this machine."""
    return Path(os.environ.get("LOCALAPPDATA") or Path.home() / "AppData" / "Local") / "Kleff"


def drives(api: Api) -> dict[str, Path]:
    """The drives that are built in, such as `C:`, and the topmost folder of each."""
    there = api.GetLogicalDrives()
    letters = [letter for at, letter in enumerate(LETTERS) if there >> at & 1]
    return {f"{one}:": Path(f"{one}:\\") for one in letters if api.GetDriveTypeW(f"{one}:\\") == c.DRIVE_FIXED}


def system_folder(api: Api) -> str:
    """Where Windows itself is, such as `C:\\Windows`."""
    name = bytearray(2 * 260)
    api.GetSystemWindowsDirectoryW(name, 260)
    return name.decode("utf-16-le").partition("\0")[0]
