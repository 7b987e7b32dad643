"""Accounts and folders of a Windows workstation, from its profile list and each account's own hive."""

from __future__ import annotations

import re
from collections.abc import Callable

from kleff.errors import NotTold, remedy_for
from kleff.procedure.variables import as_written
from kleff.registry.registry import KeyRef, Registry
from kleff.workstation.paths import WPath
from kleff.workstation.things import Account, Number

PROFILES = r"SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList"
SHELL_FOLDERS = r"Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders"
# variable -> (value under User Shell Folders, where it is if that is unset)
USER_FOLDERS = {
    "user.desktop": ("Desktop", "Desktop"),
    "user.documents": ("Personal", "Documents"),
    "user.downloads": ("{374DE290-123F-4565-9164-39C4925E467B}", "Downloads"),
    "user.music": ("My Music", "Music"),
    "user.pictures": ("My Pictures", "Pictures"),
    "user.videos": ("My Video", "Videos"),
    "user.roaming": ("AppData", r"AppData\Roaming"),
    "user.local": ("Local AppData", r"AppData\Local"),
    "user.menu": ("Programs", r"AppData\Roaming\Microsoft\Windows\Start Menu\Programs"),
}
BELOW_LOCAL = {"user.cache": ("Cache",), "user.temp": ("Temp",)}
OWN_FOLDERS = ("user.desktop", "user.documents", "user.downloads", "user.music", "user.pictures", "user.videos")
SID = re.compile(r"S-1-(?:5-21|12-1)-[0-9-]+\Z")  # of an account of this machine, of a domain, of a directory in the cloud


class WindowsAccounts:
    """The profile list.

    Args:
        path: makes a path of a text, None where it is none.
        expand: resolves `%SystemDrive%` and the like in a text.
    """

    def __init__(self, registry: Registry, path: Callable[[str], WPath | None], expand: Callable[[str], str]) -> None:
        self._registry = registry
        self._path = path
        self._expand = expand

    def all(self) -> list[Account]:
        """Accounts with a profile; also the default and public profiles and the system's, which are not ordinary."""
        top = KeyRef("HKLM", PROFILES)
        accounts = []
        for sid in self._registry.subkeys(top):
            home = self._path(self._expand(self._registry.text(top.child(sid), "ProfileImagePath")))
            if home is not None and home.parts:
                accounts.append(Account(home.name, sid, home, ordinary=bool(SID.match(sid))))
        for value, name in (("Default", "default"), ("Public", "public")):
            home = self._path(self._expand(self._registry.text(top, value)))
            if home is not None and home.parts:
                accounts.append(Account(name, name, home, ordinary=False))
        return sorted(accounts, key=lambda a: (not a.ordinary, a.name))

    def numbers(self) -> list[Number]:
        return [Number(name=a.name, number=a.id) for a in self.all() if a.id.startswith("S-")]

    def folder(self, account: Account, variable: str) -> WPath | None:
        if variable == "user.home":
            return account.home
        if variable in BELOW_LOCAL:
            local = self.folder(account, "user.local")
            return local.child(*BELOW_LOCAL[variable]) if local else None
        if variable not in USER_FOLDERS:
            return None
        value, default = USER_FOLDERS[variable]
        try:
            text = self._registry.text(KeyRef("HKU", f"{account.id}\\{SHELL_FOLDERS}"), value)
        except OSError as error:
            what = f"where {{{variable}}} of {account.name} is cannot be told: {error.strerror}"
            raise NotTold(what, remedy=remedy_for(error, "try again")) from None
        if not text:
            return account.home.child(*default.split("\\"))
        text = re.sub("%USERPROFILE%", lambda _: str(account.home), text, flags=re.IGNORECASE)
        path = self._path(self._expand(text))
        if path is None:
            raise NotTold(f"{{{variable}}} of {account.name} is {text}, which is not on this workstation", remedy="look there by hand")
        return path


class WindowsVariables:
    """What system variables stand for, from the registry."""

    def __init__(self, registry: Registry, path: Callable[[str], WPath | None]) -> None:
        self._registry = registry
        self._path = path
        self._environment: dict[str, str] | None = None

    def environment(self) -> dict[str, str]:
        """The machine's environment variables, names in upper case."""
        if self._environment is None:
            root = self._registry.text(KeyRef("HKLM", r"SOFTWARE\Microsoft\Windows NT\CurrentVersion", 64), "SystemRoot")
            root = root or r"C:\Windows"
            self._environment = {"SYSTEMROOT": root, "WINDIR": root, "SYSTEMDRIVE": root[:2]}
            for view, suffix in ((64, ""), (32, "(X86)")):
                key = KeyRef("HKLM", r"SOFTWARE\Microsoft\Windows\CurrentVersion", view if self._registry.bits == 64 else 0)
                for value, name in (("ProgramFilesDir", "PROGRAMFILES"), ("CommonFilesDir", "COMMONPROGRAMFILES")):
                    if view == 64 or self._registry.bits == 64:
                        self._environment[name + suffix] = self._registry.text(key, value)
            for value, name in (("ProgramData", "PROGRAMDATA"), ("Public", "PUBLIC")):
                self._environment[name] = self.expand(self._registry.text(KeyRef("HKLM", PROFILES), value))
        return self._environment

    def expand(self, text: str) -> str:
        """Resolve `%NAME%` from the machine's environment; an unknown name stays."""
        names = self.environment()
        return re.sub(r"%([^%]+)%", lambda m: names.get(m[1].upper()) or m[0], text)

    def folders(self, variable: str) -> list[WPath]:
        env = self.environment()
        root = env["SYSTEMROOT"]
        texts: dict[str, list[str | None]] = {
            "program_files": [env.get("PROGRAMFILES"), env.get("PROGRAMFILES(X86)")],
            "common_files": [env.get("COMMONPROGRAMFILES"), env.get("COMMONPROGRAMFILES(X86)")],
            "program_data": [env["PROGRAMDATA"]],
            "program_menu": [f"{env['PROGRAMDATA']}\\Microsoft\\Windows\\Start Menu\\Programs"] if env["PROGRAMDATA"] else [""],
            "windows": [root],
            "system": [root + r"\System32"],
            "temp": [root + r"\Temp"],
            "public": [env["PUBLIC"]],
            "env.ProgramFiles": [env.get("PROGRAMFILES")],
            "env.ProgramFiles(x86)": [env.get("PROGRAMFILES(X86)")],
            "env.CommonProgramFiles": [env.get("COMMONPROGRAMFILES")],
            "env.CommonProgramFiles(x86)": [env.get("COMMONPROGRAMFILES(X86)")],
            "env.SystemDrive": [env["SYSTEMDRIVE"] + "\\"],
        }
        found: dict[object, WPath] = {}
        for text in texts.get(variable, []):
            if text is None:
                continue  # a system of 32 bits has no second one
            path = self._path(text) if text else None
            if path is None or not (path.parts or variable == "env.SystemDrive"):
                is_set = f"is {text}" if text else "is not set"
                raise NotTold(f"{as_written(variable)} {is_set} here, and every such system has it", remedy="set it right, then try again")
            found.setdefault(path.key, path)
        return list(found.values())
