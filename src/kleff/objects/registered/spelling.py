"""What a text that programs have registered on Windows means as a path, in every spelling that the system takes.

Sources: "Naming Files, Paths, and Namespaces" and "File path formats" (Windows documentation): either separator, doubled ones, `.`, `..`,
blanks and dots at the end of a name, `\\\\?\\`, `\\??\\`, letter case, short names; `file:` addresses, as a `CodeBase` has them (RFC 8089);
variables of the machine and of the account. A name without a folder is looked for where the system's own libraries lie.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from contextlib import suppress
from functools import cached_property
from urllib.parse import unquote

from kleff.errors import LinkOnTheWay, NotTold
from kleff.objects.base.here import Here
from kleff.procedure.globs import fold
from kleff.registry.registry import KeyRef
from kleff.workstation.files.folders import real_folder
from kleff.workstation.paths import WPath
from kleff.workstation.things import Account

# A path within a text, with what may stand before it and what belongs to its last name.
IN_TEXT = re.compile(
    r'(?:file:/*)?(?:\\\\[?.]\\|\\\?\?\\)?(?:[A-Za-z]:|%[^%"|<>]+%)[\\/][^"|<>*?]*|\\SystemRoot\\[^"|<>*?]*', re.IGNORECASE
)
PROGRAM = re.compile(r"\.(?:exe|dll|ocx|com|cmd|bat|scr|cpl|sys|msc|tlb|olb|ax)(?=[ ,\t])", re.IGNORECASE)  # arguments may follow
PREFIX = re.compile(r"(?:\\\\[?.]\\|\\\?\?\\)")
ENVIRONMENT = r"HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\Environment"
FOR_SYSTEM = {
    "systemroot": "windows", "windir": "windows", "systemdrive": "env.SystemDrive", "programfiles": "env.ProgramFiles",
    "programw6432": "env.ProgramFiles", "programfiles(x86)": "env.ProgramFiles(x86)", "commonprogramfiles": "env.CommonProgramFiles",
    "commonprogramw6432": "env.CommonProgramFiles", "commonprogramfiles(x86)": "env.CommonProgramFiles(x86)", "programdata": "program_data",
    "allusersprofile": "program_data", "public": "public",
}  # fmt: skip
FOR_ACCOUNT = {
    "userprofile": "user.home", "appdata": "user.roaming", "localappdata": "user.local", "temp": "user.temp", "tmp": "user.temp",
}  # fmt: skip


class Spelling:
    """Args: account: whose registered texts these are, by name or id; beside: variables that are set in the same place."""

    def __init__(self, here: Here, account: str = "", beside: Mapping[str, str] | None = None) -> None:
        self._here = here
        self._account = account
        self._folders: dict[tuple[str, tuple[str, ...]], WPath] = {}
        self._beside = {fold(name): text for name, text in (beside or {}).items()}

    @cached_property
    def _accounts(self) -> list[Account]:
        return [account for account in self._here.workstation.accounts.all() if self._account in (account.name, account.id)]

    def in_text(self, text: str) -> Iterator[WPath]:
        """The paths in a text, such as a command line: each as it stands, and without the arguments that may stand behind it."""
        for found in IN_TEXT.findall(text.replace("\0", "")):
            yield from self.path(found)
            for end in PROGRAM.finditer(found):
                yield from self.path(found[: end.end()])

    def path(self, text: str) -> Iterator[WPath]:
        """What a text means that is a path as a whole, and where that leads by links."""
        path = self._path(text)
        if path is None:
            return
        yield path
        folder = self._real(path.parent)
        if folder.key != path.parent.key:
            yield folder.child(path.name)

    def _real(self, folder: WPath) -> WPath:
        """Where a folder lies, its links followed; thousands of texts lead into a few."""
        if folder.key not in self._folders:
            self._folders[folder.key] = folder
            with suppress(OSError, LinkOnTheWay):  # by which it cannot be reached; as it is written it is known
                self._folders[folder.key] = real_folder(self._here.workstation.files, folder)
        return self._folders[folder.key]

    def _path(self, text: str) -> WPath | None:
        text = _plain(text)
        for _ in range(4):  # a variable may stand for another
            text, before = self._put_in(text), text
            if text == before:
                break
        if re.fullmatch(r"[^\\/:%]+\.\w+", text):
            text = f"%SystemRoot%\\System32\\{text}"
            text = self._put_in(text)
        if not re.match(r"[A-Za-z]:\\", text):
            return None  # of another machine, or a place that nobody knows
        names: list[str] = []
        for name in text[2:].split("\\"):
            name = name if name in (".", "..") else name.rstrip(" .")
            names = names[:-1] if name == ".." else names if name in ("", ".") else [*names, name]
        return self._here.workstation.files.path(text[:2] + "\\" + "\\".join(names))

    def _put_in(self, text: str) -> str:
        return re.sub(r"%([^%]+)%", lambda found: self._value(fold(found[1])) or found[0], text)

    def _value(self, name: str) -> str:
        if name in self._beside:
            return self._beside[name]
        with suppress(NotTold):  # then it leads nowhere for the system either
            name = name.lower()
            if name in FOR_SYSTEM:
                return next((str(path).rstrip("\\") for path in self._here.workstation.variables.folders(FOR_SYSTEM[name])), "")
            for account in self._accounts if self._account else ():
                if found := self._of_account(account, name):
                    return found
            return self._registered(ENVIRONMENT, name, "")
        return ""

    def _of_account(self, account: Account, name: str) -> str:
        if name in FOR_ACCOUNT:
            folder = self._here.workstation.accounts.folder(account, FOR_ACCOUNT[name])
            return str(folder) if folder is not None else ""
        return self._registered("HKCU\\Environment", name, account.id)

    def _registered(self, key: str, name: str, sid: str) -> str:
        registry = self._here.workstation.registry
        keys: list[KeyRef] = registry.canonical(key, sid)[:1] if registry is not None else []
        return next((registry.text(one, name) for one in keys if registry is not None), "")


def _plain(text: str) -> str:
    """Without quotes, marks of a namespace and a scheme, with the system's own separator."""
    text = text.replace("\0", "").strip(" \t\r\n\"'")
    if text[:5].lower() == "file:":
        text = unquote(text[5:]).lstrip("/\\")
    text = PREFIX.sub("", text.replace("/", "\\"), count=1) if text[:1] in "\\/" else text.replace("/", "\\")
    return re.sub(r"^\\SystemRoot(?=\\)", lambda _: "%SystemRoot%", text, flags=re.IGNORECASE)
