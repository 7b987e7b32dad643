"""Accounts of a Linux workstation, from its own passwd file, and their folders from their own settings."""

from __future__ import annotations

import re

from kleff.errors import NoSuchWorkstation, NotTold, remedy_for
from kleff.workstation.files.folders import real_folder
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath
from kleff.workstation.things import Account, Number

# XDG base directories and user directories (freedesktop.org): variable -> place below the home unless set otherwise.
BASE = {
    "user.home": (),
    "user.roaming": (".config",),
    "user.local": (".local", "share"),
    "user.cache": (".cache",),
    "user.menu": (".local", "share", "applications"),
}
USER_DIRS = {
    "user.desktop": ("XDG_DESKTOP_DIR", "Desktop"),
    "user.documents": ("XDG_DOCUMENTS_DIR", "Documents"),
    "user.downloads": ("XDG_DOWNLOAD_DIR", "Downloads"),
    "user.music": ("XDG_MUSIC_DIR", "Music"),
    "user.pictures": ("XDG_PICTURES_DIR", "Pictures"),
    "user.videos": ("XDG_VIDEOS_DIR", "Videos"),
}
SYSTEM = {
    "program_files": ("/opt",),
    "program_data": ("/var/lib",),
    "program_menu": ("/usr/share/applications",),
    "temp": ("/tmp",),
}


class PasswdAccounts:
    def __init__(self, files: FileTree) -> None:
        self._files = files
        self._user_dirs: dict[str, dict[str, str]] = {}

    def all(self) -> list[Account]:
        """Ordinary are uids within UID_MIN..UID_MAX of login.defs(5), and root."""
        low, high = self._range()
        accounts = []
        for line in self._text("/etc/passwd").splitlines():
            fields = line.split(":")
            if len(fields) != 7 or not fields[2].isdigit():
                continue
            home = self._files.path(fields[5])
            if home is not None and home.parts:
                uid = int(fields[2])
                resolved = real_folder(self._files, home)
                accounts.append(Account(fields[0], fields[2], resolved, uid, ordinary=uid == 0 or low <= uid <= high))
        return accounts

    def numbers(self) -> list[Number]:
        """From passwd(5) and group(5)."""
        found = []
        for file, group in (("/etc/passwd", False), ("/etc/group", True)):
            for line in self._text(file).splitlines():
                fields = line.split(":")
                if len(fields) > 2 and fields[0] and fields[2].isdigit():
                    found.append(Number(name=fields[0], number=fields[2], group=group))
        return found

    def _range(self) -> tuple[int, int]:
        text = self._text("/etc/login.defs")
        found = {k: int(v) for k, v in re.findall(r"^\s*(UID_MIN|UID_MAX)\s+(\d+)", text, re.MULTILINE)}
        return found.get("UID_MIN", 1000), found.get("UID_MAX", 60000)

    def _text(self, text: str) -> str:
        """What stands in a file of the system's; "" if there is none.

        Raises:
            NoSuchWorkstation: it cannot be read: nobody can tell then which accounts there are.
        """
        path = self._files.path(text)
        assert path is not None
        try:
            return self._files.read(self._files.resolve(path).path).decode("utf-8", "surrogateescape")
        except FileNotFoundError:
            return ""
        except OSError as error:
            what = f"which accounts there are cannot be told: {error.strerror}"
            raise NoSuchWorkstation(what, where=text, remedy=remedy_for(error, "try again", "look at that file")) from None

    def folder(self, account: Account, variable: str) -> WPath | None:
        if variable in BASE:
            return account.home.child(*BASE[variable])
        if variable not in USER_DIRS:
            return None
        setting, default = USER_DIRS[variable]
        text = self._settings(account).get(setting)
        if text is None:
            return account.home.child(default)
        if text.rstrip("/") == "$HOME":
            return None  # this account has none: xdg-user-dirs-update(1)
        if text.startswith("$HOME/"):
            return account.home.child(*(self._files.style.relative(text[6:]) or ()))
        path = self._files.path(text)
        if path is None or not path.parts:
            raise NotTold(f"{setting} of {account.name} is set to {text!r}, which is no place here", remedy="correct it, then try again")
        return path

    def _settings(self, account: Account) -> dict[str, str]:
        if account.id not in self._user_dirs:
            try:
                raw = self._files.read(account.home.child(".config", "user-dirs.dirs"))
            except FileNotFoundError:
                raw = b""
            except OSError as error:
                what = f"where the folders of {account.name} are cannot be told: {error.strerror}"
                raise NotTold(what, where=str(error.filename or ""), remedy=remedy_for(error, "try again")) from None
            found = re.findall(r'^(XDG_\w+_DIR)="([^"]*)"', raw.decode("utf-8", "surrogateescape"), re.MULTILINE)
            self._user_dirs[account.id] = dict(found)
        return self._user_dirs[account.id]


class LinuxVariables:
    def __init__(self, files: FileTree) -> None:
        self._files = files

    def folders(self, variable: str) -> list[WPath]:
        found = [self._files.path(text) for text in SYSTEM.get(variable, ())]
        return [p for p in found if p is not None]
