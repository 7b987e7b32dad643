"""The places that are the system's own, each with its rule. A place in this table is never touched itself.

NEVER: nothing below it either, unless a deeper place in the table allows it.
NAMED: what lies in it may be named by its whole literal name (and is then free below).
FILES: only single files directly in it, named by at least four literal characters.
"""

from __future__ import annotations

from dataclasses import dataclass

from kleff.errors import NoSuchWorkstation
from kleff.workstation.linux.accounts import USER_DIRS
from kleff.workstation.windows.profiles import OWN_FOLDERS

NEVER, NAMED, FILES = "never", "named", "files"

LINUX: dict[str, str] = {
    "/": NAMED,
    "/bin": FILES,
    "/boot": NEVER,
    "/dev": NEVER,
    "/etc": NAMED,
    "/etc/X11": NAMED,
    "/etc/alternatives": FILES,
    "/etc/apt": NEVER,
    "/etc/apt/sources.list.d": FILES,
    "/etc/apt/trusted.gpg.d": FILES,
    "/etc/cron.d": FILES,
    "/etc/cron.daily": FILES,
    "/etc/cron.hourly": FILES,
    "/etc/cron.monthly": FILES,
    "/etc/cron.weekly": FILES,
    "/etc/dbus-1": NEVER,
    "/etc/dbus-1/system.d": FILES,
    "/etc/default": FILES,
    "/etc/fstab": NEVER,
    "/etc/group": NEVER,
    "/etc/gshadow": NEVER,
    "/etc/hostname": NEVER,
    "/etc/hosts": NEVER,
    "/etc/init.d": FILES,
    "/etc/ld.so.conf.d": FILES,
    "/etc/login.defs": NEVER,
    "/etc/logrotate.d": FILES,
    "/etc/machine-id": NEVER,
    "/etc/modprobe.d": FILES,
    "/etc/network": NEVER,
    "/etc/pam.d": FILES,
    "/etc/passwd": NEVER,
    "/etc/profile": NEVER,
    "/etc/profile.d": FILES,
    "/etc/resolv.conf": NEVER,
    "/etc/security": NEVER,
    "/etc/shadow": NEVER,
    "/etc/skel": NAMED,
    "/etc/ssh": NEVER,
    "/etc/ssl": NEVER,
    "/etc/sudoers": NEVER,
    "/etc/sudoers.d": FILES,
    "/etc/sysctl.d": FILES,
    "/etc/systemd": NEVER,
    "/etc/systemd/system": NAMED,
    "/etc/systemd/user": NAMED,
    "/etc/tmpfiles.d": FILES,
    "/etc/udev": NEVER,
    "/etc/udev/rules.d": FILES,
    "/etc/xdg": NAMED,
    "/etc/xdg/autostart": FILES,
    "/home": NEVER,
    "/lib": NAMED,
    "/lib32": NAMED,
    "/lib64": NAMED,
    "/lost+found": NEVER,
    "/media": NEVER,
    "/mnt": NEVER,
    "/opt": NAMED,
    "/proc": NEVER,
    "/run": NAMED,
    "/run/systemd": NEVER,
    "/run/user": NEVER,
    "/sbin": FILES,
    "/srv": NAMED,
    "/sys": NEVER,
    "/tmp": NAMED,
    "/usr": NEVER,
    "/usr/bin": FILES,
    "/usr/games": FILES,
    "/usr/include": NAMED,
    "/usr/lib": NAMED,
    "/usr/lib/systemd": NEVER,
    "/usr/lib/systemd/system": FILES,
    "/usr/lib/systemd/user": FILES,
    "/usr/lib/udev": NEVER,
    "/usr/lib/udev/rules.d": FILES,
    "/usr/lib32": NAMED,
    "/usr/lib64": NAMED,
    "/usr/libexec": NAMED,
    "/usr/local": NAMED,
    "/usr/local/bin": FILES,
    "/usr/local/etc": NAMED,
    "/usr/local/lib": NAMED,
    "/usr/local/sbin": FILES,
    "/usr/local/share": NAMED,
    "/usr/sbin": FILES,
    "/usr/share": NAMED,
    "/usr/share/applications": FILES,
    "/usr/share/doc": NAMED,
    "/usr/share/icons": NEVER,
    "/usr/share/man": NEVER,
    "/usr/share/pixmaps": FILES,
    "/usr/src": NAMED,
    "/var": NEVER,
    "/var/backups": FILES,
    "/var/cache": NAMED,
    "/var/cache/apt": NEVER,
    "/var/crash": FILES,
    "/var/lib": NAMED,
    "/var/lib/apt": NEVER,
    "/var/lib/dpkg": NEVER,
    "/var/lib/kleff": NEVER,
    "/var/lib/systemd": NEVER,
    "/var/local": NAMED,
    "/var/log": NAMED,
    "/var/log/journal": NEVER,
    "/var/mail": NAMED,
    "/var/opt": NAMED,
    "/var/spool": NAMED,
    "/var/spool/cron": NEVER,
    "/var/tmp": NAMED,
    "/var/www": NAMED,
}

WINDOWS: dict[str, str] = {
    r"{drive}": NAMED,
    r"{drive}\$Recycle.Bin": NEVER,
    r"{drive}\Boot": NEVER,
    r"{drive}\Program Files": NAMED,
    r"{drive}\Program Files\Common Files": NAMED,
    r"{drive}\Program Files\WindowsApps": NEVER,
    r"{drive}\Program Files (x86)": NAMED,
    r"{drive}\Program Files (x86)\Common Files": NAMED,
    r"{drive}\ProgramData": NAMED,
    r"{drive}\ProgramData\Kleff": NEVER,
    r"{drive}\ProgramData\Microsoft": NEVER,
    r"{drive}\ProgramData\Microsoft\Windows\Start Menu\Programs": NAMED,
    r"{drive}\ProgramData\Microsoft\Windows\Start Menu\Programs\StartUp": FILES,
    r"{drive}\Recovery": NEVER,
    r"{drive}\System Volume Information": NEVER,
    r"{drive}\Users": NEVER,
    r"{drive}\Users\Public": NAMED,
    r"{drive}\Users\Public\Desktop": FILES,
    r"{drive}\Windows": NEVER,
    r"{drive}\Windows\Prefetch": FILES,
    r"{drive}\Windows\System32": FILES,
    r"{drive}\Windows\System32\config": NEVER,
    r"{drive}\Windows\System32\drivers": FILES,
    r"{drive}\Windows\System32\drivers\etc": NEVER,
    r"{drive}\Windows\System32\spool\drivers": NEVER,
    r"{drive}\Windows\System32\Tasks": NAMED,
    r"{drive}\Windows\SysWOW64": FILES,
    r"{drive}\Windows\Temp": NAMED,
}

# Below a home: what holds other programs' things too.
HOME_LINUX: dict[str, str] = {
    "": NAMED,
    ".cache": NAMED,
    ".config": NAMED,
    ".config/autostart": FILES,
    ".config/systemd": NEVER,
    ".config/systemd/user": NAMED,
    ".gnupg": NEVER,
    ".local": NEVER,
    ".local/bin": FILES,
    ".local/lib": NAMED,
    ".local/share": NAMED,
    ".local/share/applications": FILES,
    ".local/share/Trash": NEVER,
    ".local/state": NAMED,
    ".ssh": NEVER,
}
HOME_WINDOWS: dict[str, str] = {
    "": NAMED,
    "AppData": NEVER,
    r"AppData\Local": NAMED,
    r"AppData\Local\Microsoft": NEVER,
    r"AppData\Local\Programs": NAMED,
    r"AppData\Local\Temp": NAMED,
    r"AppData\LocalLow": NAMED,
    r"AppData\Roaming": NAMED,
    r"AppData\Roaming\Microsoft": NEVER,
    r"AppData\Roaming\Microsoft\Windows\Start Menu\Programs": NAMED,
    r"AppData\Roaming\Microsoft\Windows\Start Menu\Programs\Startup": FILES,
}

# Registry keys; HKCU stands for each account's hive. VALUES: single values in it may be named.
VALUES = "values"
KEYS: dict[str, str] = {
    "HKLM\\BCD00000000": NEVER,
    "HKLM\\HARDWARE": NEVER,
    "HKLM\\SAM": NEVER,
    "HKLM\\SECURITY": NEVER,
    "HKLM\\SOFTWARE": NAMED,
    "HKLM\\SOFTWARE\\Classes": NAMED,
    "HKLM\\SOFTWARE\\Classes\\*": NAMED,
    "HKLM\\SOFTWARE\\Classes\\AppID": NAMED,
    "HKLM\\SOFTWARE\\Classes\\CLSID": NAMED,
    "HKLM\\SOFTWARE\\Classes\\Directory": NEVER,
    "HKLM\\SOFTWARE\\Classes\\Folder": NEVER,
    "HKLM\\SOFTWARE\\Classes\\Interface": NAMED,
    "HKLM\\SOFTWARE\\Classes\\TypeLib": NAMED,
    "HKLM\\SOFTWARE\\Classes\\exefile": NEVER,
    "HKLM\\SOFTWARE\\Clients": NEVER,
    "HKLM\\SOFTWARE\\Microsoft": NEVER,
    "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\App Paths": NAMED,
    "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Run": VALUES,
    "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\RunOnce": VALUES,
    "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\SharedDLLs": VALUES,
    "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Uninstall": NAMED,
    "HKLM\\SOFTWARE\\Policies": NAMED,
    "HKLM\\SOFTWARE\\Policies\\Microsoft": NEVER,
    "HKLM\\SYSTEM": NEVER,
    "HKLM\\SYSTEM\\{controlset}\\Services": NAMED,
    "HKLM\\SYSTEM\\{controlset}\\Services\\EventLog\\Application": NAMED,
    "HKCU": NEVER,
    "HKCU\\Environment": VALUES,
    "HKCU\\Software": NAMED,
    "HKCU\\Software\\Classes": NAMED,
    "HKCU\\Software\\Classes\\CLSID": NAMED,
    "HKCU\\Software\\Microsoft": NEVER,
    "HKCU\\Software\\Microsoft\\Windows\\CurrentVersion\\Run": VALUES,
    "HKCU\\Software\\Microsoft\\Windows\\CurrentVersion\\Uninstall": NAMED,
    "HKCU\\Software\\Policies": NEVER,
}


@dataclass(frozen=True)
class Table:
    """What is a system's own.

    Attributes:
        places: by its path, `{drive}` for each volume; home: by its path below an account's home.
        own_folders: variables that name an account's own folders, which are never removed themselves.
        merged: folders of the root that may be links to those of the same name in `/usr`.
    """

    places: dict[str, str]
    home: dict[str, str]
    own_folders: tuple[str, ...]
    merged: frozenset[str] = frozenset()


SYSTEMS = {
    "linux": Table(LINUX, HOME_LINUX, tuple(USER_DIRS), frozenset({"bin", "sbin", "lib", "lib32", "lib64"})),
    "windows": Table(WINDOWS, HOME_WINDOWS, OWN_FOLDERS),
}


def of_system(system: str) -> Table:
    """The table of a system.

    Raises:
        NoSuchWorkstation: there is none, so nothing may be touched there.
    """
    if system not in SYSTEMS:
        raise NoSuchWorkstation(f"what is a {system} system's own is not known to this Kleff", remedy="use a newer one")
    return SYSTEMS[system]
