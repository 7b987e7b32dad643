"""Putting a driver on a simulated workstation, as a Windows keeps them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

CLASS, PORTS = "{36fc9e60-c465-11cf-8056-444553540000}", "Ports"
INF = """; {provider}\r
[Version]\r
Signature="$WINDOWS NT$"\r
Class={class_}\r
ClassGuid={class_id}\r
Provider=%maker%\r
CatalogFile={name}.cat ; signed\r
DriverVer=03/14/2025,4.2.0.{number}\r
[Strings]\r
maker="{provider}"\r
"""
ENUM, CLASSES = r"HKLM\SYSTEM\ControlSet001\Enum", r"HKLM\SYSTEM\ControlSet001\Control\Class"


def add_driver(
    file: Callable[[str, bytes], Any], key: Callable[[str, dict[str, str]], Any], number: int, name: str, provider: str,
    title: str = "", model: str = "", utf16: bool = True,
) -> None:  # fmt: skip
    """A package of the store, with one device if it has a title.

    Args:
        file, key: put a file, or a key with texts, on the workstation.
    """
    text = INF.format(provider=provider, class_=PORTS, class_id=CLASS, name=name, number=number)
    data = text.encode("utf-16" if utf16 else "latin-1")
    folder = rf"C:\Windows\System32\DriverStore\FileRepository\{name}.inf_amd64_{number:016x}"
    contents = {
        rf"{folder}\{name}.inf": data, rf"{folder}\{name}.cat": b"signed " + name.encode(), rf"{folder}\x64\{name}.sys": b"MZ",
        rf"C:\Windows\INF\oem{number}.inf": data, rf"C:\Windows\INF\oem{number}.PNF": b"made of it",
        rf"C:\Windows\System32\drivers\{name}.sys": b"MZ",
    }  # fmt: skip
    for path, content in contents.items():
        file(path, content)
    if title:
        instance = rf"USB\{model or 'VID_04D8&PID_' + name.upper()}\5&1&{number}"
        key(rf"{ENUM}\{instance}", {"Driver": rf"{CLASS}\{number:04d}", "DeviceDesc": f"@oem{number}.inf,%x%;{title}", "Service": name})
        key(rf"{ENUM}\{instance}\Device Parameters", {"Rate": "9600"})
        key(rf"{CLASSES}\{CLASS}\{number:04d}", {"InfPath": f"oem{number}.inf", "DriverDesc": title, "ProviderName": provider})
