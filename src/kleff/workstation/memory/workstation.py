"""Workstations in memory, of both systems: the code above the lowest layer is the one that real ones use."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from kleff.procedure.globs import POSIX, WINDOWS
from kleff.registry.registry import Registry
from kleff.workstation.facets import Workstation
from kleff.workstation.linux.account_records import AccountRecords
from kleff.workstation.linux.accounts import LinuxVariables, PasswdAccounts
from kleff.workstation.linux.folders import program_folders
from kleff.workstation.memory.facets import Behaviour, MemoryAccounts, MemoryCommands, MemoryControl, MemoryProcesses, MemoryServices
from kleff.workstation.memory.packages import MemoryPackages
from kleff.workstation.memory.registry import MemoryRegistry
from kleff.workstation.memory.tree import MemoryTree
from kleff.workstation.windows.assembling import LowestLayer, assemble, in_a_profile
from kleff.workstation.windows.drivers import SimulatedDrivers

NT = r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion"
CURRENT = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion"
CURRENT_32 = r"HKLM\SOFTWARE\WOW6432Node\Microsoft\Windows\CurrentVersion"
SERVICES = r"HKLM\SYSTEM\CurrentControlSet\Services"
SID = "S-1-5-21-1-2-3-"


@dataclass
class MemoryWindows:
    """A Windows workstation, with all that can be put on it.

    Args:
        state: a folder of this machine for the lock and the mark of an unfinished case.
    """

    state: Path
    accounts: Sequence[str] = ("mira", "tomas")
    boot: str = "1"
    files: MemoryTree = field(init=False)
    api: MemoryRegistry = field(init=False)
    control: MemoryControl = field(init=False)
    processes: MemoryProcesses = field(init=False)
    commands: MemoryCommands = field(init=False)
    made_accounts: MemoryAccounts = field(default_factory=MemoryAccounts)

    def __post_init__(self) -> None:
        self.files = MemoryTree(WINDOWS, ("C:", "D:"), in_a_profile, shorts=("C:",))
        self.api = MemoryRegistry()
        self.control = MemoryControl(Registry(self.api), self.files)
        self.processes, self.commands = MemoryProcesses(self.files), MemoryCommands(self.files)
        self.files.add(r"C:\Windows\System32\msiexec.exe", "MZ")
        for name in (r"C:\Program Files", r"C:\Program Files (x86)", r"C:\ProgramData", r"C:\Users"):
            self.files.add(name, folder=True)
        self.api.add(NT, SystemRoot=r"C:\Windows")
        self.api.add(CURRENT, **{"ProgramFilesDir": r"C:\Program Files", "ProgramFilesDir (x86)": r"C:\Program Files (x86)"})
        self.api.add(CURRENT, CommonFilesDir=r"C:\Program Files\Common Files")
        self.api.add(CURRENT_32, ProgramFilesDir=r"C:\Program Files (x86)", CommonFilesDir=r"C:\Program Files (x86)\Common Files")
        self.api.add(r"HKLM\SYSTEM\Select", Current=1)
        self.api.add(rf"{NT}\ProfileList", ProgramData=r"C:\ProgramData", Public=r"C:\Users\Public")
        for number, account in enumerate(self.accounts, 1001):
            self.api.add(rf"{NT}\ProfileList\{SID}{number}", ProfileImagePath=rf"C:\Users\{account}")
            self.api.add(rf"HKU\{SID}{number}\Software")
            self.files.add(rf"C:\Users\{account}\Documents", folder=True)

    def entry(self, key: str, name: str, version: str = "", location: str = "", uninstaller: str = "", publisher: str = "") -> None:
        """A registered product; the key is its own below `Uninstall`."""
        values = {"DisplayName": name, "DisplayVersion": version, "InstallLocation": location, "Publisher": publisher}
        quiet = {"QuietUninstallString": f'"{uninstaller}" /s'} if uninstaller else {}
        self.api.add(rf"{CURRENT}\Uninstall\{key}", **{k: v for k, v in {**values, **quiet}.items() if v})

    def service(self, name: str, program: str, start: int = 2) -> None:
        """A service that runs."""
        self.api.add(rf"HKLM\SYSTEM\ControlSet001\Services\{name}", ImagePath=program, Start=start, DisplayName=name)
        self.control.start(name)

    def behaves(self, program: str, behaviour: Behaviour) -> None:
        self.commands.add(program, behaviour)

    def open(self) -> Workstation:
        """The workstation."""
        layer = LowestLayer(
            api=self.api, files=self.files, services=lambda registry: self.control, tasks=self.control, machine=self.control,
            processes=self.processes, commands=lambda search, registered, release: self.commands,
            drivers=lambda registry, windows: SimulatedDrivers(registry, self.files, windows), local_accounts=self.made_accounts,
        )  # fmt: skip
        return assemble(
            layer, spec="memory:windows", name="POTTING-02", identity="memory windows", boot=self.boot, state=self.state, admin=True,
            bits=64, description="a workstation in memory", ground=Path("/nonexistent"),
        )  # fmt: skip


@dataclass
class MemoryLinux:
    """A Linux workstation, with all that can be put on it; as `MemoryWindows`."""

    state: Path
    accounts: Sequence[str] = ("mira", "tomas")
    boot: str = "1"
    files: MemoryTree = field(init=False)
    services: MemoryServices = field(init=False)
    packages: MemoryPackages = field(init=False)
    processes: MemoryProcesses = field(init=False)
    commands: MemoryCommands = field(init=False)

    def __post_init__(self) -> None:
        self.files = MemoryTree(POSIX, ("",))
        self.services, self.packages = MemoryServices(), MemoryPackages(self.files)
        self.processes, self.commands = MemoryProcesses(self.files), MemoryCommands(self.files)
        lines = ["root:x:0:0::/root:/bin/sh"]
        self.files.add("/home", folder=True)
        for number, account in enumerate(self.accounts, 1001):
            lines.append(f"{account}:x:{number}:{number}::/home/{account}:/bin/sh")
            self.files.add(f"/home/{account}", folder=True, uid=number)
            self.files.add(f"/home/{account}/Documents/notes.txt", f"{account}'s own", uid=number)
        self.files.add("/etc/passwd", "\n".join(lines) + "\n")
        for name in ("/root", "/usr/bin", "/usr/lib", "/var/lib", "/opt", "/tmp", "/var/log"):
            self.files.add(name, folder=True)

    def open(self) -> Workstation:
        """The workstation."""
        return Workstation(
            spec="memory:linux", name="potting-03", system="linux", style=POSIX, identity="memory linux", boot=self.boot, state=self.state,
            admin=True, bits=64, description="a workstation in memory", files=self.files, accounts=PasswdAccounts(self.files),
            variables=LinuxVariables(self.files), services=self.services, processes=self.processes, packages=self.packages,
            commands=self.commands, records=AccountRecords(self.files), scripts=self.commands, ground=Path("/nonexistent"),
            program_folders=program_folders(self.files),
        )  # fmt: skip
