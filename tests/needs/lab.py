"""Labs for the tests of needs, from short descriptions beside the procedures."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

from kleff.workstation.lab.build import LabBuilder

HERE = Path(__file__).parent
WINDOWS = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion"
ACCOUNTS = {"mira": "1001", "tomas": "1002"}
SID = "S-1-5-21-1004336348-1177238915-682003330-"
START = 1_760_000_000


def build(folder: Path, name: str) -> dict[str, Any]:
    """Make the lab of a need. Returns its description."""
    described = tomllib.loads((HERE / f"{name}.lab.toml").read_text("utf-8"))
    builder = LabBuilder(folder, START)
    windows(builder)
    for one in described.get("product", []):
        product(builder, one)
    for file in described.get("file", []):
        builder.file(file["path"], file.get("content", "x"))
    for key in described.get("key", []):
        builder.values(key["path"], key.get("values", {"of": name}))
    for program in described.get("program", []):
        builder.program(**program)
    for process in described.get("process", []):
        builder.process(**process)
    for package in described.get("package", []):
        builder.package(**package)
    for service in described.get("service", []):
        builder.values(rf"HKLM\SYSTEM\ControlSet001\Services\{service['name']}", {"ImagePath": service["program"], "Start": 2})
    builder.finish("POTTING-05", f"need {name}", described["about"], [s["name"] for s in described.get("service", [])])
    return described


def windows(builder: LabBuilder) -> None:
    """What every Windows has, two accounts, and a neighbour's product that must stay."""
    profiles = r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList"
    builder.values(
        profiles,
        {"Default": r"C:\Users\Default", "Public": r"C:\Users\Public", "ProfilesDirectory": r"C:\Users", "ProgramData": r"C:\ProgramData"},
    )
    for account, number in ACCOUNTS.items():
        builder.values(rf"{profiles}\{SID}{number}", {"ProfileImagePath": rf"C:\Users\{account}"})
        builder.file(rf"C:\Users\{account}\Documents\notes.txt", f"{account}'s own")
        builder.values(rf"HKU\{SID}{number}\Software\Stocktake", {"Window": "wide"})
    builder.values(r"HKLM\SYSTEM\Select", {"Current": 1})
    builder.values(r"HKLM\SYSTEM\ControlSet001\Control\Session Manager\Environment", {"Path": r"C:\Windows\system32;C:\Windows"})
    builder.values(WINDOWS, {"ProgramFilesDir": r"C:\Program Files", "ProgramFilesDir (x86)": r"C:\Program Files (x86)"})
    for path in (r"C:\Windows\System32\msiexec.exe", r"C:\Windows\explorer.exe", r"C:\Windows\System32\cmd.exe"):
        builder.file(path, "MZ")
    builder.file(r"C:\ProgramData\Stocktake\stock.db", "beds")
    product(builder, {"name": "Stocktake", "version": "8", "publisher": "Stocktake", "files": ["stocktake.exe"]})


def product(builder: LabBuilder, one: dict[str, Any]) -> None:
    """A registered product: its files in its folder, its entry, its uninstaller, which removes both unless it is told otherwise."""
    folder = one.get("folder", rf"C:\Program Files\{one['publisher']}\{one['name']}")
    for name in one.get("files", []):
        builder.file(rf"{folder}\{name}", f"{name} of {one['name']}")
    if one.get("hidden"):
        return
    code, key = one.get("product_code", ""), one.get("key", one.get("product_code") or one["name"])
    uninstall = rf"{WINDOWS}\Uninstall\{key}"
    if one.get("view") == 32:
        uninstall = uninstall.replace("SOFTWARE", r"SOFTWARE\WOW6432Node")
    values: dict[str, Any] = {
        "DisplayName": one.get("title", f"{one['publisher']} {one['name']}"), "DisplayVersion": one.get("version", ""),
        "Publisher": one["publisher"], "InstallLocation": folder, "EstimatedSize": one.get("size", 2048),
    }  # fmt: skip
    if code:
        values |= {"UninstallString": f"MsiExec.exe /I{code}", "WindowsInstaller": 1}
    elif "registered" in one:
        values["UninstallString"] = one["registered"]
    elif one.get("files") and one["publisher"] != "Stocktake":
        builder.file(rf"{folder}\un.exe", one.get("uninstaller", "MZ"))
        values |= {"UninstallString": rf'"{folder}\un.exe"', "QuietUninstallString": rf'"{folder}\un.exe" /quiet'}
    if one.get("loud"):
        values.pop("QuietUninstallString", None)
    builder.values(uninstall, values)
    behaviour = one.get("behaves")
    if behaviour is not None:
        which = {"product_code": code} if code else {"path": rf"{folder}\un.exe"}
        builder.program(**{**which, "deletes": [folder], "deletes_keys": [uninstall], **behaviour})
