"""What a Linux workstation is busy with: power, sessions, a package manager at work, a restart that is pending."""

from __future__ import annotations

import fcntl
import os
import struct
from pathlib import Path

from kleff.workstation.things import Power

SUPPLIES = Path("/sys/class/power_supply")  # Documentation/ABI/testing/sysfs-class-power
# The locks of dpkg and of what works on top of it (apt's own front ends).
LOCKS = ("var/lib/dpkg/lock-frontend", "var/lib/dpkg/lock", "var/lib/apt/lists/lock", "var/cache/apt/archives/lock")
FLOCK = struct.Struct("hhqqi")  # struct flock, fcntl(2)


class LinuxReadiness:
    """Args: root: of the tree; runs: False for one that is not running."""

    def __init__(self, root: Path, runs: bool) -> None:
        self._root = root
        self._runs = runs

    def power(self) -> Power:
        mains, percent, known = False, None, False
        for supply in sorted(SUPPLIES.iterdir()) if SUPPLIES.is_dir() else []:
            kind = _line(supply / "type")
            if kind == "Mains" or kind == "USB":
                known, mains = True, mains or _line(supply / "online") == "1"
            elif kind == "Battery" and _line(supply / "capacity").isdigit() and _line(supply / "scope") != "Device":
                known, percent = True, int(_line(supply / "capacity"))
        return Power(mains or not known, percent)  # a machine without any battery is on mains

    def restart_pending(self) -> list[str]:
        needed = self._root / "run/reboot-required"
        if not needed.exists():
            return []
        packages = _line(needed.with_name("reboot-required.pkgs"))
        return [f"the system asks for one{f' ({packages} ...)' if packages else ''}"]

    def at_work(self) -> list[str]:
        found = []
        for name in LOCKS:
            pid = _holder(self._root / name)
            if pid:
                found.append(f"{_line(Path(f'/proc/{pid}/comm')) or 'a program'} (number {pid}) holds /{name}")
        return found

    def signed_in(self) -> list[str]:
        import psutil

        own = {os.environ.get("SUDO_USER", ""), os.environ.get("USER", ""), os.environ.get("LOGNAME", "")}
        return sorted({user.name for user in psutil.users()} - own) if self._runs else []

    def sync_roots(self) -> list[tuple[str, str]]:
        return []  # there is no place where sync programs say so to the system

    def version(self) -> str:
        try:
            text = (self._root / "etc/os-release").read_text("utf-8", "replace")
        except OSError:
            return ""
        return next((line[11:].strip('"') for line in text.splitlines() if line.startswith("VERSION_ID=")), "")


def _holder(lock: Path) -> int:
    """The process that holds a lock on a file, or 0; the lock is only asked about, not taken."""
    try:
        fd = os.open(lock, os.O_RDWR | os.O_NOFOLLOW | os.O_CLOEXEC)
    except OSError:
        return 0
    try:
        answer = fcntl.fcntl(fd, fcntl.F_GETLK, FLOCK.pack(fcntl.F_WRLCK, os.SEEK_SET, 0, 0, 0))
        kind, _, _, _, pid = FLOCK.unpack(answer[: FLOCK.size])
        return pid if kind != fcntl.F_UNLCK else 0
    except OSError:
        return 0
    finally:
        os.close(fd)


def _line(file: Path) -> str:
    try:
        return file.read_text("utf-8", "replace").split("\n")[0].strip()
    except OSError:
        return ""
