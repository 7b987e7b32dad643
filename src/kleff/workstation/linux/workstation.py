"""This machine, or a Linux tree that is not running, as a workstation."""

from __future__ import annotations

import os
import platform
import struct
from pathlib import Path

from kleff.errors import NoSuchWorkstation
from kleff.procedure.globs import POSIX
from kleff.workstation.facets import Workstation
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.linux.account_records import AccountRecords
from kleff.workstation.linux.accounts import LinuxVariables, PasswdAccounts
from kleff.workstation.linux.after_restart import SystemdAfterRestart
from kleff.workstation.linux.boots import LinuxBoots
from kleff.workstation.linux.commands import LinuxCommands
from kleff.workstation.linux.flatpaks import open_flatpaks
from kleff.workstation.linux.folders import program_folders
from kleff.workstation.linux.packages.alternatives import LinuxAlternatives
from kleff.workstation.linux.packages.calling import ENVIRONMENT
from kleff.workstation.linux.packages.dpkg import Dpkg
from kleff.workstation.linux.processes import LinuxProcesses
from kleff.workstation.linux.readiness import LinuxReadiness
from kleff.workstation.linux.services import SYSTEMD_RUNS, open_services
from kleff.workstation.linux.units import SystemdUnits
from kleff.workstation.posix.calls import boot_id, locked_file, network_devices
from kleff.workstation.trees import open_tree

PATIENCE = 15  # seconds to wait for the lock of the account files, as lckpwdf(3) does


def open_this() -> Workstation:
    """The machine Kleff runs on."""
    files = open_tree(POSIX, {"": Path("/")})
    admin = os.geteuid() == 0
    machine = _first_line(Path("/etc/machine-id")) or platform.node()
    dpkg = Path("/var/lib/dpkg").is_dir()
    return Workstation(
        spec="this",
        name=platform.node(),
        system="linux",
        style=POSIX,
        identity=f"this {machine}",
        boot=boot_id(),
        state=Path("/var/lib/kleff") if admin else user_state(),
        admin=admin,
        bits=struct.calcsize("P") * 8,
        description=_title(Path("/")),
        files=files,
        accounts=PasswdAccounts(files),
        variables=LinuxVariables(files),
        services=open_services(),
        processes=LinuxProcesses(),
        packages=Dpkg(files, None) if dpkg else None,
        alternatives=LinuxAlternatives(None, ENVIRONMENT) if dpkg else None,
        flatpaks=open_flatpaks(files),
        commands=(commands := LinuxCommands(files, runs=True)),
        scripts=commands,
        program_folders=program_folders(files),
        readiness=LinuxReadiness(Path("/"), runs=True),
        records=_records(files),
        units=SystemdUnits() if SYSTEMD_RUNS.is_dir() else None,
        after_restart=SystemdAfterRestart() if SYSTEMD_RUNS.is_dir() else None,
        boots=LinuxBoots() if SYSTEMD_RUNS.is_dir() else None,
    )


def open_root(folder: Path) -> Workstation:
    """A Linux tree in a folder; links resolve inside it.

    Raises:
        NoSuchWorkstation: no such folder, or no Linux tree.
    """
    folder = Path(os.path.realpath(folder))
    where = f"root:{folder}"
    if not folder.is_dir():
        raise NoSuchWorkstation("there is no such folder", where=where, remedy="check the path")
    if not (folder / "etc" / "passwd").exists():
        raise NoSuchWorkstation(
            "not a Linux tree: etc/passwd is missing", where=where, remedy="name the folder that holds etc, usr and var"
        )
    if folder == Path("/"):
        raise NoSuchWorkstation("that is this machine", where=where, remedy="use  --on this")
    files = open_tree(POSIX, {"": folder})
    status = folder.stat()
    state = files.path("/var/lib/kleff")
    assert state is not None
    dpkg = (folder / "var/lib/dpkg").is_dir()  # whether it can be asked is told by who asks
    return Workstation(
        spec=where,
        name=_first_line(folder / "etc/hostname") or folder.name,
        system="linux",
        style=POSIX,
        identity=f"root {status.st_dev}:{status.st_ino} {_first_line(folder / 'etc/machine-id')}",
        boot="",
        state=Path(files.host(files.resolve(state).path)),
        admin=os.geteuid() == 0,
        bits=64 if (folder / "lib64").exists() or (folder / "usr/lib64").exists() else struct.calcsize("P") * 8,
        description=_title(folder) + ", not running",
        files=files,
        accounts=PasswdAccounts(files),
        variables=LinuxVariables(files),
        packages=Dpkg(files, folder) if dpkg else None,
        alternatives=LinuxAlternatives(folder, ENVIRONMENT) if dpkg else None,
        flatpaks=open_flatpaks(files),
        commands=LinuxCommands(files, runs=False),
        program_folders=program_folders(files),
        readiness=LinuxReadiness(folder, runs=False),
        records=_records(files),
        needs_admin=True,
    )


def _records(files: FileTree) -> AccountRecords:
    lock = files.path("/etc/.pwd.lock")
    assert lock is not None
    return AccountRecords(files, lambda: locked_file(Path(files.host(lock)), PATIENCE), network_devices)


def user_state() -> Path:
    """Where an ordinary account keeps state (XDG Base Directory Specification)."""
    return Path(os.environ.get("XDG_STATE_HOME") or Path.home() / ".local/state") / "kleff"


def _first_line(file: Path) -> str:
    try:
        return file.read_text("utf-8", "replace").split("\n")[0].strip()
    except OSError:
        return ""


def _title(root: Path) -> str:
    try:
        text = (root / "etc/os-release").read_text("utf-8", "replace")
    except OSError:
        return "Linux"
    names = [line[12:].strip('"') for line in text.splitlines() if line.startswith("PRETTY_NAME=")]
    return names[0] if names else "Linux"
