"""Further labs: POTTING-03, a fresh workstation with other account names and profiles on another drive; and a reinstallation."""

from __future__ import annotations

import random
import shutil
import tempfile
from pathlib import Path

from kleff.procedure.globs import fold
from kleff.registry.registry import KeyRef
from kleff.workstation.lab.build import LabBuilder
from kleff.workstation.lab.demo_workstation import PROGRAM, SEED, SERVICE, SID, build_demo_workstation
from kleff.workstation.lab.lab import Lab
from kleff.workstation.lab.workstation import open_lab

NEW_PROGRAM = PROGRAM.replace("C:", "D:", 1)
NEW_PEOPLE = {"mira.k": 2101, "tomas": 2102}
NEW_SID = SID.replace("26044", "71930")


def build_replacement(folder: Path, seed: int = SEED) -> Lab:
    """Build and start POTTING-03: Tag Studio 4.3 on drive D:, nobody's data yet.

    Raises:
        Refused: something stands at `folder` already.
    """
    build = LabBuilder(folder, start=1_790_000_000)
    draw = random.Random(seed + 1)
    build.file(r"C:\Windows\System32\msiexec.exe", "MZ stand-in for msiexec.exe\n")
    build.key(r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion", SystemRoot=r"C:\Windows", CurrentBuild="22631")
    build.key(r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion", ProgramFilesDir=r"D:\Program Files", CommonFilesDir=r"D:\Common Files")
    node = r"HKLM\SOFTWARE\Wow6432Node\Microsoft\Windows\CurrentVersion"
    build.key(node, ProgramFilesDir=r"D:\Program Files (x86)", CommonFilesDir=r"D:\Common Files (x86)")
    profiles = r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList"
    build.key(profiles, ProgramData=r"%SystemDrive%\ProgramData", Public=r"D:\Users\Public", Default=r"D:\Users\Default")
    for name, number in NEW_PEOPLE.items():
        build.key(rf"{profiles}\{NEW_SID}-{number}", ProfileImagePath=rf"D:\Users\{name}", State=0)
        _person(build, name, f"{NEW_SID}-{number}")
    build.key(r"HKLM\SYSTEM\Select", Current=2, Default=2)
    path = r"%SystemRoot%\System32;%SystemRoot%;" + NEW_PROGRAM
    build.key(r"HKLM\SYSTEM\ControlSet002\Control\Session Manager\Environment", Path=path, OS="Windows_NT")
    for name in ("tagstudio.exe", r"bin\tagdb.exe", r"lib\tag00.dll", r"templates\Basil.tagtemplate"):
        build.file(rf"{NEW_PROGRAM}\{name}", b"4.3 of " + draw.randbytes(3_000))
    uninstall = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Tag Studio 4"
    build.key(
        uninstall, DisplayName="Brindlewort Tag Studio 4.3", DisplayVersion="4.3.0", Publisher="Brindlewort GmbH & Co",
        InstallLocation=NEW_PROGRAM, UninstallString=rf'"{NEW_PROGRAM}\uninstall.exe"',
    )  # fmt: skip
    build.program(path=rf"{NEW_PROGRAM}\bin\tagdb.exe", keeps=r"C:\ProgramData\Brindlewort\Tag Studio\labels.db")
    return build.finish("POTTING-03", f"potting-03-{seed}", "the workstation that replaces it", [])


def _person(build: LabBuilder, name: str, sid: str) -> None:
    build.file(rf"D:\Users\{name}\Documents\Welcome.txt", f"Welcome, {name}.\r\n")
    if name == "mira.k":
        build.file(rf"D:\Users\{name}\Documents\Tag Studio\Sage, bed 40.tagdesign", "begun anew\r\n")
    shell = rf"HKU\{sid}\Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders"
    build.values(
        shell,
        {
            "Desktop": r"%USERPROFILE%\Desktop", "Personal": r"%USERPROFILE%\Documents", "My Pictures": r"%USERPROFILE%\Pictures",
            "AppData": r"%USERPROFILE%\AppData\Roaming", "Local AppData": r"%USERPROFILE%\AppData\Local",
        },
    )  # fmt: skip


def reinstall(folder: Path, seed: int = SEED) -> int:
    """Put Tag Studio's program, service and keys on a lab of POTTING-02 as its setup would; returns how many files were written.

    What is there stays; nothing of anybody's data is written.
    """
    target = open_lab(folder)
    with tempfile.TemporaryDirectory(prefix="kleff-") as scratch:
        build_demo_workstation(Path(scratch) / "lab", seed)
        source = open_lab(Path(scratch) / "lab")
        count = 0
        top = source.files.path(PROGRAM)
        assert top is not None
        for path, look in source.files.walk(top):
            host = Path(target.files.host(path))
            if look.is_file and "mine" not in path.parts and not host.exists():
                host.parent.mkdir(parents=True, exist_ok=True)
                shutil.copy2(source.files.host(path), host)
                count += 1
        for key in (
            KeyRef("HKLM", r"SOFTWARE\Brindlewort\Tag Studio", 64),
            KeyRef("HKLM", r"SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Tag Studio 4", 64),
            KeyRef("HKLM", rf"SYSTEM\ControlSet001\Services\{SERVICE}"),
        ):
            assert source.registry is not None
            assert target.registry is not None
            tree = source.registry.tree(key)
            if tree is not None:
                target.registry.write_tree(key, tree)
        assert target.registry is not None
        target.registry.api.flush()
    _start_service(folder)
    return count


def _start_service(folder: Path) -> None:
    lab = Lab(folder)
    with lab.locked():
        state = lab.state()
        if fold(SERVICE) not in {fold(n) for n in state.running_services}:
            state.running_services.append(SERVICE)
        lab.save(state)
