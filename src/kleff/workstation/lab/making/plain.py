"""A plain workstation: what every Windows has, two accounts with documents of their own, and a neighbour's product that must stay."""

from __future__ import annotations

from pathlib import Path

from kleff.workstation.lab.build import LabBuilder
from kleff.workstation.lab.lab import Lab

START = 1_760_000_000
ACCOUNTS = {"mira": "1001", "tomas": "1002"}
SID = "S-1-5-21-1004336348-1177238915-682003330-"
CURRENT = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion"
NEIGHBOUR = r"C:\Program Files\Stocktake\Stocktake"


def build_plain(folder: Path, name: str = "POTTING-05") -> Lab:
    """Build and start it.

    Raises:
        Refused: something stands at `folder` already.
    """
    builder = LabBuilder(folder, START)
    put_windows(builder)
    return builder.finish(name, f"{name.lower()} plain", "a plain workstation", ["Spooler"])


def put_windows(builder: LabBuilder) -> None:
    """Put it together, without finishing it."""
    profiles = r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList"
    builder.values(
        profiles,
        {"Default": r"C:\Users\Default", "Public": r"C:\Users\Public", "ProfilesDirectory": r"C:\Users", "ProgramData": r"C:\ProgramData"},
    )
    builder.values(r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion", {"SystemRoot": r"C:\Windows", "CurrentBuild": "19045"})
    for account, number in ACCOUNTS.items():
        builder.values(rf"{profiles}\{SID}{number}", {"ProfileImagePath": rf"C:\Users\{account}"})
        builder.file(rf"C:\Users\{account}\Documents\notes.txt", f"{account}'s own")
        builder.values(rf"HKU\{SID}{number}\Software\Stocktake", {"Window": "wide"})
    builder.values(r"HKLM\SYSTEM\Select", {"Current": 1})
    builder.values(r"HKLM\SYSTEM\ControlSet001\Control\Session Manager\Environment", {"Path": r"C:\Windows\system32;C:\Windows"})
    builder.values(r"HKLM\SYSTEM\ControlSet001\Services\Spooler", {"ImagePath": r"C:\Windows\System32\spoolsv.exe", "Start": 2})
    builder.values(CURRENT, {"ProgramFilesDir": r"C:\Program Files", "ProgramFilesDir (x86)": r"C:\Program Files (x86)"})
    builder.values(CURRENT, {"CommonFilesDir": r"C:\Program Files\Common Files"})
    builder.values(
        CURRENT.replace("SOFTWARE", r"SOFTWARE\WOW6432Node"),
        {"ProgramFilesDir": r"C:\Program Files (x86)", "CommonFilesDir": r"C:\Program Files (x86)\Common Files"},
    )
    for path in (r"System32\msiexec.exe", "explorer.exe", r"System32\cmd.exe", r"System32\spoolsv.exe"):
        builder.file(rf"C:\Windows\{path}", "MZ")
    builder.file(r"C:\Windows\System32\drivers\etc\hosts", "127.0.0.1 localhost\r\n")
    builder.file(r"C:\ProgramData\Stocktake\stock.db", "beds")
    builder.file(rf"{NEIGHBOUR}\stocktake.exe", "stocktake.exe of Stocktake")
    builder.values(
        rf"{CURRENT}\Uninstall\Stocktake",
        {
            "DisplayName": "Stocktake Stocktake",
            "DisplayVersion": "8",
            "Publisher": "Stocktake",
            "InstallLocation": NEIGHBOUR,
            "EstimatedSize": 2048,
        },
    )
