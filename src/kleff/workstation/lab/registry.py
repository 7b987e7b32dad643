"""The lowest layer of a lab's registry: hives kept as `.reg` text, one file for the machine and one per account."""

from __future__ import annotations

import errno
import os
import weakref
from pathlib import Path

from kleff.closing import at_the_end
from kleff.errors import UsageError
from kleff.procedure.globs import fold
from kleff.registry.large import parse_large
from kleff.registry.regfile import RegKey, decode, encode, format_hive
from kleff.registry.registry import NoHive
from kleff.registry.trees import TreeRegistry
from kleff.workstation.lab.lab import Lab, times_kept
from kleff.workstation.this_machine import host
from kleff.workstation.windows.profiles import PROFILES, SID


class LabRegistry(TreeRegistry):
    """Implements `RegistryApi`. Changes hold the lab's lock until `flush`, which commits them.

    Args:
        loads: as on a real Windows, the settings of an account that is not signed in are loaded to be looked at: who signs in meanwhile
            gets a profile that is thrown away.
    """

    def __init__(self, lab: Lab, loads: bool = False) -> None:
        self._lab = lab
        self._loads = loads
        self._held: dict[str, Path | None] = {}  # by SID
        if loads:
            lab.let_go_of_left()
            own = weakref.WeakMethod(self.release)
            at_the_end(lambda: "".join(release() if (release := own()) else []))
        self._folder = lab.folder / "registry"
        self._cache: dict[Path, tuple[tuple[int, int, int], RegKey]] = {}
        self._dirty: dict[Path, str] = {}
        self._machine = self._folder / "HKLM.reg"
        self._accounts: dict[str, Path] = {}  # hives by their first name, folded

    def hives(self) -> list[str]:
        try:
            return sorted(name.removesuffix(".reg") for name in os.listdir(self._folder / "users") if name.endswith(".reg"))
        except FileNotFoundError:
            return []

    def _file(self, hive: str, path: str) -> Path:
        if hive == "HKLM":
            return self._machine
        sid = fold(path.partition("\\")[0])
        if sid not in self._accounts:
            self._accounts = {fold(s): self._folder / "users" / f"{s}.reg" for s in self.hives()}
        return self._accounts.get(sid, self._folder / "users" / "-.reg")

    def _hold(self, sid: str) -> None:
        if sid in self._held or sid not in self._accounts:
            return
        self._held[sid] = None  # asked once for as long as nothing is let go of
        if SID.match(sid) and self.account_of(sid) not in self._lab.sessions():
            self._held[sid] = self._lab.hold(sid)

    def sign_in(self, name: str) -> bool:
        """See `Lab.sign_in`.

        Raises:
            UsageError: there is no such account.
        """
        sid = next((fold(sid) for sid in self.hives() if fold(self.account_of(sid)) == fold(name)), None)
        if sid is None:
            raise UsageError(f"{self._lab.file.name} has no account {name!r}", remedy="kleff lab show  tells which it has")
        return self._lab.sign_in(name, sid)

    def account_of(self, sid: str) -> str:
        """The name of an account's profile folder."""
        return self.profile_of(sid).rpartition("\\")[2]

    def profile_of(self, sid: str) -> str:
        """An account's profile folder; "" if it has none."""
        values = self.values("HKLM", f"{PROFILES}\\{sid}") or []
        return next((value.text for value in values if value.name == "ProfileImagePath"), "")

    def release(self) -> list[str]:
        for mark in self._held.values():
            if mark is not None and mark.exists():  # else the lab itself is gone since
                with times_kept(mark.parent):
                    mark.unlink(missing_ok=True)
        self._held.clear()
        return []

    def load(self, hive: str, path: str) -> RegKey | None:
        file = self._file(hive, path)
        if self._loads and hive == "HKU":
            self._hold(fold(path.partition("\\")[0]))
        if file in self._dirty:
            return self._cache[file][1]
        try:
            status = os.stat(file)
        except FileNotFoundError:
            self._must_not_be_there(file, fold(path.partition("\\")[0]))
            return None
        stamp = (status.st_mtime_ns, status.st_ino, status.st_size)
        cached = self._cache.get(file)
        if cached is None or cached[0] != stamp:
            cached = (stamp, parse_large(decode(file.read_bytes(), str(file)), str(file)))
            self._cache[file] = cached
        return cached[1]

    def _must_not_be_there(self, file: Path, sid: str) -> None:
        """Whose profile is there has settings; if they are not, nothing can be said of them, as on a Windows (see `Hives`).

        Raises:
            NoHive: such settings are missing.
        """
        if file == self._machine:
            raise NoHive("the workstation's registry", file)
        profile = self.profile_of(sid) if SID.match(sid.upper()) else ""
        if profile and (self._lab.folder / "files" / profile[0] / profile[3:].replace("\\", "/")).is_dir():
            raise NoHive(f"the settings of {profile.rpartition(chr(92))[2]}", profile)

    def change(self, hive: str, path: str) -> RegKey:
        file = self._file(hive, path)
        if file not in self._dirty:
            if not self._dirty:
                self._lab.acquire()
            if self.load(hive, path) is None:
                if not self._dirty:
                    self._lab.release()
                raise FileNotFoundError(errno.ENOENT, "no such hive", path)
            self._dirty[file] = hive
        root = self.load(hive, path)
        assert root is not None
        return root

    def flush(self) -> None:
        if not self._dirty:
            return
        try:
            for file, hive in self._dirty.items():
                top = self._cache[file][1].find([hive])
                host().write_atomic(file, encode(format_hive(hive, top or RegKey(hive))), 0o644)
                del self._cache[file]
        finally:
            self._dirty.clear()
            self._lab.release()
