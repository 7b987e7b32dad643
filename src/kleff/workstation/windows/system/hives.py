"""The hives of accounts: those of people who are signed in are there; the others' are loaded when they are asked for, and let go of soon.

Who signs in while a hive is loaded so gets a profile that is thrown away when that session ends: nothing is held over a question, a program
that is run, or a restart, and before one is loaded the system is asked whether the account is signed in.

A hive is loaded under a name that tells which process's doing it was, so that one that a killed run has left is found and unloaded by the
next, and one with which another Kleff is at work is left alone.
"""

from __future__ import annotations

import contextlib
import re
import time
from collections.abc import Callable, Iterator

from kleff.procedure.globs import fold
from kleff.registry.registry import NoHive
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import narrow, number
from kleff.workstation.windows.profiles import PROFILES, SID
from kleff.workstation.windows.system.moments import running_since
from kleff.workstation.windows.system.rights import BACKUP, RESTORE, switch_on

OURS = "kleff-"
LEFT = re.compile(r"kleff-(\d+)-(\d+)-")  # number and start of the process that has loaded it
CLASSES = "_Classes"  # of an account whose classes have a hive of their own
CLASSES_BELOW = ("SOFTWARE", "CLASSES")
OF_ACCOUNT, OF_CLASSES = r"NTUSER.DAT", r"AppData\Local\Microsoft\Windows\UsrClass.dat"
TRIES, PAUSE = 10, 0.2  # others, such as a search for harm, may look into a hive for a moment


class Hives:
    """Args: expand: gives environment variables in a path what they stand for; owner: the process whose hives these are, else this one."""

    def __init__(self, api: Api, expand: Callable[[str], str], owner: tuple[int, int] | None = None) -> None:
        self._api = api
        self._expand = expand
        self._ours = "{}{}-{}-".format(OURS, *(owner or self._own()))
        self._loaded: set[str] = set()
        names = self._names()
        self._there = {fold(name) for name in names}
        for name in names:
            if (left := LEFT.match(name)) and int(running_since(api, int(left[1]))) != int(left[2]):  # of a run that was killed
                switch_on(self._api, BACKUP, RESTORE)
                self._unload(name)

    def sids(self) -> list[str]:
        """The accounts whose settings can be reached."""
        there = {fold(name): name for name in self._names() if SID.match(name) or name == ".DEFAULT"}
        return sorted(there.values()) + [sid for sid in self._profiles() if fold(sid) not in there]

    def place(self, hive: str, path: str) -> tuple[int, str]:
        """Where a key really lies: the root's handle, and the path below it. The hive of an account that is not signed in is loaded.

        Raises:
            Failed, NoHive: it cannot be loaded, or is not where it has to be.
        """
        if hive == "HKLM":
            return c.HKEY_LOCAL_MACHINE, path
        sid, _, below = path.partition("\\")
        if not SID.match(sid):
            return c.HKEY_USERS, path
        parts = [part for part in below.split("\\") if part]
        of_classes = tuple(fold(part) for part in parts[:2]) == CLASSES_BELOW
        if of_classes and (name := self._name(sid, CLASSES, OF_CLASSES)):
            return c.HKEY_USERS, "\\".join([name, *parts[2:]])  # where the account's own hive has a link only
        return c.HKEY_USERS, "\\".join([self._name(sid, "", OF_ACCOUNT) or sid, *parts])

    def _name(self, sid: str, ending: str, file: str) -> str:
        """Under which name an account's hive is there, the system's or ours; "" if there is none."""
        if not self._is_there(sid):
            return f"{self._ours}{sid}{ending}" if self._load(sid, ending, file) else ""
        return f"{sid}{ending}" if fold(f"{sid}{ending}") in self._there else ""

    def release(self) -> list[str]:
        """Unload what was loaded; the accounts of which something stays loaded, as somebody else has it open."""
        self._loaded = {name for name in sorted(self._loaded) if not self._unload(name)}
        self._there = set()
        return sorted({name.removeprefix(self._ours).removesuffix(CLASSES) for name in self._loaded})

    def close(self) -> str:
        """The same in the end; a line for people if something stays loaded."""
        left = [self._profiles().get(sid, sid) for sid in self.release()]
        what = f"the settings of {', '.join(left)} could not be unloaded: whoever signs in there now gets a profile that is thrown away"
        return f"{what}\n  What to do: restart the workstation before anybody does" if left else ""

    # -- loading ----------------------------------------------------------------------------------------------

    def _load(self, sid: str, ending: str, file: str) -> bool:
        """Whether an account's file is loaded; False if there is none, nor has to be.

        Raises:
            NoHive: the account's profile is there, without its settings. Failed: they cannot be loaded.
        """
        name = f"{self._ours}{sid}{ending}"
        if name in self._loaded:
            return True
        profile = self._profiles().get(sid, "")
        if not profile:
            return False
        if not self._loaded:
            switch_on(self._api, BACKUP, RESTORE)
        code = self._api.code("RegLoadKeyW", c.HKEY_USERS, name, f"{profile}\\{file}")
        if code == c.ERROR_FILE_NOT_FOUND and file == OF_ACCOUNT:  # as its folder is there; else the path is not found
            raise NoHive(f"the settings of {profile}", f"{profile}\\{file}")
        if code in (c.ERROR_FILE_NOT_FOUND, c.ERROR_PATH_NOT_FOUND):
            return False
        if code:
            raise Failed("RegLoadKeyW", code)
        self._loaded.add(name)
        return True

    def _unload(self, name: str) -> bool:
        """Whether it is."""
        for _ in range(TRIES):
            code = self._api.code("RegUnLoadKeyW", c.HKEY_USERS, name)
            if code in (0, c.ERROR_FILE_NOT_FOUND, c.ERROR_INVALID_PARAMETER):  # it is not there any more
                return True
            time.sleep(PAUSE)
        return False

    def _own(self) -> tuple[int, int]:
        """Number and start of this process."""
        pid = self._api.GetCurrentProcessId()
        return pid, int(running_since(self._api, pid))

    # -- looking ----------------------------------------------------------------------------------------------

    def _is_there(self, sid: str) -> bool:
        """Whether the system itself has loaded it. Somebody may sign in at any time; once there, a hive is asked for and not looked for."""
        if f"{self._ours}{sid}" not in self._loaded and fold(sid) not in self._there:
            self._there = {fold(name) for name in self._names()}
        return fold(sid) in self._there

    def _names(self) -> list[str]:
        """The hives that are loaded now."""
        return self._below(c.HKEY_USERS)

    def _profiles(self) -> dict[str, str]:
        """The profile folder of each account that has one."""
        with self._open(c.HKEY_LOCAL_MACHINE, PROFILES) as key:
            return {sid: path for sid in self._below(key) if SID.match(sid) and (path := self._folder(sid))}

    def _folder(self, sid: str) -> str:
        with contextlib.suppress(FileNotFoundError), self._open(c.HKEY_LOCAL_MACHINE, f"{PROFILES}\\{sid}") as key:
            data, size = bytearray(1024), bytearray((1024).to_bytes(4, "little"))
            self._api.RegQueryValueExW(key, "ProfileImagePath", None, bytearray(4), data, size)
            return self._expand(narrow(data[: number(size)]))
        return ""

    def _below(self, key: int) -> list[str]:
        names: list[str] = []
        while True:
            name, size = bytearray(512), bytearray((256).to_bytes(4, "little"))
            code = self._api.code("RegEnumKeyExW", key, len(names), name, size, None, None, None, None)
            if code == c.ERROR_NO_MORE_ITEMS:
                return names
            if code:
                raise Failed("RegEnumKeyExW", code)
            names.append(narrow(name))

    @contextlib.contextmanager
    def _open(self, root: int, path: str) -> Iterator[int]:
        handle = bytearray(8)
        self._api.RegOpenKeyExW(root, path, 0, c.KEY_READ | c.KEY_WOW64_64KEY, handle)
        try:
            yield number(handle)
        finally:
            self._api.RegCloseKey(number(handle))
